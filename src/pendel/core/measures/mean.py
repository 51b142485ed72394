"""The mean of a signal over a span."""

from pendel.core.measures.declare import STRETCHES_ALONE, Measure

MEASURE = Measure(
    "mean",
    "mean",
    lambda span: span.pieces.mean(span.start, span.end),
    from_zero=lambda _, mean, moved: mean + moved,
    why_none=STRETCHES_ALONE,
)
