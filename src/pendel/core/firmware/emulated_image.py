"""A board's program for an emulated processor, and what couples that to a plant on the host.

The processor runs the shipped C and the slave, as an own board would (`board_sources`); its link is its UART. At each
tick the host gives it what its sensors gave, and takes its whole struct back, which has one layout on both sides."""

from __future__ import annotations

import tempfile
from importlib import resources
from pathlib import Path

from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.source import files, shipped_in_simulation
from pendel.core.errors import PendelError
from pendel.core.firmware.board_image import checksum_of, constants, keyed, protocol, resting
from pendel.core.firmware.processors import COMPILER, NoProcessor, Processor, missing_tools
from pendel.core.plant.compiler import run_compiler

FLASH = 4 << 20
"""Bytes that a program for it may have."""
AWAY = "pd_away_tick"


class NothingMeasured(PendelError):
    def __str__(self) -> str:
        return (
            "A controller that measures nothing has nothing to do with a plant on another processor. Wire a sensor to "
            "it, or build for this computer."
        )


def board_file(name: str) -> str:
    return (resources.files("pendel.core.firmware") / "board" / name).read_text("utf-8")


def sizes(lowered: Lowered) -> str:
    own = "".join(f"#define PD_OWN_{what.upper()} {lowered.name}_{what}\n" for what in ("t", "init", "tick"))
    return own + constants(
        {
            "MEASURED": len(lowered.deck.measured),
            "SIGNALS": len(lowered.deck.signals),
            "COMMANDS": len(lowered.deck.commands),
            "CHECKSUM": checksum_of(lowered),
            "TICK_NS": round(lowered.deck.tick * 1e9),
            "FLASH": FLASH,
        }
    )


def host_text(lowered: Lowered) -> str:
    """What stands on the host in the place of the controller. Raises `NothingMeasured`."""
    if not lowered.inputs:
        raise NothingMeasured
    own = shipped_in_simulation(lowered, "pd_sim", can_rest=True, ticks=AWAY)
    largest = f"#define PD_IMAGE_LARGEST (sizeof(PD_OWN_T) + 256u)\n{board_file('coupled.h')}"
    # Its headers of the system come first, as the shipped ones shape what these declare.
    return f"#define _GNU_SOURCE\n{SYSTEM}{sizes(lowered)}{own}\n{largest}{board_file('coupled.c')}"


SYSTEM = "".join(f"#include <{h}.h>\n" for h in ("errno", "math", "poll", "string", "unistd", "stdbool", "stdint"))


def processor_image(lowered: Lowered, processor: Processor) -> bytes:
    """The program, as it is loaded. Raises `NoProcessor`, `NothingMeasured` and `BuildProblem`."""
    if missing := missing_tools():
        raise NoProcessor(missing)
    if not lowered.inputs:
        raise NothingMeasured
    main = (
        f'#include "{lowered.name}.h"\n#include "pd_link.h"\n#include "pd_board.h"\n{board_file("coupled.h")}'
        f"{keyed()}{sizes(lowered)}{resting(lowered)}{board_file('emulated.c')}"
    )
    texts = {
        **files(lowered).texts,
        **protocol(),
        "board.c": board_file("board.c"),
        "board.ld": board_file("board.ld"),
        "emulated.c": main,
    }
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        for name, text in texts.items():
            (folder / name).write_text(text, "utf-8")
        slave = [n for n in protocol() if n.endswith(".c")]
        units = [f"{lowered.name}.c", "pd_numbers.c", *slave, "board.c", "emulated.c"]
        run_compiler(
            [
                COMPILER,
                *processor.flags,
                *("-std=c99", "-O2", "-ffp-contract=off", "-ffunction-sections", "-fdata-sections"),
                *(str(folder / n) for n in units),
                f"-I{folder}",
                *("-nostartfiles", "-s", "-Wl,--gc-sections", "-T", str(folder / "board.ld")),
                *("-o", str(folder / "board.elf"), "-lm", "--specs=nosys.specs"),
            ]
        )
        return (folder / "board.elf").read_bytes()


def is_for_processor(image: bytes) -> bool:
    """Whether it is a program for Arm (ELF: Tool Interface Standard 1.2; machine 40)."""
    return image[:4] == b"\x7fELF" and int.from_bytes(image[18:20], "little") == 40


def emulator_line(processor: Processor, image: Path) -> list[str]:
    """What starts the emulator in a folder with pipes ``line`` and ``plant``."""
    from pendel.core.firmware.processors import EMULATOR

    return [
        EMULATOR,
        *("-M", processor.board, "-display", "none", "-monitor", "none"),
        *("-chardev", "pipe,id=line,path=line", "-serial", "chardev:line"),
        *("-semihosting-config", "enable=on,target=native", "-kernel", str(image)),
    ]


__all__ = ["NothingMeasured", "emulator_line", "host_text", "is_for_processor", "processor_image"]
