"""The shipped controller on small processors, emulated: the same bits, and how many instructions a tick takes.

The emulator counts: each instruction takes 1024 ns of its time, and the processor's own tick counter runs at
25 MHz, so 25.6 of its steps are one instruction."""

from __future__ import annotations

import math
import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

import numpy as np

from pendel.core.controllers.deck import Part
from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.source import call_name, files, shipped_alone, source
from pendel.core.errors import BuildProblem, PendelError
from pendel.core.firmware.ship import inputs_of, replay, signals_of
from pendel.core.plant.compiler import run_compiler
from pendel.core.plant.runtime import load
from pendel.core.runs.record.kept import KeptRun

COMPILER, EMULATOR = "arm-none-eabi-gcc", "qemu-system-arm"
PACKAGES = "gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm"
STEPS = 25.6
"""Of the tick counter in an instruction."""
LONGEST, PATIENCE = 10_000, 120.0
"""Ticks that are replayed at most, and seconds they may take."""
ROOM = 3_000_000
"""Bytes of the boards' 4 MB of code, and of their 4 MB of data, that inputs and results may fill."""


@dataclass(frozen=True)
class Processor:
    id: str
    title: str
    flags: tuple[str, ...]
    board: str


PROCESSORS = (
    Processor(
        "m4f",
        "Cortex-M4F",
        ("-mcpu=cortex-m4", "-mthumb", "-mfpu=fpv4-sp-d16", "-mfloat-abi=hard"),
        "mps2-an386",
    ),
    Processor("m3", "Cortex-M3", ("-mcpu=cortex-m3", "-mthumb"), "mps2-an385"),
    Processor("m0", "Cortex-M0+", ("-mcpu=cortex-m0plus", "-mthumb"), "mps2-an385"),
)


class NoProcessor(PendelError):
    """Processors cannot be emulated here."""

    def __init__(self, missing: tuple[str, ...]):
        super().__init__(missing)
        self.missing = missing

    def __str__(self) -> str:
        return (
            f"Processors cannot be emulated here, as {' and '.join(self.missing)} "
            f"{'is' if len(self.missing) == 1 else 'are'} not installed. On Debian: sudo apt install "
            f"{PACKAGES}"
        )


class UnknownProcessor(PendelError):
    def __init__(self, name: str):
        super().__init__(name)
        self.name = name

    def __str__(self) -> str:
        known = ", ".join(p.id for p in PROCESSORS)
        return f"There is no processor “{self.name}” to emulate. Choose one of {known}."


@dataclass(frozen=True)
class OnProcessor:
    """How a controller did on a processor: instructions a tick, bytes of flash and of the controller's data,
    and where it first differs from the host by a bit. ``load`` is the part of a period at ``clock`` (Hz) that
    its longest tick takes, at one instruction a cycle."""

    processor: str
    ticks: int
    mean: float
    largest: int
    by_block: dict[str, float]
    flash: int
    data: int
    unlike: str = ""
    load: float = math.nan
    """The part of a period that its longest tick takes at the clock that was given."""

    def load_at(self, clock: float, period: float) -> float:
        return self.largest / period / clock  # a product could be 0


def missing_tools() -> tuple[str, ...]:
    return tuple(tool for tool in (COMPILER, EMULATOR) if shutil.which(tool) is None)


def processor_of(name: str) -> Processor:
    """Raises `UnknownProcessor`, and `NoProcessor` where none can be emulated."""
    processor = next((p for p in PROCESSORS if p.id == name), None)
    if processor is None:
        raise UnknownProcessor(name)
    if missing := missing_tools():
        raise NoProcessor(missing)
    return processor


