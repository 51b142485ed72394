"""The largest current of the machine within a span, in any of its phases."""

import math

import numpy as np

from pendel.core.measures.declare import Measure, Place, Span
from pendel.core.runs.measures import window


def peak(span: Span) -> float:
    span.run.fetch(span.currents)
    traces = (span.run.trace(key) for key in span.currents)
    windows = (window(trace.t, trace.y, span.start, span.end)[1] for trace in traces)
    return max((float(np.max(np.abs(y))) for y in windows if len(y)), default=math.nan)


MEASURE = Measure("peak_current", "peak current", peak, "A", Place.RESPONSE)
