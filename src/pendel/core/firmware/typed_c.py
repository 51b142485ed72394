"""Typed C: what the compiler has against it as it is shipped, and what it does that C leaves undefined, such as
writing where nothing of it lies.

For the latter the controller is built as a program of its own with the compiler's checks of undefined behaviour
(ISO/IEC 9899:1999, annex J.2, as far as a compiler can tell) and fed with what its inputs were in a run. It ends
at the first finding, so that nothing here is touched by what it does."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import tempfile
from pathlib import Path

import numpy as np

from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.controllers.numbers.source import shipped_alone, typed_functions
from pendel.core.errors import BuildProblem, shorten
from pendel.core.plant.compiler import compiler, run_compiler, run_limited

WATCHED = ("-std=c99", "-O1", "-ffp-contract=off", "-fsanitize=undefined", "-fno-sanitize-recover=all")
COMPUTING = 60
"""Seconds of computing that the program may take."""
TOLD = re.compile(r"watched\.c:(\d+):\d+: runtime error: (.+)")
MAIN = """
#include <stdio.h>
int main(int n, char **files)
{{
    static {name}_t c;
    static double in[{inputs}], out[{signals}], none[1];
    FILE *f = n > 1 ? fopen(files[1], "rb") : NULL;
    if (f == NULL) return 1;
    pd_ctl_init(&c, none);
    while (fread(in, sizeof in, 1, f) == 1) pd_ctl_tick(&c, in, out, none);
    return 0;
}}
"""


def watch_typed_c(lowered: Lowered, inputs: np.ndarray) -> bool:
    """Run a controller with typed C under the compiler's checks, with ``inputs`` as of
    `pendel.core.firmware.ship.inputs_of`. Returns whether the compiler has such checks.

    Raises
    ------
    BuildProblem
        with the first thing it does that C leaves undefined, or where it comes to no end.
    """
    titles = " or ".join(b.tree.title for b in lowered.blocks if b.tree.verbatim)
    signals = sum(len(b.tree.outputs) for b in lowered.blocks)
    text = shipped_alone(lowered)
    text += MAIN.format(name=lowered.name, inputs=inputs.shape[1], signals=signals + 1)
    with tempfile.TemporaryDirectory() as work:
        source, built, program, data = (Path(work) / name for name in ("watched.c", "built", "watched", "inputs"))
        source.write_text(text)
        np.ascontiguousarray(inputs, dtype=float).tofile(data)
        try:
            run_compiler([*compiler(), *WATCHED, str(source), "-o", str(built), "-lm"])
            with open(program, "wb", opener=lambda path, flags: os.open(path, flags, 0o700)) as stream:
                stream.write(built.read_bytes())  # where rights of files cannot be changed, the linker could not either
            if not os.access(program, os.X_OK):
                return False
            ended, output = run_limited([str(program), str(data)], "", COMPUTING)
        except (BuildProblem, OSError):  # no such checks, or no program may be started here
            return False
        except subprocess.TimeoutExpired:
            ended, output = -signal.SIGXCPU, ""
    if ended == -signal.SIGXCPU:
        raise BuildProblem(f"{titles}: the typed C did not come to its end in {COMPUTING} s. Look at its loops.")
    if report := TOLD.search(output):
        raise BuildProblem(_sentence(lowered, text.split("\n"), int(report[1]) - 1, report[2], titles))
    if ended:
        how = signal.strsignal(-ended) if ended < 0 else f"with {ended}"
        raise BuildProblem(f"{titles}: the typed C ended the program ({how}). Look at its pointers and calls.")
    return True


def refused_typed_c(lowered: Lowered, source: str, output: str) -> str:
    """What a compiler says of typed C in a controller's source, in a sentence; nothing where it says nothing of
    that."""
    lines = source.split("\n")
    errors = rf"\b{lowered.name}\.c:(\d+):\d+: (?:fatal )?error: (.+?)(?: \[-W[^]]*\])?$"
    for error in re.finditer(errors, output, re.MULTILINE):
        at = int(error[1]) - 1
        title = _title_at(lowered, lines, at)
        if title:
            reason = error[2].replace("‘", "“").replace("’", "”")
            return f"{title}: The compiler says of “{shorten(lines[at].strip())}”: {reason}."
    return ""


def _sentence(lowered: Lowered, lines: list[str], at: int, reason: str, titles: str) -> str:
    """``at`` is the place of the line in the program."""
    title, line = _title_at(lowered, lines, at) or titles, shorten(lines[at].strip())
    return f"{title}: “{line}” is undefined in C: {reason.replace(chr(39), '')}. Correct it."


def _title_at(lowered: Lowered, lines: list[str], at: int) -> str:
    """The block in whose typed C a line lies; none where it lies elsewhere."""
    heads = (re.match(r"static void (\w+)\(", line) for line in reversed(lines[: at + 1]))
    inside = next((head[1] for head in heads if head), "")
    return typed_functions(lowered).get(inside, "")
