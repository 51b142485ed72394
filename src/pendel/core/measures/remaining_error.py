"""What a response lacks of its target in the end, over the step."""

import math

from pendel.core.measures.declare import Measure, Place, Span


def remaining(span: Span) -> float:
    size = span.target - span.begins
    return span.step.remaining / size if size else math.nan


MEASURE = Measure("remaining_error", "remaining error", remaining, "%", Place.RESPONSE)
