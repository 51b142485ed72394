"""The root of the mean square of a signal over a span."""

from pendel.core.measures.declare import STRETCHES_ALONE, Measure

MEASURE = Measure("rms", "rms", lambda span: span.pieces.rms(span.start, span.end), why_none=STRETCHES_ALONE)
