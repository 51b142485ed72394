"""The largest deviation after a load has come, over the target."""

from pendel.core.measures.declare import Measure, Place

MEASURE = Measure("dip", "dip at load", lambda span: span.dip.percent / 100 if span.dip else None, "%", Place.RESPONSE)
