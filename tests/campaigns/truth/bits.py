"""The same bits from every build: blocks alone and whole decks under random inputs, with their values as constants and
live, by each compiler there is, optimised and not, and on emulated processors."""

from __future__ import annotations

import ctypes
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from importlib import resources
from pathlib import Path

import numpy as np

import pendel
from pendel.core.check.formats import number_choices
from pendel.core.controllers.deck import ControlDeck, delays_in
from pendel.core.controllers.numbers.intervals import Interval
from pendel.core.controllers.numbers.lowering import Choices, Lowered, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import shipped_alone
from pendel.core.errors import PendelError
from pendel.core.firmware.processors import COMPILER, PROCESSORS, Processor, emulate, missing_tools
from pendel.core.firmware.ship import EXACT
from pendel.core.plant.compiler import compiler, other_compiler, run_compiler
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.blocks import deck_of, shapes, sizes_while
from tests.campaigns.truth.report import Tally

TICKS, EMULATED = 1_000_000, 10_000
HASHED = """
#include <string.h>
/* Random inputs from whole numbers (xorshift64, Marsaglia 2003), and a hash over the bits of all signals (FNV-1a). */
uint64_t pd_hash(void *c, uint32_t ticks, uint32_t inputs, const double *middle, const double *reach, uint32_t signals)
{{
    static double in[{inputs}], given[{signals}], none[1];
    uint64_t random = UINT64_C(88172645463325252), hash = UINT64_C(1469598103934665603), bits;
    uint32_t k, j;
    for (k = 0u; k < ticks; k++) {{
        for (j = 0u; j < inputs; j++) {{
            random ^= random << 13;
            random ^= random >> 7;
            random ^= random << 17;
            in[j] = middle[j] + reach[j] * ((double)(random >> 11) * 2.220446049250313e-16 - 1.0);
        }}
        pd_ctl_tick(c, in, given, none);
        for (j = 0u; j < signals; j++) {{
            memcpy(&bits, &given[j], 8u);
            hash = (hash ^ bits) * UINT64_C(1099511628211);
        }}
    }}
    return hash;
}}
"""
ON_BOARD = """
void pd_write(const char *name, uint32_t letters, const void *data, uint32_t bytes);
static const double pd_middle[{inputs}] = {{{middle}}}, pd_reach[{inputs}] = {{{reach}}};
int main(void)
{{
    static {name}_t c;
    static uint64_t hash;
    pd_ctl_init(&c, 0);
    hash = pd_hash(&c, {ticks}u, {count}u, pd_middle, pd_reach, {signals}u);
    pd_write("counts.bin", 10u, &hash, 8u);
    return 0;
}}
"""


def hashed_text(made: Lowered) -> str:
    """The shipped C with what feeds it."""
    signals = sum(len(b.tree.outputs) for b in made.blocks)
    return shipped_alone(made) + HASHED.format(inputs=max(1, len(made.inputs)), signals=max(1, signals))


def on_host(made: Lowered, shape: np.ndarray, command: tuple[str, ...], optimisation: str, ticks: int) -> int:
    """The hash by one build; ``shape`` holds the middle and the reach of each input."""
    with tempfile.TemporaryDirectory() as work:
        source, target = Path(work) / "bits.c", Path(work) / "bits.so"
        source.write_text(hashed_text(made))
        run_compiler([*command, *EXACT, optimisation, str(source), "-o", str(target), "-lm"])
        library = ctypes.CDLL(str(target))
    memory = ctypes.create_string_buffer(library.pd_ctl_size() + 16)
    library.pd_hash.restype = ctypes.c_uint64
    at = ctypes.c_void_p(ctypes.addressof(memory))
    library.pd_ctl_init(at, None)
    middle, reach = (np.ascontiguousarray(column) for column in shape.T)
    signals = sum(len(b.tree.outputs) for b in made.blocks)
    places = [column.ctypes.data_as(ctypes.c_void_p) for column in (middle, reach)]
    return int(library.pd_hash(at, ctypes.c_uint32(ticks), len(made.inputs), *places, signals))


def on_board(made: Lowered, shape: np.ndarray, processor: Processor, ticks: int) -> int:
    """The hash on an emulated processor."""
    count, signals = len(made.inputs), sum(len(b.tree.outputs) for b in made.blocks)
    middle, reach = (
        ", ".join(float(x).hex() for x in column) for column in (shape if len(shape) else np.zeros((1, 2))).T
    )
    main = ON_BOARD.format(
        inputs=max(1, count), count=count, signals=signals, middle=middle, reach=reach, name=made.name, ticks=ticks
    )
    board = resources.files("pendel.core.firmware") / "board"
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        (folder / "bits.c").write_text(hashed_text(made) + main)
        for name in ("board.c", "board.ld"):
            (folder / name).write_text((board / name).read_text("utf-8"))
        files = [str(folder / n) for n in ("bits.c", "board.c")]
        flags = [*processor.flags, "-std=c99", "-O2", "-ffp-contract=off", "-nostartfiles", "--specs=nosys.specs"]
        script = ["-T", str(folder / "board.ld"), "-o", str(folder / "replay.elf"), "-lm"]
        run_compiler([COMPILER, *flags, *files, *script])
        emulate(processor, folder)
        return int(np.fromfile(folder / "counts.bin", dtype="<u8")[0])


