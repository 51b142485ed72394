"""Time until a response stays within 2 % of the step about its target."""

from pendel.core.measures.declare import Measure, Place

MEASURE = Measure(
    "settling",
    "settles 2 %",
    lambda span: span.step.settling,
    "s",
    Place.RESPONSE,
    "No step between the cursors that is followed, or the signal does not stay within 2 % of it: it is still on "
    "its way, or ripples beyond.",
)