def on_processor(
    lowered: Lowered, run: KeptRun, processor: Processor, ticks: int = LONGEST, *, clock: float = math.nan
) -> OnProcessor:
    """Feed a controller on a processor with what its inputs were in a run, and compare it with the host.
    ``clock`` (Hz) is that of the processor. At most ``ticks`` are replayed, and as many as fit its memory.

    Raises
    ------
    BuildProblem, NoProcessor
    """
    inputs, signals = inputs_of(lowered, run), signals_of(lowered)
    a_tick = max(8 * inputs.shape[1], 8 * len(signals) + 4 * (1 + len(lowered.blocks)))
    inputs = inputs[: min(ticks, ROOM // a_tick)]
    expected, data = replay(load(shipped_alone(lowered)), inputs, len(signals))
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        flash = build_for(lowered, inputs, signals, processor, folder)
        emulate(processor, folder)
        given = np.fromfile(folder / "signals.bin", dtype="<f8").reshape(len(inputs), len(signals))
        counts = np.fromfile(folder / "counts.bin", dtype="<u4").reshape(len(inputs), 1 + len(lowered.blocks))
    instructions = counts / STEPS
    unlike = ""
    other = given.view(np.int64) != expected.view(np.int64)
    if np.any(other):
        tick, k = np.argwhere(other)[0]
        unlike = f"{signals[k]} at tick {tick} is {given[tick, k]:.9g}, not {expected[tick, k]:.9g}"
    means = instructions.mean(axis=0)
    return OnProcessor(
        processor.title,
        len(inputs),
        float(means[0]),
        round(float(instructions[:, 0].max())),
        {b.name: float(m) for b, m in zip(lowered.blocks, means[1:])},
        flash,
        data,
        unlike,
        float(instructions[:, 0].max()) / lowered.deck.tick / clock,
    )


def build_for(lowered: Lowered, inputs: np.ndarray, signals: list[str], processor: Processor, folder: Path) -> int:
    """Build a program that replays inputs; returns the bytes of code and constants of the controller
    alone."""
    if missing := missing_tools():
        raise NoProcessor(missing)
    board = resources.files("pendel.core.firmware") / "board"
    texts = {
        **files(lowered).texts,
        "board.c": (board / "board.c").read_text("utf-8"),
        "board.ld": (board / "board.ld").read_text("utf-8"),
        "timed.c": timed(lowered),
        "replay.c": replay_main(lowered, inputs, signals),
    }
    for name, text in texts.items():
        (folder / name).write_text(text, "utf-8")
    common = [COMPILER, *processor.flags, "-std=c99", "-O2", "-ffp-contract=off", "-ffunction-sections"]
    run_compiler([*common, "-c", str(folder / "timed.c"), "-o", str(folder / "timed.o"), f"-I{folder}"])
    run_compiler(
        [
            *common,
            *(str(folder / n) for n in ("timed.o", "pd_numbers.c", "replay.c", "board.c")),
            f"-I{folder}",
            "-nostartfiles",
            "-Wl,--gc-sections",
            "-T",
            str(folder / "board.ld"),
            "-o",
            str(folder / "replay.elf"),
            "-lm",
            "--specs=nosys.specs",
        ]
    )
    alone = folder / "alone.o"
    run_compiler([*common, "-c", str(folder / f"{lowered.name}.c"), "-o", str(alone), f"-I{folder}"])
    return text_bytes(alone)


def text_bytes(target: Path) -> int:
    """Code and constants of an object file."""
    listed = subprocess.run(
        ["arm-none-eabi-size", str(target)], capture_output=True, text=True, timeout=20, check=False
    )
    lines = listed.stdout.splitlines()
    return int(lines[1].split()[0]) if len(lines) > 1 else 0


def timed(lowered: Lowered) -> str:
    """The source as shipped, with the calls of blocks timed."""
    text = source(lowered)  # each call on a line of its own
    head, mark, body = text.partition(f"void {lowered.name}_tick(")
    for k, block in enumerate(lowered.blocks):
        for part in Part:
            call = f"{call_name(lowered, block, part)}("
            lines = []
            for line in body.split("\n"):
                if line.strip().startswith(call):
                    pad = line[: len(line) - len(line.lstrip())]
                    line = f"{pad}pd_from = pd_now(); {line.strip()} pd_spent[{k}] += (pd_from - pd_now()) & 0xFFFFFFu;"
                lines.append(line)
            body = "\n".join(lines)
    count = max(1, len(lowered.blocks))
    own = f"uint32_t pd_now(void);\nextern uint32_t pd_spent[{count}];\n"
    own += f"uint32_t pd_spent[{count}];\nstatic uint32_t pd_from;\n"
    plain = f"{mark}{text.partition(mark)[2]}".replace(f"{lowered.name}_tick(", f"{lowered.name}_plain_tick(")
    return f"{head}{own}void {lowered.name}_plain_tick({lowered.name}_t *c);\n{plain}\n{mark}{body}"


def replay_main(lowered: Lowered, inputs: np.ndarray, signals: list[str]) -> str:
    """A program that feeds the inputs, keeps all signals and counts, and writes them to files."""
    adapter = shipped_alone(lowered)
    adapter = adapter[adapter.index("int pd_ctl_size(void)") :]
    name, count = lowered.name, max(1, len(lowered.blocks))
    ticks, columns = inputs.shape
    rows = ",\n".join(", ".join(float(x).hex() for x in row) for row in inputs)
    wide = max(1, len(signals))
    return f"""#include "{name}.h"
#include "pd_numbers.h"
#include <math.h>

void pd_clock(void);
uint32_t pd_now(void);
void pd_write(const char *name, uint32_t letters, const void *data, uint32_t bytes);
void {name}_plain_tick({name}_t *c);
extern uint32_t pd_spent[{count}];

static const double pd_inputs[{ticks * columns}] = {{
{rows}}};
static double pd_signals[{ticks * wide}];
static uint32_t pd_counts[{ticks * (1 + len(lowered.blocks))}];

{adapter}
int main(void)
{{
    static {name}_t by_blocks, whole;
    static double out[{wide}];
    uint32_t k, j;
    pd_clock();
    pd_ctl_init(&by_blocks, 0);
    pd_ctl_init(&whole, 0);
    for (k = 0; k < {ticks}u; k++) {{
        uint32_t from, spent;
        for (j = 0; j < {count}u; j++) {{
            pd_spent[j] = 0u;
        }}
        pd_ctl_tick(&by_blocks, &pd_inputs[k * {columns}u], &pd_signals[k * {wide}u], out);
        whole.in = by_blocks.in;
        from = pd_now();
        {name}_plain_tick(&whole);
        spent = (from - pd_now()) & 0xFFFFFFu;
        pd_counts[k * {1 + len(lowered.blocks)}u] = spent;
        for (j = 0; j < {len(lowered.blocks)}u; j++) {{
            pd_counts[(k * {1 + len(lowered.blocks)}u) + 1u + j] = pd_spent[j];
        }}
    }}
    pd_write("signals.bin", 11u, pd_signals, (uint32_t)sizeof(pd_signals));
    pd_write("counts.bin", 10u, pd_counts, (uint32_t)sizeof(pd_counts));
    return 0;
}}
"""


def emulate(processor: Processor, folder: Path) -> None:
    """Run the program in a folder, where it writes its files. Raises `BuildProblem`."""
    command = [
        EMULATOR,
        "-M",
        processor.board,
        "-nographic",
        "-monitor",
        "none",
        "-serial",
        "none",
        "-icount",
        "shift=10,sleep=off",
        "-semihosting-config",
        "enable=on,target=native",
        "-kernel",
        "replay.elf",
    ]
    try:
        ended = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=PATIENCE, check=False)
    except subprocess.TimeoutExpired as problem:
        raise BuildProblem(
            f"On {processor.title} the controller did not come to its end within {PATIENCE:.0f} s. Check a shorter run."
        ) from problem
    if ended.returncode != 0 or not (folder / "counts.bin").exists():
        words = ended.stderr.strip()[:300] or f"it ended with code {ended.returncode}"
        raise BuildProblem(f"On {processor.title} the controller did not run: {words}.")
