"""A scale of shades, from little to much, of one hue, so that its order is seen without colours."""

from __future__ import annotations

from PyQt6.QtGui import QColor

from pendel.app.widgets.theme import colour

SHADES = 9
FAR_LIGHT, FAR_DARK = (10, 62, 64), (205, 245, 240)
"""The strong end on a light ground, and on a dark one."""


def shade(share: float) -> QColor:
    """From next to the ground to far from it, for 0 to 1."""
    near = colour("petrol_tint")
    far = QColor(*(FAR_DARK if colour("plot").lightness() < 128 else FAR_LIGHT))
    share = min(1.0, max(0.0, share))
    mixed = [round(a + share * (b - a)) for a, b in zip(near.getRgb()[:3], far.getRgb()[:3])]
    return QColor(*mixed)


def line_shade(share: float) -> QColor:
    """The same for lines, which are to be seen at their weakest, too."""
    return shade(0.3 + 0.7 * min(1.0, max(0.0, share)))


__all__ = ["SHADES", "line_shade", "shade"]
