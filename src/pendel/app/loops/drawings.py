"""What loops are drawn as, wherever they are: L in the complex plane, S and T."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt

from pendel.app.plots.lean_curve import LeanCurve
from pendel.app.plots.plot import Plot
from pendel.app.widgets.theme import font, tokens
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
    for text, x, y, tint in (
        ("−1", -1.0, 0.18, tokens().brick),
        (f"1/Ms, Ms = {number_text(ms, 3)}", -1.0, radius + 0.14, tokens().brass_text),
    ):
        tag = pg.TextItem(text, color=tint, anchor=(0.5, 0.5))
        tag.setFont(font(11))
        tag.setPos(x, y)
        plot.add(tag)
    for response, tint, width in curves:
        inside = np.abs(response) < SEEN
        plot.curve(response.real[inside], response.imag[inside], tint, width)
    plot.vb.setRange(xRange=(-2.3, 0.9), yRange=(-2.4, 1.6), padding=0)


def draw_sensitivities(plot: Plot, frequency: np.ndarray, response: np.ndarray) -> None:
    """S and T over frequency (Hz) of an L."""
    plot.wipe()
    x = np.log10(frequency)
    s, t = sensitivities(response)
    for values, tint, name, share in ((s, tokens().contrast, "S", 0.45), (t, tokens().strong, "T", 0.25)):
        y = decibels(values)
        plot.curve(x, y, tint)
        k = int(np.argmin(np.abs(np.arange(len(x)) / len(x) - share)))
        tag = pg.TextItem(name, color=tint, anchor=(0.5, 1))
        tag.setFont(font(12, bold=True))
        tag.setPos(x[k], min(max(-38.0, y[k]), 10.0))
        plot.add(tag)
    plot.level(0.0)
    plot.vb.setXRange(x[0], x[-1], padding=0)
    plot.vb.setYRange(-40, 15, padding=0)


__all__ = ["complex_text", "decibels", "draw_circle", "draw_sensitivities", "sensitivities"]
