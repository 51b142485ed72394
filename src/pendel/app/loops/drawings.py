"""What loops are drawn as, wherever they are: L in the complex plane, S and T."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.plot import Plot
from pendel.app.plots.tag import ABOVE, ABOVE_LEFT, ABOVE_RIGHT, AROUND, BELOW, BELOW_LEFT, BELOW_RIGHT
from pendel.app.widgets.theme import tokens
from pendel.core.quantities.units import number_text

SEEN = 8.0
"""|L| beyond this is far outside the picture."""


def decibels(values: np.ndarray) -> np.ndarray:
    return np.asarray(20 * np.log10(np.maximum(np.abs(values), 1e-9)))


def sensitivities(response: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """S and T of an L."""
    s = 1 / (1 + response)
    return s, s * response


def complex_text(value: complex) -> str:
    sign = "+" if value.imag >= 0 else "−"
    return f"{number_text(float(value.real), 3)} {sign} {number_text(abs(float(value.imag)), 3)} j"


def draw_circle(plot: Plot, curves: Iterable[tuple[np.ndarray, str, float]], ms: float) -> None:
    """L by response, tint and width, with the circle of the radius 1/Ms around −1."""
    plot.wipe()
    angle, radius = np.linspace(0, 2 * np.pi, 120), 1 / ms
    circle = LeanCurve(
        -1 + radius * np.cos(angle),
        radius * np.sin(angle),
        pen=pg.mkPen(tokens().brass, width=1.2, style=Qt.PenStyle.DashLine),
        brush=pg.mkBrush(tokens().brass_tint),
        fillLevel=0,
    )
    plot.add(circle)
    plot.add(pg.ScatterPlotItem([-1], [0], size=8, brush=tokens().brick, pen=None))
    for response, tint, width in curves:
        seen = np.where(np.abs(response) < SEEN, response, np.nan)  # no line from where it leaves to where it returns
        plot.curve(seen.real, seen.imag, tint, width)
    plot.tag("−1", tokens().brick, [(-1.0, 0.0)], (ABOVE, BELOW, *AROUND), bold=False)
    rim = [(-1.0, radius), (-1.0, -radius), (-1.0 - radius, 0.0), (-1.0 + radius, 0.0)]
    plot.tag(f"1/Ms, Ms = {number_text(ms, 3)}", tokens().brass_text, rim, (ABOVE, BELOW, *AROUND), bold=False)
    plot.vb.setRange(xRange=(-2.3, 0.9), yRange=(-2.4, 1.6), padding=0)


def draw_sensitivities(plot: Plot, frequency: np.ndarray, response: np.ndarray) -> None:
    """S and T over frequency (Hz) of an L."""
    plot.wipe()
    x = np.log10(frequency)
    s, t = sensitivities(response)
    tags = []
    for values, tint, name, share in ((s, tokens().contrast, "S", 0.45), (t, tokens().strong, "T", 0.25)):
        y = decibels(values)
        plot.curve(x, y, tint)
        seen = np.flatnonzero((y > -36.0) & (y < 12.0))
        first = int(share * len(x))
        seen = seen[np.argsort(np.abs(seen - first), kind="stable")][:: max(1, len(seen) // 20)]
        tags.append((name, tint, [(x[k], y[k]) for k in seen] or [(x[first], -30.0)]))
    plot.level(0.0)
    for name, tint, points in tags:
        plot.tag(name, tint, points, (ABOVE_LEFT, ABOVE_RIGHT, BELOW_LEFT, BELOW_RIGHT, *AROUND), size=12)
    plot.vb.setXRange(x[0], x[-1], padding=0)
    plot.vb.setYRange(-40, 15, padding=0)


__all__ = ["complex_text", "decibels", "draw_circle", "draw_sensitivities", "sensitivities"]
