"""Curves that several blocks have drawn in them."""

from __future__ import annotations

import math

from pendel.core.vocabulary.pictures import Shape

PLACES = tuple(k / 29 for k in range(30))
LAG: Shape = tuple((x, 1 - math.exp(-4 * x)) for x in PLACES)
"""Step response of a first-order lag."""
STEP: Shape = ((0, 0), (0, 0.7), (1, 0.7))
SINE: Shape = tuple((x, 0.5 + 0.5 * math.sin(2 * math.pi * x)) for x in PLACES)
THIRD_HARMONIC: Shape = tuple(
    (x, 0.5 + 0.5 * (math.sin(2 * math.pi * x) + math.sin(6 * math.pi * x) / 6)) for x in PLACES
)
"""A duty with its third harmonic."""
