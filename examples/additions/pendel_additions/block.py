"""The median of three signals, which drops a single outlier."""

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block


def update(a, b, c, out, dt):
    out = a + b + c - maximum(a, maximum(b, c)) - minimum(a, minimum(b, c))


KIND = Block(
    id="median",
    title="Median",
    sentence="The middle one of three signals.",
    group="arithmetic",
    keywords="outlier vote",
    ports=(reads("a", "First"), reads("b", "Second"), reads("c", "Third"), gives()),
    values=(EVERY,),
    update=update,
    mark="med",
)
