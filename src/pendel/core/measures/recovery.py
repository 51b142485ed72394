"""Time from a load's coming until the deviation stays below 2 % of the target."""

from pendel.core.measures.declare import Measure, Place

MEASURE = Measure(
    "recovery",
    "recovers in",
    lambda span: span.dip.recovery if span.dip else None,
    "s",
    Place.RESPONSE,
    "The signal does not stay within 2 % of the target, or that is zero.",
)
