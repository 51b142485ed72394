"""Compare, gain, sum, product, quotient, absolute value, minimum, maximum, selector and limiter."""

from pendel.core.catalogue.control.ports import EVERY, LIMITS, gives, limits_cross, reads
from pendel.core.catalogue.control.shapes import STEP
from pendel.core.catalogue.declare import ANY, Block, Value
from pendel.core.controllers.deck import Regulation
from pendel.core.vocabulary import ValueRole


def update_compare(setpoint, actual, out, dt):
    out = setpoint - actual


def update_gain(x, out, K, dt):
    out = K * x


def update_sum(a, b, c, out, dt):
    out = a + b + c


def update_product(a, b, out, dt):
    out = a * b


def update_quotient(a, b, out, b_min, low, high, dt):
    """A divisor nearer to zero than the smallest counts as that, with its sign."""
    under = maximum(b, b_min) if b >= 0.0 else minimum(b, -b_min)
    out = saturate(a / under, low, high)


def update_absolute(x, out, dt):
    out = absolute(x)


def update_minimum(a, b, out, dt):
    out = minimum(a, b)


def update_maximum(a, b, out, dt):
    out = maximum(a, b)


def update_selector(first, second, choose, out, threshold, dt):
    out = second if choose > threshold else first


def update_limiter(x, out, low, high, dt):
    out = saturate(x, low, high)


def block(id, title, sentence, keywords, ports, update, values=(), **more):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="arithmetic",
        keywords=keywords,
        ports=(*ports, gives()),
        values=(*values, EVERY),
        update=update,
        **more,
    )


GAIN = "gain"
KINDS = (
    block(
        "compare",
        "Compare",
        "Setpoint minus actual value.",
        "difference subtract error",
        (reads("setpoint", "Setpoint"), reads("actual", "Actual value")),
        update_compare,
        alike=(("setpoint", "actual"),),
        compares=Regulation(),
        mark="+ −",
    ),
    block(
        GAIN,
        "Gain",
        "Multiplies by a constant.",
        "factor scale proportional",
        (reads("x", "Input"),),
        update_gain,
        (Value("K", "Gain", ANY, "1", role=ValueRole.GAIN),),
        gain=("K", "x"),
        passes_unit=False,
        summary=lambda v, card: (v["K"],),
        shape=STEP,
    ),
    block(
        "sum",
        "Sum",
        "Adds up to three signals.",
        "add plus",
        (reads("a", "First"), reads("b", "Second"), reads("c", "Third", required=False)),
        update_sum,
        alike=(("a", "b"),),
        mark="Σ",
    ),
    block(
        "product",
        "Product",
        "Multiplies two signals.",
        "multiply times",
        (reads("a", "First"), reads("b", "Second")),
        update_product,
        passes_unit=False,
        mark="×",
    ),
    block(
        "quotient",
        "Quotient",
        "Divides one signal by another, between limits.",
        "divide division ratio over",
        (reads("a", "Dividend"), reads("b", "Divisor")),
        update_quotient,
        (Value("b_min", "Smallest divisor", ANY, "1e-3", low=0.0, open_low=True, at="b"), *LIMITS),
        contradictions=limits_cross,
        passes_unit=False,
        mark="÷",
    ),
    block(
        "absolute_value",
        "Absolute value",
        "The size of a signal, without its sign.",
        "abs magnitude rectify",
        (reads("x", "Input"),),
        update_absolute,
        shape=((0, 1), (0.5, 0), (1, 1)),
    ),
    block(
        "smaller_of_two",
        "Minimum",
        "The smaller of two signals.",
        "min least lower",
        (reads("a", "First"), reads("b", "Second")),
        update_minimum,
        alike=(("a", "b"),),
        mark="min",
    ),
    block(
        "larger_of_two",
        "Maximum",
        "The larger of two signals.",
        "max most higher",
        (reads("a", "First"), reads("b", "Second")),
        update_maximum,
        alike=(("a", "b"),),
        mark="max",
    ),
    block(
        "selector",
        "Selector",
        "Passes the second signal while the choosing signal is above the threshold, else the first.",
        "switch choose if",
        (reads("first", "First"), reads("second", "Second"), reads("choose", "Choose", side="top")),
        update_selector,
        (Value("threshold", "Threshold", ANY, "0.5", at="choose"),),
        alike=(("first", "second"),),
        mark="⇄",
    ),
    block(
        "limiter",
        "Limiter",
        "Keeps a signal between two limits.",
        "saturation clamp limit",
        (reads("x", "Input"),),
        update_limiter,
        LIMITS,
        contradictions=limits_cross,
        summary=lambda v, card: (f"{v['low']} … {v['high']}",),
        shape=((0, 0.1), (0.3, 0.1), (0.7, 0.9), (1, 0.9)),
    ),
)
