"""Ground: potential zero."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Part, Port
from pendel.core.catalogue.electrical import symbols
from pendel.core.equations.context import PartContext
from pendel.core.vocabulary import Conduction


def build(c: PartContext) -> None:
    c.equation(c.line("line").across)


KIND = Part(
    id="ground",
    title="Ground",
    sentence="Ties a line, or the minus line of a DC pair, to potential zero.",
    group="supply",
    keywords="earth reference zero",
    ports=(Port("line", Link.LINE, "Line", "top"),),
    build=build,
    symbol=symbols.GROUND,
    conduction=Conduction(earths=("line", 0)),
)
