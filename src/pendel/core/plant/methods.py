"""Methods of integration that a drive may choose: ours, and those that installed packages add.

A method of a package is a `RunMethod` with a file of C, offered by an entry point of the group
``pendel.methods``. The file holds
what ``loop/dopri5.c`` holds: a step and a ``method_t``, whose name is ``table``. It becomes part of the time
loop, and steps are
taken by it alone. Where its error says that a step does not count, a shorter one is tried.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from pendel.core.extensions import Table

C_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*")


@dataclass(frozen=True)
class RunMethod:
    """``title`` is what the user reads; ``fixed_steps`` tells that it takes the drive's fixed step, whatever
    its error.
    ``source`` and ``table`` are empty for ours."""

    id: str
    title: str
    fixed_steps: bool = False
    source: Path | None = None
    table: str = ""


OURS = (
    RunMethod("auto", "automatic"),
    RunMethod("fast", "fast, order 2 to 3"),
    RunMethod("explicit", "explicit, order 5"),
    RunMethod("stiff", "stiff, order 4"),
    RunMethod("fixed", "fixed step, real time", fixed_steps=True),
)
IN_CONTROL = ("auto", "explicit", "stiff", "fast", "fixed")
"""Ours in the order of ``CONTROLS`` in ``loop/control.c``."""


def unfit(method: RunMethod) -> str:
    if method.source is None or not C_NAME.fullmatch(method.table):
        return "has no C file, or its table no name that C can have. Its maker must give both."
    try:
        method.source.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        return f"has no C file that can be read: {problem}. Update or remove the package."
    return ""


METHODS: Table[RunMethod] = Table("pendel.methods", RunMethod, (), constant="", word="method", ours=OURS, fits=unfit)


@lru_cache(maxsize=1)
def added() -> tuple[RunMethod, ...]:
    return tuple(method for method in METHODS if method.source is not None)


def number_of(name: str) -> int:
    """Place of a method in ``CONTROLS``."""
    return (*IN_CONTROL, *(m.id for m in added())).index(name)


def added_source() -> str:
    """C of the added methods, and what ``control.c`` makes controls of."""
    parts, controls = [], []
    for method in added():
        assert method.source is not None
        chooser = f"pd_always_{method.id}"
        parts.append(method.source.read_text("utf-8"))
        parts.append(
            f"static const method_t *{chooser}(work_t *w, double left) "
            f"{{ (void)w; (void)left; return &{method.table}; }}"
        )
        controls.append(f"{{{chooser}, 0, 0, advance}},")
    return "\n".join([*parts, f"#define PD_ADDED_CONTROLS {' '.join(controls)}\n"]) if controls else ""
