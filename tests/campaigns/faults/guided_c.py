"""The C of the slave that reads bytes from a link, guided by which branches they reach: part of ``./run faults --guided
SECONDS``.

The program of a stand-in board is built with libFuzzer and the sanitizers of clang, where these are installed. What
fails is kept in ``build/faults``, what reached new branches in ``build/guided/slave``."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from random import Random

import pendel
from pendel.core.drive.file import load
from pendel.core.firmware import board_image
from pendel.core.plant.program import RunSettings
from pendel.core.runs.preparing.simulate import prepare

ROOT = Path(__file__).parents[3]
CORPUS, FAILED = ROOT / "build" / "guided" / "slave", ROOT / "build" / "faults"
DOOR = Path(pendel.__file__).parent / "examples" / "car_door_drive.pendel"
HARNESS = Path(__file__).with_name("slave.c")
FLAGS = ("-std=gnu99", "-g", "-O1", "-fsanitize=fuzzer,address,undefined", "-fno-sanitize-recover=undefined")
NEEDED = "sudo apt install clang libclang-rt-14-dev"


def built(folder: Path) -> Path | None:
    """The program; nothing where there is no clang with libFuzzer."""
    compiler = shutil.which("clang")
    if compiler is None:
        return None
    drive = load(DOOR)
    drive.settings["controller"] = "as shipped"
    prepared = prepare(drive)
    controls = ", ".join(float(x).hex() for x in prepared.inputs(RunSettings(1.0)).controls)
    board_image.QUEUE, board_image.RECORD = 1 << 8, 1 << 12  # small ones are full sooner
    head = f"#include <stdint.h>\n#include <stdlib.h>\nstatic const double controls[] = {{{controls}}};\n"
    text = f"{head}{board_image.image_text(prepared.lowered)}\n{HARNESS.read_text()}"
    (folder / "slave.c").write_text(text)
    program = folder / "slave"
    done = subprocess.run(
        [compiler, *FLAGS, str(folder / "slave.c"), "-lm", "-o", str(program)],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode and "libclang_rt" not in done.stderr:
        sys.exit(done.stderr)
    return None if done.returncode else program


def main() -> int:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    CORPUS.mkdir(parents=True, exist_ok=True)
    FAILED.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        program = built(Path(folder))
        if program is None:
            print(f"slave: left out, as there is no clang with libFuzzer. Install it with: {NEEDED}")
            return 0
        sow()
        done = subprocess.run(
            [str(program), str(CORPUS), f"-max_total_time={seconds:.0f}", "-max_len=4096",
             "-len_control=20", "-use_value_profile=1", "-timeout=5",
             f"-artifact_prefix={FAILED}/slave-", "-print_final_stats=1"],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
    for line in done.stderr.splitlines():
        if (
            "number_of_executed_units" in line
            or "ERROR" in line
            or "runtime error" in line
            or line.startswith("SUMMARY")
        ):
            print(f"slave: {line}")
    branches = [line for line in done.stderr.splitlines() if " cov: " in line][-1:]
    print("slave:", *branches, "clean" if done.returncode == 0 else f"ended with {done.returncode}")
    return 1 if done.returncode else 0


def sow() -> None:
    """Inputs to begin with: each command once, with plausible bytes, on CAN."""
    rng = Random(1)
    for code in range(0xC0, 0x100):
        packet = bytes([code]) + rng.randbytes(7)
        case = bytes([2, 0, 0, 2, 0xFF, 0, 255, len(packet)]) + packet + bytes([255, 210, 255])
        (CORPUS / f"command_{code:02x}").write_bytes(case)


if __name__ == "__main__":
    sys.exit(main())
