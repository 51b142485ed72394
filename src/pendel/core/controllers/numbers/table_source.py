"""The data table beside the shipped C: where each signal, memory and live value is in the controller's struct.

Blocks are numbered by their keys, of which pinned ones never change, and items by their place in what the block
declares, so that a script's numbers hold when values or choices do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from pendel.core.controllers.c_names import comment
from pendel.core.controllers.numbers.lowering import Lowered, LoweredBlock
from pendel.core.controllers.numbers.representation import FLOAT, Rep

STATES, VALUES = 101, 201
"""First numbers of what is remembered and of live values; signals begin at 1."""


@dataclass(frozen=True)
class Place:
    """One number of a controller: the keys by which it is found, its name, its member in the struct, and how it
    is held."""

    block: int
    item: int
    name: str
    member: str
    rep: Rep


def places_of(lowered: Lowered) -> tuple[Place, ...]:
    """All of a controller, by block and item."""
    places = [p for block in lowered.blocks for p in _of_block(lowered, block)]
    return tuple(sorted(places, key=lambda p: (p.block, p.item)))


def _of_block(lowered: Lowered, block: LoweredBlock) -> Iterator[Place]:
    key, own = lowered.keys[block.name], lowered.members[block.name]
    instance = block.tree.instance

    def place(item: int, name: str, member: str, rep: Rep) -> Place:
        return Place(key, item, f"{block.name}.{name}", f"{own}.{member}", rep)

    for k, port in enumerate(instance.outputs):
        yield place(1 + k, port, block.places[port].removeprefix("b->"), block.reps[port])
    for k, state in enumerate(instance.states):
        if state in block.tree.states:
            yield place(STATES + k, state, block.places[state].removeprefix("b->"), block.reps[state])
    for k, value in enumerate(instance.used_values):
        if value in block.numbers.values:
            yield place(VALUES + k, value, f"values.{block.numbers.values[value]}", FLOAT[block.value_bits])


def table_declaration(lowered: Lowered) -> str:
    """What the header says of the table."""
    return (
        f"/* Where a number is in the struct, by key of its block and item ({lowered.name}_table.c); 0 where "
        f"there is\n"
        " * none. */\n"
        f"int32_t {lowered.name}_find(uint32_t block, uint32_t item, pd_place_t *place);\n\n"
    )


def kind_of_rep(rep: Rep) -> str:
    return "PD_FLOAT" if rep.floating else "PD_TURN" if rep.angle else "PD_WORD"


def table(lowered: Lowered, licence: str) -> str:
    """The file of the table."""
    name, places = lowered.name, places_of(lowered)
    rows = "".join(
        f"    "
        f"{{{p.block}u, {p.item}u, (uint32_t)offsetof({name}_t, {p.member}), {kind_of_rep(p.rep)}, {p.rep.bits}, "
        f"{p.rep.fraction}}},  {comment(p.name)}\n"
        for p in places
    )
    head = f'/* {name}_table.c: where the numbers of the controller are.\n * {licence}\n */\n#include "{name}.h"\n'
    find = f"int32_t {name}_find(uint32_t block, uint32_t item, pd_place_t *place)\n{{\n"
    if not places:
        return f"{head}\n{find}    (void)block;\n    (void)item;\n    (void)place;\n    return 0;\n}}\n"
    return (
        f"{head}#include <stddef.h>\n\n"
        f"static const pd_place_t {name}_places[{len(places)}] = {{\n{rows}}};\n\n{find}    uint32_t k;\n"
        f"    for (k = 0u; k < {len(places)}u; k++) {{\n"
        f"        if (({name}_places[k].block == block) && ({name}_places[k].item == item)) {{\n"
        f"            *place = {name}_places[k];\n            return 1;\n        "
        f"}}\n    }}\n    return 0;\n}}\n"
    )
