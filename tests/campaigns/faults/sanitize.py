"""``python -m tests.campaigns.faults.sanitize``: all examples at every level and by every method through a time loop,
plants and controllers that are built with the address and undefined-behaviour sanitizers of the compiler. The first
report ends it."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

SANITIZED = (
    "-fsanitize=address,undefined",
    "-fno-sanitize-recover=undefined",
    "-fno-omit-frame-pointer",
    "-g1",
)
LEVELS = ("averaged", "switching", "device")
METHODS = ("auto", "fast", "stiff", "fixed")
UNTIL = "4 ms"


def look() -> None:
    """In a process with the sanitizers' library loaded first."""
    import pendel
    from pendel.core.drive.file import load
    from pendel.core.errors import PendelError
    from pendel.core.plant import compiler
    from pendel.core.plant.program import RunSettings
    from pendel.core.runs.preparing import simulate
    from pendel.core.runs.preparing.simulate import prepare, run_drive
    from tests.campaigns.truth.slices import in_slices

    real = compiler.run_compiler
    compiler.run_compiler = lambda command, *more: real([command[0], *SANITIZED, *command[1:]], *more)
    simulate.begin_loop_build = lambda *_: None
    for path in sorted((Path(pendel.__file__).parent / "examples").glob("*.pendel")):
        for level in LEVELS:
            for method in METHODS:
                drive = load(path)
                drive.settings |= {"level": level, "method": method, "until": UNTIL}
                try:
                    prepared = prepare(drive)
                    run = run_drive(prepared)
                    settings = RunSettings(0.004, method=method, h_max=1e-4, fixed_step=1e-6)
                    in_slices(prepared.program, prepared.inputs(settings))  # saved, restored, handed over
                    _ = run.expanded, run.half_way  # as traces show it
                    if method == "auto":
                        drive.settings["controller"] = "as shipped"
                        run_drive(prepare(drive))  # and compared with float 64
                except PendelError as problem:
                    print(f"{path.stem} {level} {method}: {str(problem)[:100]}", flush=True)
                    continue
                print(f"{path.stem} {level} {method}: {len(run.rows)} rows {run.message}", flush=True)


def main() -> int:
    library = subprocess.run(
        ["gcc", "-print-file-name=libasan.so"], capture_output=True, text=True, check=True
    ).stdout.strip()
    with tempfile.TemporaryDirectory() as cache:
        environment = {
            **os.environ,
            "LD_PRELOAD": library,
            "ASAN_OPTIONS": "detect_leaks=0:abort_on_error=1",
            "UBSAN_OPTIONS": "print_stacktrace=1:halt_on_error=1",
            "XDG_CACHE_HOME": cache,
        }
        done = subprocess.run(
            [sys.executable, "-c", "from tests.campaigns.faults.sanitize import look; look()"],
            env=environment,
            check=False,
        )
    print("clean" if done.returncode == 0 else f"ended with {done.returncode}")
    return 1 if done.returncode else 0


if __name__ == "__main__":
    sys.exit(main())
