"""Energy that the machine's windings turn into heat within a span."""

from pendel.core.measures.declare import Measure, Place, Span


def heat(span: Span) -> float | None:
    if span.heat is None:
        return None
    pieces = span.run.pieces(span.heat)
    return pieces.integral(*pieces.within(span.start, span.end))


MEASURE = Measure("copper_heat", "copper heat", heat, "J", Place.RESPONSE)
