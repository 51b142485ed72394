"""Texts that people and other programs could put into a field, from nearly right to hostile."""

from __future__ import annotations

from random import Random

PIECES = (
    *"0123456789", ".", "e", "E", "+", "-", "*", "/", "^", "(", ")", ",", "=", "·", "−", "×", "²", "³", "%", "°",
    "°C", " ", " ", "\u2009", "\u202f", "\n", "\t",
    "V", "A", "ohm", "Ω", "kg", "m^2", "rad/s", "rpm", "1/min", "Hz", "W^x", "N*m", "mm", "µs", "h", "bit", "K_p",
    "R_a", "pi", "der", "sqrt", "sin", "min", "max", "abs", "exp", "log",
    "sqrt(", "min(1,", "der(x)", "1.5 000.5", "1 000", "10^400", "1e308", "1e-308", "1e999", "nan", "inf", "-inf",
    "0/0", "2^-1", "0^-1", "(-1)^0.5", "x", "_", "__import__", "lambda",
    "W^W", "m^9", "m^-9", "V^99", "(2 V)^1e300", "\x00", "\x0c", "\ud800", "\u200b", "\u202e", "é", "名", "٣", "Ⅷ",
    "½", "𝟙", "'", '"', "\\", "#", "{", "}", "[", "]", ";", ":", "<", ">", "&", "|", "!", "?", "@", "$", "~", "`",
)  # fmt: skip
GROUPS, PARTS = (
    ("0", "1", "12", "234", "5000", "²", "½", "٣", "1e3"),
    (",", ".", ",", ".", " ", "\u2009", "'", "", "-", "/"),
)
"""Of numbers as they are written here and there."""
WHOLE = (
    "", " ", "1", "-1", "0", "48 V", "1.9e-4 kg*m^2", "2*R_a", "1500 rpm", "0.8 1/V",
    "1" * 400, "9" * 1999, "(" * 70 + "1" + ")" * 70, "+".join("1" * 990), "-" * 1999, "*".join(["2"] * 999),
    "1^" * 500 + "1", "sqrt(" * 200, "1e" + "9" * 100, "<b>x</b>", "../../etc/passwd", "%s%n", "*/ int x; /*",
    "=1+1", "a" * 2000, "a" * 5000, "V", "V/V", "1 V/V/V/V/V", "m^2^3", "1 m^2^3",
)  # fmt: skip


def text(rng: Random, longest: int = 24) -> str:
    """A text made of pieces, or one whole, or one with a letter changed."""
    way = rng.random()
    if way < 0.08:
        return rng.choice(WHOLE)
    if way < 0.16:
        return mutated(rng, rng.choice(WHOLE))
    if way < 0.3:
        return "".join(rng.choice(GROUPS) + rng.choice(PARTS) for _ in range(rng.randrange(1, 4))) + rng.choice(GROUPS)
    return "".join(rng.choice(PIECES) for _ in range(rng.randrange(1, longest)))


def mutated(rng: Random, old: str) -> str:
    if not old:
        return rng.choice(PIECES)
    at = rng.randrange(len(old))
    return old[:at] + rng.choice(PIECES) + old[at + rng.randrange(3) :]


ODD_NUMBERS = (
    "0", "-0", "1", "-1", "1e-300", "-1e-300", "1e300", "-1e300", "1e-9", "1e9", "5e-324", "1.7976931348623157e308",
    "0.5", "-0.5", "2", "3",
    "1e15", "255", "256", "1e6",
)  # fmt: skip


def number(rng: Random) -> str:
    """A plain number, odd ones among them."""
    return rng.choice(
        (
            *ODD_NUMBERS,
            f"{rng.uniform(-10, 10):.6g}",
            f"{10 ** rng.uniform(-12, 12):.6g}",
            f"{-(10 ** rng.uniform(-12, 12)):.6g}",
        )
    )
