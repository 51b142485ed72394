"""Filters and free transfer functions: PT2, lead-lag, notch, functions in s and z, state space, moving mean
and rms, table.

All linear ones run as one difference equation in transposed direct form II. Those given in s are sampled by
Tustin's rule (notch and lead-lag meet their frequency exactly) or, where they lag a held signal, by its exact
equivalent: Franklin, Powell, Workman: Digital Control of Dynamic Systems, 3rd ed., sections 6.1 and 4.3."""

from __future__ import annotations

import math

import numpy as np

from pendel.core.catalogue.control.ports import EVERY, LONGEST, gives, reads
from pendel.core.catalogue.declare import ANY, Block, Choice, Contradiction, Rows, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole

HIGHEST_ORDER = 4
"""Order of a free transfer function or state space."""


def update_second_order(x, out, b0, b1, b2, a1, a2, s1, s2, dt):
    """In increments (z = 1 + δ): coefficients and memory stay exact where the filter is slow beside the
    tick."""
    out = b0 * x + s1
    s1 = s1 + (b1 * x - a1 * out + s2)
    s2 = s2 + (b2 * x - a2 * out)


def update_free(x, out, b0, b1, b2, b3, b4, a1, a2, a3, a4, s1, s2, s3, s4, dt):
    """In increments (z = 1 + δ): coefficients and memory stay exact where the filter is slow beside the
    tick."""
    out = b0 * x + s1
    s1 = s1 + (b1 * x - a1 * out + s2)
    s2 = s2 + (b2 * x - a2 * out + s3)
    s3 = s3 + (b3 * x - a3 * out + s4)
    s4 = s4 + (b4 * x - a4 * out)


def update_moving(x, out, line, ticks, square, total, filled, dt):
    """Until the window is full, over what there is."""
    y = x * x if square > 0.5 else x
    old = recalled(line, ticks)
    remember(line, y)
    filled = minimum(filled + 1.0, ticks)
    total = total + y
    total = total - old
    value = total / filled
    out = sqrt(maximum(value, 0.0)) if square > 0.5 else value


def update_table(x, out, table, dt):
    out = interpolated(table, x)


def update_hysteresis(x, out, on_at, off_at, state, dt):
    if x >= on_at:
        state = 1.0
    elif x <= off_at:
        state = 0.0
    out = state


def update_logic(a, b, out, none, first, second, both, dt):
    """An input counts as 1 above one half; the law is a polynomial of both: ``none`` without either, and what
    each adds."""
    p = 1.0 if a > 0.5 else 0.0
    q = 1.0 if b > 0.5 else 0.0
    out = none + first * p + second * q + both * p * q


def update_latch(set, reset, out, state, dt):
    """Reset wins."""
    if set > 0.5:
        state = 1.0
    if reset > 0.5:
        state = 0.0
    out = state


def update_dead_band(x, out, width, dt):
    out = 0.0
    if x > width:
        out = x - width
    elif x < -width:
        out = x + width


def in_increments(polynomial) -> np.ndarray:
    """Coefficients of p(1 + δ) by falling powers of δ, from those of p(z): Horner's scheme by one, again and
    again."""
    shifted = np.array(polynomial, dtype=np.longdouble)
    for end in range(len(shifted), 1, -1):
        shifted[:end] = np.cumsum(shifted[:end])
    return shifted.astype(float)


def named(b, a, order: int) -> dict[str, float]:
    """Coefficients by name for an update of this order; ``b`` and ``a`` by falling powers of δ = z − 1.

    In powers of z a filter that is slow beside its tick is the small difference of large numbers; in those of
    δ it is not. Middleton, Goodwin: Digital Control and Estimation, chapter 3 (from memory).
    """
    b, a = np.atleast_1d(np.squeeze(b)) / a[0], np.asarray(a) / a[0]
    b = np.concatenate([np.zeros(len(a) - len(b)), b])
    padded = [np.concatenate([p, np.zeros(order + 1 - len(p))]) for p in (b, a)]
    return {f"b{k}": float(padded[0][k]) for k in range(order + 1)} | {
        f"a{k}": float(padded[1][k]) for k in range(1, order + 1)
    }


