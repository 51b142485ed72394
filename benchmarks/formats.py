"""What number formats cost: lowering, a run with the shipped code inside over one as modelled, proposing formats, and
instructions a tick on emulated processors, beside a current controller written by hand."""

from __future__ import annotations

import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

import pendel
from pendel.core.check.formats import number_choices, sizes_seen
from pendel.core.controllers.numbers.lowering import lower
from pendel.core.drive.commands import set_seen
from pendel.core.drive.document import Drive
from pendel.core.firmware.findings import findings_of
from pendel.core.firmware.processors import (
    COMPILER,
    PROCESSORS,
    STEPS,
    Processor,
    emulate,
    missing_tools,
    on_processor,
)
from pendel.core.firmware.propose import propose_formats
from pendel.core.firmware.ranges import sizes_in
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.kept import KeptRun

HERE = Path(__file__).parent
TIMES = 7
Row = Callable[[str, str, str], None]
WANTED = {
    ("car_door_drive", "float32", "m4f"): 88,
    ("car_door_drive", "float32", "m3"): 1013,
    ("car_door_drive", "float32", "m0"): 1914,
    ("car_door_drive", "fixed16", "m4f"): 104,
    ("car_door_drive", "fixed16", "m3"): 103,
    ("car_door_drive", "fixed16", "m0"): 258,
    ("car_door_drive", "fixed32", "m4f"): 230,
    ("car_door_drive", "fixed32", "m3"): 230,
    ("car_door_drive", "fixed32", "m0"): 968,
    ("haul_drive", "float32", "m4f"): 1224,
    ("haul_drive", "float32", "m3"): 20693,
    ("haul_drive", "float32", "m0"): 43117,
    ("haul_drive", "fixed32", "m4f"): 6156,
    ("haul_drive", "fixed32", "m3"): 6191,
    ("haul_drive", "fixed32", "m0"): 20286,
}
"""Instructions a tick, mean, of an earlier attempt at the same."""


def with_ranges(name: str, number: str, until: str = "") -> tuple[Drive, KeptRun]:
    drive = pendel.open_example(name).document
    drive.settings["controller"], drive.settings["number_format"] = "as modelled", "float32"
    if until:
        drive.settings["until"] = until
    run = run_drive(prepare(drive))
    set_seen(drive, sizes_in(prepare(drive).deck, run)).apply(drive)
    drive.settings["number_format"] = number
    return drive, run


def lowering(name: str) -> float:
    """Seconds for the C's tree, ranges and findings."""
    drive, _ = with_ranges(name, "fixed16")
    prepared = prepare(drive)
    choices, seen = number_choices(drive, prepared.examined), sizes_seen(drive)
    found = []
    for _ in range(TIMES):
        begun = time.perf_counter()
        findings_of(drive, lower(prepared.deck, choices, seen))
        found.append(time.perf_counter() - begun)
    return statistics.median(found)


def shipped_over_modelled(name: str, number: str, until: str) -> float:
    """Time of a run with the shipped code over one as modelled, each from the checked drive to all that it shows,
    with the controller lowered before; paired."""
    drive, _ = with_ranges(name, number, until)
    twins = [drive.copy(), drive.copy()]
    twins[1].settings["controller"] = "as shipped"
    for twin in twins:
        run_drive(prepare(twin))
    ratios = []
    for _ in range(TIMES):
        taken = []
        for twin in twins:
            begun = time.process_time()
            run_drive(prepare(twin))
            taken.append(time.process_time() - begun)
        ratios.append(taken[1] / taken[0])
    return statistics.median(ratios)


def by_hand(processor: Processor, inputs: np.ndarray) -> float:
    """Instructions of a tick of the controller written by hand, mean."""
    rows = ", ".join(f"{int(a)}, {int(b)}" for a, b in inputs)
    main = f"""#include <stdint.h>
typedef struct {{ int16_t out; int32_t integral; }} hand_t;
void hand_update(hand_t *b, int16_t setpoint, int16_t actual);
void pd_clock(void); uint32_t pd_now(void);
void pd_write(const char *name, uint32_t letters, const void *data, uint32_t bytes);
static const int16_t in[] = {{{rows}}};
static uint32_t counts[{len(inputs)}];
int main(void)
{{
    static hand_t b;
    uint32_t k;
    pd_clock();
    for (k = 0; k < {len(inputs)}u; k++) {{
        const uint32_t from = pd_now();
        hand_update(&b, in[2u * k], in[(2u * k) + 1u]);
        counts[k] = (from - pd_now()) & 0xFFFFFFu;
    }}
    pd_write("counts.bin", 10u, counts, (uint32_t)sizeof(counts));
    return 0;
}}
"""
    board = Path(pendel.__file__).parent / "core" / "firmware" / "board"
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        (folder / "main.c").write_text(main)
        sources = [HERE / "current_by_hand.c", folder / "main.c", board / "board.c"]
        command = [COMPILER, *processor.flags, "-std=c99", "-O2", *map(str, sources), "-nostartfiles"]
        command += ["-T", str(board / "board.ld"), "-o", str(folder / "replay.elf"), "--specs=nosys.specs"]
        subprocess.run(command, check=True, capture_output=True)
        emulate(processor, folder)
        return float(np.fromfile(folder / "counts.bin", dtype="<u4").mean()) / STEPS


def report(row: Row) -> None:
    for name in ("car_door_drive", "haul_drive"):
        row(f"Lowering and findings of {name}", f"{1e3 * lowering(name):.0f} ms", "≤ 300 ms")
    for name, until in (("car_door_drive", "12 s"), ("haul_drive", "2 s")):
        ratio = shipped_over_modelled(name, "fixed16", until)
        row(f"Run with the shipped 16-bit code over one as modelled, {name}", f"{ratio:.2f} ×", "≤ 1.5 ×")
    drive, _ = with_ranges("haul_drive", "float32")
    begun = time.perf_counter()
    found = propose_formats(drive)
    row("Formats of the haul drive", f"{time.perf_counter() - begun:.1f} s, {100 * found.error:.2g} %", "≤ 20 s, 0.2 %")
    if missing_tools():
        row("Instructions a tick", "no emulated processors here", "")
        return
    for name in ("car_door_drive", "haul_drive"):
        for number in ("float32", "fixed16", "fixed32"):
            drive, run = with_ranges(name, number)
            made = prepare(drive).lowered
            for processor in PROCESSORS:
                ran = on_processor(made, run, processor)
                wanted = WANTED.get((name, number, processor.id))
                row(
                    f"{name} in {number} on {processor.title}, instructions a tick",
                    f"{ran.mean:.0f} ({ran.largest}){', not the same bits' if ran.unlike else ''}",
                    f"≤ {1.15 * wanted:.0f}" if wanted else "",
                )
                if name == "car_door_drive" and number == "fixed16":
                    hand = by_hand(processor, np.random.default_rng(1).integers(-12000, 12000, (2000, 2)))
                    row("its current PI against one by hand", f"{ran.by_block['current_pi'] / hand:.2f} ×", "≤ 1.5 ×")


if __name__ == "__main__":
    report(lambda *cells: print(*cells, sep=" | "))
