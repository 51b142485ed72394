"""The mean of a signal over a span."""

from pendel.core.measures.declare import STRETCHES_ALONE, Measure

MEASURE = Measure("mean", "mean", lambda span: span.pieces.mean(span.start, span.end), why_none=STRETCHES_ALONE)
