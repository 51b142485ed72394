"""Random trains of inertias on elastic shafts with dry friction against small implicit steps, in which friction takes
away what speed it can and holds what is left (Moreau's time stepping: no events, no modes, nothing of ours)."""

import numpy as np
import pytest

import pendel

END, STEP = 0.12, 2e-6


def a_train(rng):
    """Inertias (kg·m²), shafts (N·m/rad, N·m·s), viscous and dry friction of each bearing (N·m·s, N·m)."""
    count = int(rng.integers(2, 6))
    J = 10 ** rng.uniform(-3, -1.5, count)
    k = np.minimum(J[1:], J[:-1]) * (2 * np.pi * rng.uniform(8, 60, count - 1)) ** 2
    d = 2 * rng.uniform(0.0, 0.1, count - 1) * np.sqrt(k * J[1:])
    pull = float(np.sum(J) * rng.uniform(30, 300))  # N·m
    dry = np.where(rng.random(count) < 0.7, pull * rng.uniform(0.02, 0.9, count), 0.0)
    return J, k, d, pull * rng.uniform(0, 1e-3, count), dry, pull


def corners(rng, least, most):
    times = np.unique(np.round([0.0, *rng.uniform(0, END, 5)], 5))
    return times, np.round(rng.uniform(least, most, len(times)), 4)


def as_drive(J, k, d, viscous, dry, driven, rubbing):
    drive = pendel.Drive("Train")
    for n in range(len(J)):
        drive.add("inertia", f"J {n}", J=repr(float(J[n])))
        before = f"j_{n}.a"
        if dry[n] or viscous[n]:
            level = repr(float(dry[n]))
            drive.add("friction", f"F {n}", M_c=level, M_s=level, b=repr(float(viscous[n])))
            drive.connect(f"f_{n}.b", f"j_{n}.a")
            before = f"f_{n}.a"
        if n:
            drive.add("elastic_shaft", f"S {n}", k=repr(float(k[n - 1])), d=repr(float(d[n - 1])), play="0")
            drive.connect(f"j_{n - 1}.b", f"s_{n}.a")
            drive.connect(f"s_{n}.b", before)
        else:
            drive.add("imposed_torque", "Pull", profile=[(repr(float(t)), repr(float(y))) for t, y in zip(*driven)])
            drive.connect("pull.a", before)
    drive.add("load_torque", "Rub", profile=[(repr(float(t)), repr(float(y))) for t, y in zip(*rubbing)])
    drive.connect("rub.a", f"j_{len(J) - 1}.b")
    return drive


def stepped(J, k, d, viscous, dry, driven, rubbing):
    """Speeds (rad/s) and angles (rad) after each thousandth part, shape (parts, 2, inertias)."""
    speed, angle, rows = np.zeros(len(J)), np.zeros(len(J)), []
    steps = round(END / STEP)
    times = STEP * np.arange(1, steps + 1)
    pulls, rubs = np.interp(times, *driven), np.interp(times, *rubbing)
    level = dry.copy()
    every = steps // 120
    for n in range(steps):
        shaft = k * (angle[:-1] - angle[1:]) + d * (speed[:-1] - speed[1:])
        torque = -viscous * speed
        torque[:-1] -= shaft
        torque[1:] += shaft
        torque[0] += pulls[n]
        level[-1] = dry[-1] + rubs[n]
        free = speed + STEP * torque / J
        speed = np.sign(free) * np.maximum(np.abs(free) - STEP * level / J, 0.0)
        angle = angle + STEP * speed
        if (n + 1) % every == 0:
            rows.append((speed, angle))
    return np.array(rows)


@pytest.mark.parametrize("seed", range(5))
def test_a_train_with_dry_friction_sticks_and_slides_as_small_implicit_steps_do(seed):
    rng = np.random.default_rng(seed)
    J, k, d, viscous, dry, pull = a_train(rng)
    driven, rubbing = corners(rng, -pull, pull), corners(rng, 0.0, 0.6 * pull)
    run = as_drive(J, k, d, viscous, dry, driven, rubbing).run(END)
    wanted = stepped(J, k, d, viscous, dry, driven, rubbing)
    times = np.linspace(0, END, 121)[1:]
    for n in range(len(J)):
        for place, signal in enumerate(("speed", "angle")):
            got = run.at(f"j_{n}.{signal}", times)
            size = np.max(np.abs(wanted[:, place]))
            np.testing.assert_allclose(got, wanted[:, place, n], atol=4e-3 * size + 1e-9, err_msg=f"j_{n}.{signal}")
