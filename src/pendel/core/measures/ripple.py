"""Peak to peak of a signal within a span."""

from pendel.core.measures.declare import Measure

MEASURE = Measure("ripple", "ripple p-p", lambda span: span.pieces.ripple(span.start, span.end))
