"""What every signal, state and local of a controller came to in a run: the largest absolute values.

The controller is written in float64 with a note behind each assignment, built, and fed with what its inputs
were in the run."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pendel.core.controllers.deck import ControlDeck
from pendel.core.controllers.numbers.block import LINE
from pendel.core.controllers.numbers.lowering import Choices, Lowered, LoweredBlock, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import shipped_alone

ASSIGNED = re.compile(r"^( *)(?:const double )?((?:b->)?\w+)(?:\[b->at\])? = .*;$")
HEAD = """
static double pd_seen[{count}];

static void pd_note(int k, double x)
{{
    const double size = (x < 0.0) ? -x : x;
    if (size > pd_seen[k]) {{
        pd_seen[k] = size;
    }}
}}

void pd_ctl_seen(double *out)
{{
    int k;
    for (k = 0; k < {count}; k++) {{
        out[k] = pd_seen[k];
        pd_seen[k] = 0.0;
    }}
}}
"""


@dataclass(frozen=True)
class Observed:
    """C that notes what it computes, and of what."""

    text: str
    names: tuple[str, ...]
    """``block.name`` of each number that ``pd_ctl_seen`` gives; inputs first."""
    lowered: Lowered


def observed_source(deck: ControlDeck) -> Observed:
    """The controller with notes.

    Raises
    ------
    CannotLower
    """
    lowered = lower(deck, Choices(NumberFormat.FLOAT64))
    names: list[str] = []
    for block in lowered.blocks:
        noted(block, names)
    text = shipped_alone(lowered)
    at = text.index(f"/* {lowered.name}.h")
    head = HEAD.format(count=max(1, len(names)))
    return Observed(f"{text[:at]}{head}\n{text[at:]}", tuple(names), lowered)


def noted(block: LoweredBlock, names: list[str]) -> None:
    """Puts a note behind each assignment of a block."""
    known: dict[str, int] = {}
    of_place = {p: n for n, p in block.places.items()}
    for part, lines in block.bodies.items():
        noted_lines = []
        for line in lines:
            noted_lines.append(line)
            match = ASSIGNED.match(line)
            past = match is not None and match[2] == "b->past"
            if match is None or not past and match[2] not in of_place:
                continue
            name = LINE if past else of_place[match[2]]
            if name not in known:
                known[name] = len(names)
                names.append(f"{block.name}.{name}")
            value = line.split(" = ", 1)[1].rstrip(";") if past else match[2]
            noted_lines.append(f"{match[1]}pd_note({known[name]}, {value});")
        block.bodies[part] = noted_lines
