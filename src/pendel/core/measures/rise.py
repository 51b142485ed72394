"""Time from 10 to 90 % of a step; Åström, Murray: Feedback Systems, 2nd ed., section 6.3."""

from pendel.core.measures.declare import Measure, Place

MEASURE = Measure("rise", "rise", lambda span: span.step.rise, "s", Place.RESPONSE)
