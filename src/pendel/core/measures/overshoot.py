"""How far a response goes beyond its target, over the step."""

from pendel.core.measures.declare import Measure, Place

MEASURE = Measure("overshoot", "overshoot", lambda span: span.step.overshoot / 100, "%", Place.RESPONSE)
