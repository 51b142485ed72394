"""The largest current of the machine within a span, in any of its phases."""

import numpy as np

from pendel.core.measures.declare import Measure, Place, Span


def peak(span: Span) -> float | None:
    if not span.currents:
        return None
    span.run.fetch(span.currents)
    extremes = [span.run.extremes(key, span.start, span.end) for key in span.currents]
    return float(np.max(np.abs(extremes)))


MEASURE = Measure("peak_current", "peak current", peak, "A", Place.RESPONSE)
