"""The root of the mean square of a signal over a span."""

import math

from pendel.core.measures.declare import STRETCHES_ALONE, Measure, Span


def from_zero(span: Span, rms: float, moved: float) -> float:
    """Of the signal and what is added to it: the mean square of a sum."""
    return math.sqrt(max(0.0, rms**2 + 2 * moved * span.pieces.mean(span.start, span.end) + moved**2))


MEASURE = Measure(
    "rms",
    "rms",
    lambda span: span.pieces.rms(span.start, span.end),
    from_zero=from_zero,
    why_none=STRETCHES_ALONE,
)
