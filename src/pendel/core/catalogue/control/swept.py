"""What adds a sine to a signal of a running drive. It is no kind: no card has it."""


def update_swept(x, out, added, amplitude, turn, theta, dt):
    added = amplitude * sin(theta)
    out = x + added
    theta = wrapped(theta + turn)


__all__ = ["update_swept"]
