"""Whether C that a user typed compiles, told by the compiler without running anything."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Iterable
from functools import lru_cache

from pendel.core.controllers.deck import BlockInstance
from pendel.core.controllers.language import Update
from pendel.core.errors import BuildProblem
from pendel.core.plant.compiler import compiler

TIME_LIMIT = 10.0
ERROR = re.compile(r"^own:(\d+):\d+: (?:fatal )?error: (.+)$", re.MULTILINE)


def holds_c(blocks: Iterable[BlockInstance]) -> bool:
    """Whether a deck contains C that was typed, which runs on this computer with the user's rights."""
    return any(block.code.verbatim for block in blocks)


@lru_cache(maxsize=100)
def c_problem(update: Update) -> tuple[int, str] | None:
    """The first error in a typed update: its line, from 0, and what the compiler says; none when there is none or the
    compiler cannot be asked."""
    names = "".join(f"    real_t {n} = 0;\n    (void){n};\n" for n in update.arguments)
    text = f'#include <math.h>\n#include <stdint.h>\ntypedef float real_t;\nvoid own(void);\nvoid own(void)\n{{\n{names}    {{\n#line 1 "own"\n{update.verbatim}\n#line 1 "after"\n    }}\n}}\n'
    try:
        done = subprocess.run(
            [*compiler(), "-std=c99", "-fsyntax-only", "-fno-diagnostics-color", "-x", "c", "-"],
            input=text, capture_output=True, text=True, timeout=TIME_LIMIT, check=False, env={**os.environ, "LC_ALL": "C"},
        )  # fmt: skip
    except (OSError, BuildProblem, subprocess.TimeoutExpired):
        return None
    if done.returncode == 0:
        return None
    found = ERROR.search(done.stderr)
    if found is None:
        return len(update.verbatim.split("\n")) - 1, "the compiler cannot read it to its end"
    return int(found[1]) - 1, found[2].replace("‘", "“").replace("’", "”").replace("'", "")
