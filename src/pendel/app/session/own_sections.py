"""The sections in which own equations and own blocks are written, by kind: what they hold, their titles, an
example, lines."""

from __future__ import annotations

from pendel.core.catalogue import own_block
from pendel.core.catalogue.own import PART

EQUATIONS = (
    ("ports", "Ports", "winding: dc, u, i", 2),
    ("values", "Values", "R = 0.46 ohm", 4),
    ("states", "States, starting from", "i = 0 A", 2),
    ("unknowns", "Further unknowns", "p: W", 1),
    ("equations", "Equations", "L*der(i) = u - R*i", 4),
)
BLOCK = (
    ("ports", "Inputs and outputs", "x: in", 3),
    ("values", "Values", "K = 2 V/A", 2),
    ("states", "Remembered, starting from", "n = 0", 1),
)
SECTIONS = {
    PART: EQUATIONS,
    own_block.LANGUAGE: (*BLOCK, ("equations", "Update, once a period", "y = K * x", 5)),
    own_block.MODES: (*BLOCK, ("equations", "Modes and changes", "run: enable = 1", 8)),
    own_block.MATRICES: (BLOCK[0], ("equations", "Matrices", "A = -1, 0; 1, 0", 6)),
    own_block.C: (
        *BLOCK,
        ("equations", "Update in C, once a period", "y = K * x;", 6),
        ("convert", "Fixed point: words from values, when they change", "gain = (wide_t)(K * 1024);", 2),
        ("words", "Fixed point: update in words", "y = moved(gain * x, 10 + x_q - y_q);", 3),
    ),
}