def sampled(b, a, order: int) -> dict[str, float]:
    """As `named`, from falling powers of z, as SciPy has them."""
    b, a = np.atleast_1d(np.squeeze(b)), np.asarray(a)
    b = np.concatenate([np.zeros(len(a) - len(b)), b])
    return named(in_increments(b), in_increments(a), order)


def by_tustin(b, a, period: float, meets: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """Tustin's rule, s = 2·rate·δ/(2 + δ), in falling powers of δ; with ``meets`` (rad/s) that frequency
    keeps its response."""
    rate = 1.0 / period
    if meets > 0 and meets * period < math.pi:
        rate = meets / (2.0 * math.tan(meets * period / 2.0))
    degree = max(len(b), len(a)) - 1

    def turned(polynomial) -> np.ndarray:
        total = np.zeros(degree + 1)
        for power, coefficient in enumerate(list(polynomial)[::-1]):
            part = np.polynomial.polynomial.polypow([2.0, 1.0], degree - power)
            total[power:] += coefficient * (2.0 * rate) ** power * part
        return total[::-1]

    return turned(b), turned(a)


def derive_pt2(v: Values, card: Card, period: float):
    """The exact equivalent for a held input, one sample early, as a block answers within its tick: b·z² +
    (K·a₂ − b)·z over the poles exp(p·T), with b the answer after one period to a step."""
    w, damping = 2 * math.pi * v["f_0"], v["D"]
    root = np.sqrt(complex(damping * damping - 1.0))
    if abs(root) < EQUAL_POLES:
        root = complex(EQUAL_POLES)
    p, q = w * (root - damping), w * (-root - damping)
    at_p, at_q = np.expm1(p * period), np.expm1(q * period)
    a1, a2 = -(at_p + at_q).real, (at_p * at_q).real
    first = v["K"] * ((p * at_q - q * at_p) / (q - p)).real
    return named([first, first + v["K"] * a2, v["K"] * a2], [1.0, a1, a2], 2)


EQUAL_POLES = 1e-5
"""Distance of two poles, over the natural frequency, that stands for none."""


def derive_lead_lag(v: Values, card: Card, period: float):
    meets = 1.0 / math.sqrt(v["T_1"] * v["T_2"])
    return named(*by_tustin([v["K"] * v["T_1"], v["K"]], [v["T_2"], 1.0], period, meets), 2)


def derive_notch(v: Values, card: Card, period: float):
    w = 2 * math.pi * v["f_0"]
    depth = v["depth"]
    num, den = [1.0, depth * w * v["width"], w * w], [1.0, w * v["width"], w * w]
    return named(*by_tustin(num, den, period, w), 2)


def polynomials(v: Values, card: Card) -> tuple[list[float], list[float]]:
    """Numerator and denominator by falling powers from the rows, which rise; the highest powers of zero are
    left out."""
    n = len(card.rows)
    num, den = ([v[f"{name}_{k}"] for k in range(n)][::-1] for name in ("num", "den"))
    while len(den) > 1 and den[0] == 0:
        den.pop(0)
    while len(num) > 1 and num[0] == 0:
        num.pop(0)
    return num or [0.0], den or [1.0]


def derive_in_s(v: Values, card: Card, period: float):
    num, den = polynomials(v, card)
    return named(*by_tustin(num, den, period), HIGHEST_ORDER)


def derive_in_z(v: Values, card: Card, period: float):
    return sampled(*polynomials(v, card), HIGHEST_ORDER)


def improper(v: Values, card: Card) -> list[Contradiction]:
    num, den = polynomials(v, card)
    if not card.rows:
        return [Contradiction("The function has no coefficients. Add a row for each power, from 0 up.", "rows")]
    if len(card.rows) > HIGHEST_ORDER + 1:
        return [
            Contradiction(
                f"The function is of order {len(card.rows) - 1}; at most {HIGHEST_ORDER} is possible. Put "
                "two in a row.",
                "rows",
            )
        ]
    if all(c == 0 for c in den):
        return [Contradiction("All coefficients of the denominator are zero. Enter at least one.", "rows")]
    if len(num) > len(den):
        return [
            Contradiction(
                f"The numerator has order {len(num) - 1}, the denominator {len(den) - 1}: it would need "
                "the future. Add a higher power below.",
                "rows",
            )
        ]
    return []


def derive_states(v: Values, card: Card, period: float):
    """The transfer function of x' = A·x + b·u, y = c·x + d·u, sampled as the card says."""
    import scipy.signal

    n = len(card.rows)
    a = np.array([[v[f"a_{j + 1}_{k}"] for j in range(n)] for k in range(n)])
    b, c = np.array([[v[f"b_{k}"]] for k in range(n)]), np.array([[v[f"c_{k}"] for k in range(n)]])
    d = np.array([[v["d"]]])
    if card.choices.get("given") != "sampled":
        a, b, c, d, _ = scipy.signal.cont2discrete((a, b, c, d), period, method="bilinear")
    num, den = scipy.signal.ss2tf(a, b, c, d)
    return sampled(num[0], den, HIGHEST_ORDER)


def too_many_states(v: Values, card: Card) -> list[Contradiction]:
    if not 1 <= len(card.rows) <= HIGHEST_ORDER:
        return [
            Contradiction(
                f"There are {len(card.rows)} states; 1 to {HIGHEST_ORDER} are possible. Add or remove rows.",
                "rows",
            )
        ]
    return []


def window_ticks(v: Values, card: Card, period: float):
    return {
        "ticks": max(1.0, round(v["T"] / period)),
        **dict(zip(("plain", "square"), (0.0, 1.0) if card.choices.get("what") == "rms" else (1.0, 0.0))),
    }


OF_ALL = "plain * ticks * x + plain * x + square * ticks * x * x + square * x * x"
"""The sum of as many inputs, or of their squares, as the window holds, and of the one that is about to leave it."""


def window_told(v: Values, card: Card):
    return (card.choices.get("what", "mean"), f"over {v['T']}")


LOGIC = {
    "and": (0, 0, 0, 1),
    "or": (0, 1, 1, -1),
    "either": (0, 1, 1, -2),
    "not": (1, -1, 0, 0),
    "not both": (1, 0, 0, -1),
    "neither": (1, -1, -1, 1),
}
LOGIC_WORDS = {
    "and": "a and b",
    "or": "a or b",
    "either": "either a or b",
    "not": "not a",
    "not both": "not both",
    "neither": "neither a nor b",
}


def logic_weights(v: Values, card: Card, period: float):
    return dict(zip(("none", "first", "second", "both"), map(float, LOGIC[card.choices.get("law", "and")])))


def points(v: Values, card: Card) -> list[tuple[float, float]]:
    return [(v[f"x_{k}"], v[f"y_{k}"]) for k in range(len(card.rows))]


def unsorted_points(v: Values, card: Card) -> list[Contradiction]:
    rows = points(v, card)
    if len(rows) < 2:
        return [Contradiction("The table has fewer than two points. Add rows.", "rows")]
    bad = next((k for k in range(1, len(rows)) if rows[k][0] <= rows[k - 1][0]), None)
    if bad is not None:
        return [
            Contradiction(
                f"Row {bad + 1} of the table stands at x = {rows[bad][0]:g}, not beyond "
                f"{rows[bad - 1][0]:g} of the row before. Sort the rows.",
                "rows",
            )
        ]
    return []


SHAPED = (reads("x", "Input"), gives())


def block(id, title, sentence, keywords, values, update, *, group="dynamics", ports=SHAPED, **more):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group=group,
        keywords=keywords,
        ports=ports,
        values=(*values, EVERY),
        update=update,
        **more,
    )


