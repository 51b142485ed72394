"""The crest factor: the largest size of a signal over its rms."""

import numpy as np

from pendel.core.measures import Measure, Span


def crest(span: Span) -> float:
    rms = span.pieces.rms(span.start, span.end)
    return float(np.max(np.abs(span.values[1]))) / rms if rms else float("nan")


MEASURE = Measure("crest", "crest factor", crest, unit="")
