"""Peak to peak of a signal within a span."""

from pendel.core.measures.declare import STRETCHES_ALONE, Measure

MEASURE = Measure(
    "ripple", "ripple p-p", lambda span: span.pieces.ripple(span.start, span.end), why_none=STRETCHES_ALONE
)
