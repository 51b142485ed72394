"""What is loaded onto a simulated board: the shipped C, and the slave through which it is watched and changed.

The slave is a unit of its own, so that no name of a drive can meet one of its names. An empty board runs it alone,
which is enough to load it."""

from __future__ import annotations

import zlib
from functools import lru_cache
from importlib import resources

from pendel.core.controllers.numbers.live_source import start, take_name, values_type
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.source import header, shipped_in_simulation, source
from pendel.core.plant.compiler import UNIT

PROTOCOL = ("pd_xcp.h", "pd_link.h", "pd_board.h", "pd_xcp.c", "pd_link.c", "pd_board.c")
QUEUE, RECORD = 1 << 16, 1 << 20
"""Bytes of samples that wait to be sent, and of a record at full rate."""


@lru_cache(maxsize=1)
def protocol() -> dict[str, str]:
    """The files of the slave by name."""
    folder = resources.files("pendel.core.firmware") / "protocol"
    return {name: (folder / name).read_text("utf-8") for name in PROTOCOL}


@lru_cache(maxsize=2)
def protocol_text(ending: str) -> str:
    """Its headers or its sources as one text."""
    whole = "\n".join(text for name, text in protocol().items() if name.endswith(ending))
    for name in PROTOCOL:
        whole = whole.replace(f'#include "{name}"\n', "")
    return whole


def keyed() -> str:
    """What tells who may load a board."""
    return (resources.files("pendel.core.firmware") / "board" / "keyed.c").read_text("utf-8")


def checksum_of(lowered: Lowered) -> int:
    """By which a controller's code is known again, 32 bits. What its live values start from does not count, as they
    can be written."""
    text = f"{header(lowered)}\0{source(lowered)}"
    for block in lowered.blocks:
        if block.tree.live:
            text = text.replace(start(lowered, block), "")
    return zlib.crc32(text.encode())


def image_text(lowered: Lowered | None, tick: float = 1e-3) -> str:
    """The text of a board's program; with no controller that of an empty board.

    Raises
    ------
    SensorReadsController
    """
    board = keyed() + (resources.files("pendel.core.firmware") / "board" / "simulated.c").read_text("utf-8")
    if lowered is None:
        sizes = {"MEASURED": 0, "SIGNALS": 0, "COMMANDS": 0, "CHECKSUM": 0, "TICK_NS": round(tick * 1e9)}
        return in_units(f"{constants(sizes)}\n", f"{NOTHING}\n{board}")
    deck = lowered.deck
    sizes = {
        "MEASURED": len(deck.measured),
        "SIGNALS": len(deck.signals),
        "COMMANDS": len(deck.commands),
        "CHECKSUM": checksum_of(lowered),
        "TICK_NS": round(deck.tick * 1e9),
    }
    own = shipped_in_simulation(lowered, "pd_sim", can_rest=True)
    return in_units(f"{constants(sizes)}\n{own}\n", f"{resting(lowered)}\n{board}")


def in_units(before: str, behind: str) -> str:
    headers = protocol_text(".h")
    return f"{before}{headers}{behind}\n{UNIT}{headers}{protocol_text('.c')}"


def constants(sizes: dict[str, int]) -> str:
    sizes = {**sizes, "QUEUE": QUEUE, "RECORD": RECORD}
    return "".join(f"#define PD_IMAGE_{name} {size}u\n" for name, size in sizes.items())


def resting(lowered: Lowered) -> str:
    """What sets a controller back to its start, and what converts its live values."""
    name, keep, give, convert = lowered.name, "", "", ""
    for block in lowered.blocks:
        if block.tree.live:
            own, member = lowered.value_structs[block.name], lowered.members[block.name]
            keep += f"    const {values_type(lowered, block)} {own} = c->{member}.values;\n"
            give += f"    {take_name(lowered, block)}(&c->{member}, &{own});\n"
            convert = f"    {name}_convert(({name}_t *)own);\n"
    convert = convert or "    (void)own;\n"
    return (
        f"static void pd_image_rest(void *own)\n{{\n    {name}_t *c = ({name}_t *)own;\n{keep}"
        f"    {name}_init(c);\n{give}}}\n\n"
        f"static void pd_image_convert(void *own)\n{{\n{convert}}}\n"
    )


NOTHING = """typedef struct {
    int32_t own;
    int32_t runs;
} pd_both_t;

static int pd_sim_own_size(void) { return 0; }
static void pd_sim_init(pd_both_t *c, double *v) { c->own = 0; c->runs = 0; (void)v; }
static void pd_sim_bind(pd_both_t *c, double *v) { (void)c; (void)v; }
static void pd_sim_tick(pd_both_t *c, const double *in, double *signals, double *out)
{
    (void)c; (void)in; (void)signals; (void)out;
}
static void pd_sim_states(const pd_both_t *c, double *z) { (void)c; (void)z; }
static void pd_image_rest(void *own) { (void)own; }
static void pd_image_convert(void *own) { (void)own; }
"""
"""In place of a controller, on an empty board."""