COLUMNS = (Value("num", "Numerator", "", "1"), Value("den", "Denominator", "", "1"))
IN_S = Rows("Coefficients", COLUMNS, ("0", "0"), (("1", "1"), ("0", "0.01")))
IN_Z = Rows("Coefficients", COLUMNS, ("0", "0"), (("0.1", "-0.9"), ("0", "1")))
STATES = Rows(
    "States",
    (
        *(Value(f"a_{k + 1}", f"a{k + 1}", "", "0") for k in range(HIGHEST_ORDER)),
        Value("b", "b", "", "1"),
        Value("c", "c", "", "1"),
    ),
    ("-1", "0", "0", "0", "1", "1"),
    (("-100", "0", "0", "0", "100", "1"),),
)
BINARY = (reads("a", "First", unit=""), reads("b", "Second", unit="", required=False), gives(unit=""))
KINDS = (
    block(
        "pt2",
        "PT2",
        "Second-order lag.",
        "lag filter low-pass oscillator damping",
        (
            Value("K", "Gain", ANY, "1", role=ValueRole.GAIN),
            Value("f_0", "Natural frequency", "Hz", "50", low=0.0, open_low=True),
            Value("D", "Damping", "", "0.7", low=0.0, open_low=True),
        ),
        update_second_order,
        gain=("K", "x"),
        derive=derive_pt2,
        summary=lambda v, card: (v["f_0"], f"D {v['D']}"),
        shape=((0, 0), (0.15, 0.4), (0.3, 1), (0.45, 0.85), (0.6, 0.75), (0.8, 0.8), (1, 0.8)),
    ),
    block(
        "lead_lag",
        "Lead-lag",
        "K·(1 + T₁s)/(1 + T₂s).",
        "lead lag phase compensator",
        (
            Value("K", "Gain", ANY, "1", role=ValueRole.GAIN),
            Value("T_1", "Lead time", "ms", "5", low=0.0, open_low=True),
            Value("T_2", "Lag time", "ms", "1", low=0.0, open_low=True),
        ),
        update_second_order,
        gain=("K", "x"),
        derive=derive_lead_lag,
        summary=lambda v, card: (v["T_1"], v["T_2"]),
        shape=((0, 0), (0, 1), (0.25, 0.6), (0.6, 0.42), (1, 0.4)),
    ),
    block(
        "notch",
        "Notch",
        "Takes a narrow band out of a signal.",
        "band stop filter resonance",
        (
            Value("f_0", "Frequency", "Hz", "120", low=0.0, open_low=True),
            Value("width", "Relative width", "", "0.5", low=0.0, open_low=True),
            Value("depth", "What is left", "%", "5", low=0.0, high=1.0),
        ),
        update_second_order,
        derive=derive_notch,
        summary=lambda v, card: (v["f_0"],),
        shape=((0, 1), (0.35, 1), (0.5, 0), (0.65, 1), (1, 1)),
    ),
    block(
        "function_s",
        "Transfer function in s",
        "A free function of s, by its coefficients from s⁰ up; sampled by Tustin's rule.",
        "continuous laplace polynomial",
        (),
        update_free,
        passes_unit=False,
        derive=derive_in_s,
        rows=IN_S,
        contradictions=improper,
        summary=lambda v, card: (f"order {len(card.rows) - 1}",),
        mark="F(s)",
    ),
    block(
        "function_z",
        "Transfer function in z",
        "A free function of z, by its coefficients from z⁰ up.",
        "discrete polynomial digital filter",
        (),
        update_free,
        passes_unit=False,
        derive=derive_in_z,
        rows=IN_Z,
        contradictions=improper,
        summary=lambda v, card: (f"order {len(card.rows) - 1}",),
        mark="F(z)",
    ),
    block(
        "state_space",
        "State space",
        "One input, one output, up to four states; a row holds a state's row of A and its b and c.",
        "matrix linear system abcd",
        (Value("d", "Straight through", "", "0"),),
        update_free,
        passes_unit=False,
        derive=derive_states,
        rows=STATES,
        contradictions=too_many_states,
        choices=(
            Choice(
                "given",
                "Given",
                (("continuous", "in continuous time"), ("sampled", "for this block's period")),
            ),
        ),
        summary=lambda v, card: (f"{len(card.rows)} states",),
        mark="A B",
    ),
    block(
        "moving",
        "Moving mean",
        "Mean or rms over the last stretch of time.",
        "average rms root mean square window smoothing",
        (Value("T", "Window", "ms", "20", low=0.0, open_low=True),),
        update_moving,
        smooth={"filled": float(LONGEST)},  # a window that is full
        bounds={"total": OF_ALL, "value": "plain * x + square * x * x", "out": "x"},
        derive=window_ticks,
        choices=(Choice("what", "Gives", (("mean", "the mean"), ("rms", "the rms"))),),
        summary=window_told,
        mark="⌀",
    ),
    block(
        "curve",
        "Table",
        "A curve by points, straight between them and level beyond.",
        "lookup characteristic interpolation curve",
        (),
        update_table,
        group="arithmetic",
        passes_unit=False,
        rows=Rows(
            "Points",
            (Value("x", "x", ANY, "0", at="x"), Value("y", "y", ANY, "0")),
            ("1", "1"),
            (("0", "0"), ("1", "1")),
        ),
        contradictions=unsorted_points,
        tables=points,
        summary=lambda v, card: (f"{len(card.rows)} points",),
        shape=((0, 0), (0.3, 0.5), (0.6, 0.65), (1, 1)),
    ),
    block(
        "dead_band",
        "Dead band",
        "Leaves out what is small.",
        "dead zone threshold",
        (Value("width", "Half its width", ANY, "0.1", low=0.0),),
        update_dead_band,
        group="arithmetic",
        summary=lambda v, card: (v["width"],),
        shape=((0, 0), (0.35, 0.5), (0.65, 0.5), (1, 1)),
    ),
    block(
        "hysteresis",
        "Hysteresis",
        "On from one level, off from another.",
        "comparator schmitt threshold two-point",
        (Value("on_at", "On from", ANY, "0.5", at="x"), Value("off_at", "Off from", ANY, "0", at="x")),
        update_hysteresis,
        group="logic",
        ports=(reads("x", "Input"), gives(unit="")),
        contradictions=lambda v, card: (
            [Contradiction("It goes off above where it comes on. Correct one of the two.", "off_at")]
            if v["off_at"] > v["on_at"]
            else []
        ),
        summary=lambda v, card: (f"{v['off_at']} … {v['on_at']}",),
        shape=((0, 0), (0.7, 0), (0.7, 1), (1, 1), (0.3, 1), (0.3, 0)),
    ),
    block(
        "logic",
        "Logic",
        "And, or, not and their like of signals above one half.",
        "and or not xor nand nor gate boolean",
        (),
        update_logic,
        group="logic",
        ports=BINARY,
        derive=logic_weights,
        choices=(Choice("law", "Gives", tuple(LOGIC_WORDS.items())),),
        summary=lambda v, card: (LOGIC_WORDS[card.choices.get("law", "and")],),
        mark="&",
    ),
    block(
        "latch",
        "Latch",
        "Remembers that it was set until it is reset.",
        "flip-flop memory set reset",
        (),
        update_latch,
        group="logic",
        ports=(reads("set", "Set", unit=""), reads("reset", "Reset", unit=""), gives(unit="")),
        mark="S R",
    ),
)