def live_of(made: Lowered) -> dict[str, Interval]:
    """All values that can be live, between half and twice of what they are."""
    found = {}
    for block in made.blocks:
        instance = block.tree.instance
        for name in instance.used_values:
            now = instance.values[name]
            if now and name not in delays_in(instance.code):
                found[f"{block.name}.{name}"] = Interval(*sorted((0.5 * now, 2.0 * now)))
    return found


def everywhere(made: Lowered, shape: np.ndarray, where: str, tally: Tally, ticks: int, emulated: int) -> None:
    """One controller by all builds."""
    compilers = [c for c in (compiler(), other_compiler()) if c]
    builds = {f"{Path(c[0]).name} {o}": (c, o) for c in compilers for o in ("-O0", "-O2")}
    found = {name: on_host(made, shape, c, o, ticks) for name, (c, o) in builds.items()}
    first = next(iter(found.values()))
    unlike = [name for name, each in found.items() if each != first]
    if not missing_tools() and emulated:
        host = on_host(made, shape, compiler(), "-O2", emulated)
        unlike += [p.title for p in PROCESSORS if on_board(made, shape, p, emulated) != host]
    tally.note(2.0 if unlike else 0.0, f"{where}: {', '.join(unlike)} give other bits" if unlike else where)


def variants(deck: ControlDeck, choices: Choices, seen: dict[str, float]) -> Iterator[tuple[str, Lowered]]:
    """A deck in every format, with values as constants and live as far as they can be."""
    for number in NumberFormat:
        own = replace(choices, default=number, blocks={})
        try:
            made = lower(deck, own, seen)
        except PendelError:
            continue  # float alone; `truth.blocks` looks at that
        yield number.value, made
        live = live_of(made)
        for name in list(live):  # one that cannot be is left a constant
            try:
                lower(deck, replace(own, live={name: live[name]}), seen)
            except PendelError:
                del live[name]
        try:
            yield f"{number.value} live", lower(deck, replace(own, live=live), seen)
        except PendelError:
            continue  # together they lead to no range


def of_block(kind: str, seed: int, tally: Tally, ticks: int = TICKS, emulated: int = EMULATED) -> None:
    """A block alone, of random values."""
    deck = deck_of(kind, seed, 1e-3)
    plain = lower(deck, Choices(NumberFormat.FLOAT64))
    mean, _, size, *_ = shapes(kind, deck, seed, drift=False).T[:, : len(plain.inputs)]
    sizes = dict(zip((i.signal for i in plain.inputs), np.abs(mean) + size))
    random = np.random.default_rng(seed).uniform(-1.0, 1.0, (4000, max(1, len(plain.inputs))))
    fed = mean + size * random[:, : len(plain.inputs)] if plain.inputs else random
    seen = sizes_while(deck, fed) | sizes
    middles = dict(zip((i.signal for i in plain.inputs), zip(mean, size)))
    for name, made in variants(deck, Choices(), seen):
        shape = np.array([middles.get(i.signal, (0.0, 1.0)) for i in made.inputs]).reshape(-1, 2)
        everywhere(made, shape, f"bits_{kind}_{seed} {name}", tally, ticks, emulated)


def of_example(example: str, tally: Tally, ticks: int = TICKS, emulated: int = EMULATED) -> None:
    """A whole deck, fed at random with what its inputs come to in its run."""
    d = pendel.open_example(example)
    d.set("controller", "as modelled")
    d.find_ranges()
    prepared = prepare(d.document)
    seen = {f"{k}.{n}": x for k, card in d.document.cards.items() for n, x in card.seen.items()}
    for name, made in variants(prepared.deck, number_choices(d.document, prepared.examined), seen):
        shape = np.array([(0.0, seen.get(i.signal, 1.0)) for i in made.inputs]).reshape(-1, 2)
        everywhere(made, shape, f"bits_{example} {name}", tally, ticks, emulated)


def examples() -> list[str]:
    """Examples whose controller is shipped."""
    folder = Path(pendel.__file__).parent / "examples"
    return sorted(p.stem for p in folder.glob("*.pendel"))


__all__ = ["EMULATED", "TICKS", "examples", "of_block", "of_example"]
