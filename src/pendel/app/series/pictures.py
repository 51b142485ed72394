"""What rows look like: a figure over what varies, a map over two of them, and how a figure is spread."""

from __future__ import annotations

import math

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from pyqtgraph.GraphicsScene.mouseEvents import MouseClickEvent

from pendel.app.plots.plot import Plot
from pendel.app.plots.shades import SHADES, shade
from pendel.app.widgets.theme import font, tokens
from pendel.core.quantities.units import number_text
from pendel.core.series.gathered import Gathered, Head, wilson

MOST_DOTS = 20_000
DOT, CHOSEN_DOT, REACH = 6, 11, 20
"""px."""


def axis_words(head: Head) -> str:
    return f"{head.short}, {head.unit}" if head.unit else head.short


class DotsPlot(Plot):
    """Dots that are rows; ``row_chosen`` gives the place of the row next to a click."""

    row_chosen = pyqtSignal(int)

    def __init__(self, name: str, about: str) -> None:
        super().__init__(name, "", bottom=" ", about=about)
        self._points = np.zeros((0, 2))
        self._places = np.zeros(0, dtype=np.int64)
        self._chosen: pg.ScatterPlotItem | None = None
        self.scene().sigMouseClicked.connect(self._choose)

    def take(self, gathered: Gathered, places: np.ndarray, columns: tuple[int, ...]) -> list[np.ndarray]:
        """The figures of rows in columns, as shown, without those where one is missing; the first two are where their
        dots are."""
        self.wipe()
        self._chosen = None
        for axis, column in ((self.frame.bottom, columns[0]), (self.frame.left, columns[1])):
            words = gathered.heads[column].words
            axis.setTicks([list(enumerate(words)), []] if words else None)
        self.frame.label(self.frame.bottom, axis_words(gathered.heads[columns[0]]))
        cells = gathered.cells[places][:, list(columns)]
        good = np.isfinite(cells).all(axis=1)
        places, cells = places[good], cells[good]
        if len(places) > MOST_DOTS:
            thinned = np.linspace(0, len(places) - 1, MOST_DOTS).astype(int)
            places, cells = places[thinned], cells[thinned]
        shown = [gathered.heads[c].shown(1.0) * cells[:, k] for k, c in enumerate(columns)]
        self._points, self._places = np.column_stack(shown[:2]), places
        return shown

    def choose_place(self, place: int) -> None:
        """Mark the dot of a row."""
        if self._chosen is not None:
            self.frame.remove(self._chosen)
            self._chosen = None
        at = np.flatnonzero(self._places == place)
        if len(at):
            x, y = self._points[at[0]]
            ring = pg.mkPen(tokens().brick, width=2)
            self._chosen = pg.ScatterPlotItem([x], [y], size=CHOSEN_DOT, pen=ring, brush=pg.mkBrush(None))
            self.add(self._chosen, fitted=False)

    def _choose(self, click: MouseClickEvent) -> None:
        if click.button() != Qt.MouseButton.LeftButton or not len(self._points):
            return
        at = click.scenePos()
        rect, ((left, right), (low, high)) = self.vb.sceneBoundingRect(), self.vb.viewRange()
        if not rect.contains(at) or right <= left or high <= low:
            return
        across = rect.left() + (self._points[:, 0] - left) / (right - left) * rect.width() - at.x()
        down = rect.bottom() - (self._points[:, 1] - low) / (high - low) * rect.height() - at.y()
        nearest = int(np.argmin(np.hypot(across, down)))
        if math.hypot(across[nearest], down[nearest]) < REACH:
            self.row_chosen.emit(int(self._places[nearest]))


class RowsPlot(DotsPlot):
    """A figure over something that varies."""

    def __init__(self) -> None:
        super().__init__("Rows", "rows")

    def show_rows(self, gathered: Gathered, places: np.ndarray, across: int, up: int, tinted: int, chosen: int) -> None:
        """``across`` and ``up`` are columns; where ``tinted`` is one, dots are shaded by it."""
        heads = gathered.heads
        x, y, *_ = self.take(gathered, places, (across, up))
        shaded = f"; darker: more {axis_words(heads[tinted])}" if tinted >= 0 else ""
        self.set_caption(heads[up].short, (heads[up].unit or "1") + shaded)
        if tinted < 0 and len(np.unique(x)) == len(x) > 1:
            order = np.argsort(x)
            self.curve(x[order], y[order], tokens().petrol, 1.4)
        brushes = self._brushes(gathered, self._places, tinted)
        self.add(pg.ScatterPlotItem(x, y, size=DOT, pen=pg.mkPen(tokens().plot, width=0.6), brush=brushes))
        self.choose_place(chosen)
        self.view.autoRange(padding=0.05)

    @staticmethod
    def _brushes(gathered: Gathered, places: np.ndarray, tinted: int) -> object:
        if tinted < 0:
            return pg.mkBrush(tokens().petrol)
        z = gathered.cells[places, tinted]
        low, high = (float(np.nanmin(z)), float(np.nanmax(z))) if np.isfinite(z).any() else (0.0, 1.0)
        steps = [pg.mkBrush(shade(0.1 + 0.9 * k / (SHADES - 1))) for k in range(SHADES)]
        shares = np.nan_to_num((z - low) / (high - low)) if high > low else np.zeros(len(z))
        return [steps[int(round(s * (SHADES - 1)))] for s in shares]


class MapPlot(DotsPlot):
    """A figure over two things that vary: shaded cells between the runs, with lines of equal height, and the runs."""

    def __init__(self) -> None:
        super().__init__("Map", "map_of_rows")

    def show_rows(self, gathered: Gathered, places: np.ndarray, across: int, up: int, figure: int, chosen: int) -> None:
        heads = gathered.heads
        x, y, z = self.take(gathered, places, (across, up, figure))
        unit = heads[figure].unit or "1"
        self.set_caption(heads[figure].short, f"{unit}; upwards {axis_words(heads[up])}; dots: runs")
        grid = on_grid(x, y, z)
        if grid is not None:
            self._shade(*grid)
        pen, brush = pg.mkPen(tokens().plot, width=0.5), pg.mkBrush(tokens().ink)
        self.add(pg.ScatterPlotItem(x, y, size=4, pen=pen, brush=brush))
        self.choose_place(chosen)
        self.view.autoRange(padding=0.02)

    def _shade(self, xs: np.ndarray, ys: np.ndarray, z: np.ndarray) -> None:
        low, high = float(np.nanmin(z)), float(np.nanmax(z))
        table = np.array([(*shade(k / 255).getRgb()[:3], 255) for k in range(256)], dtype=np.ubyte)
        image = pg.ImageItem(z, axisOrder="col-major", levels=(low, high if high > low else low + 1), lut=table)
        image.setRect(xs[0], ys[0], xs[-1] - xs[0], ys[-1] - ys[0])
        self.add(image)
        for level in levels_between(low, high):
            line = pg.IsocurveItem(z, level, pen=pg.mkPen(tokens().muted, width=1))
            line.setParentItem(image)
            words = pg.TextItem(
                number_text(level, 3), color=tokens().ink, fill=pg.mkBrush(tokens().plot), anchor=(0.5, 0.5)
            )
            words.setFont(font(10.5))
            words.setPos(*where_at(xs, ys, z, level))
            self.add(words, fitted=False)


def levels_between(low: float, high: float) -> list[float]:
    """Three to seven round figures."""
    if not high > low or not math.isfinite(high - low):
        return []
    raw = (high - low) / 5
    size = 10 ** math.floor(math.log10(raw))
    step = next(size * k for k in (1, 2, 5, 10) if size * k >= raw)
    first = math.floor(low / step) + 1
    return [k * step for k in range(first, first + 8) if low < k * step < high]


def where_at(xs: np.ndarray, ys: np.ndarray, z: np.ndarray, level: float) -> tuple[float, float]:
    """A place where a figure has a level, away from the rim where it can be."""
    inner = slice(len(xs) // 5, len(xs) - len(xs) // 5), slice(len(ys) // 12, len(ys) - len(ys) // 12)
    part = np.abs(z[inner] - level)
    i, j = np.unravel_index(int(np.argmin(part)), part.shape)
    return float(xs[inner[0]][i]), float(ys[inner[1]][j])


FINE = 64
"""Cells along each side of a map."""


def on_grid(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """The figure on even cells between the runs, straight between neighbours, the nearest run's beyond their hull; None
    where there are too few to lie in a plane."""
    from scipy.interpolate import LinearNDInterpolator, NearestNDInterpolator  # slow to load
    from scipy.spatial import QhullError

    if len(x) < 4 or np.ptp(x) == 0 or np.ptp(y) == 0:
        return None
    across, up = (x - x.min()) / np.ptp(x), (y - y.min()) / np.ptp(y)
    places = np.column_stack([across, up])
    even = np.linspace(0, 1, FINE)
    gx, gy = np.meshgrid(even, even, indexing="ij")
    try:
        inside = LinearNDInterpolator(places, z)(gx, gy)
    except QhullError:  # all on a line
        return None
    inside = np.where(np.isnan(inside), NearestNDInterpolator(places, z)(gx, gy), inside)
    return x.min() + even * np.ptp(x), y.min() + even * np.ptp(y), inside


class Histogram(Plot):
    """How a figure is spread over the rows, and the share of them within a limit."""

    def __init__(self) -> None:
        super().__init__("Histogram", "", bottom=" ", about="histogram")

    def show_figures(self, head: Head, values: np.ndarray, limit: float, *, below: bool) -> None:
        """``limit`` in SI, not-a-number for none. A row without a figure does not keep it."""
        self.wipe()
        self.frame.label(self.frame.bottom, axis_words(head))
        y = np.array([head.shown(v) for v in values[np.isfinite(values)]])
        title, words, whole = f"rows by {head.short}", "", len(values)
        if len(y):
            edges = np.histogram_bin_edges(y, bins=min(40, max(5, int(math.sqrt(len(y)) * 1.5))))
            counts, _ = np.histogram(y, edges)
            bound = head.shown(limit)
            middle = 0.5 * (edges[1:] + edges[:-1])
            fine = np.isnan(bound) | ((middle <= bound) if below else (middle >= bound))
            strong, contrast = pg.mkBrush(tokens().strong), pg.mkBrush(tokens().contrast)
            self.add(
                pg.BarGraphItem(
                    x0=edges[:-1],
                    x1=edges[1:],
                    height=counts,
                    brushes=[strong if ok else contrast for ok in np.broadcast_to(fine, counts.shape)],
                    pen=pg.mkPen(tokens().plot, width=1),
                )
            )
            if not math.isnan(bound):
                self.mark(bound, "")
                inside = int(np.count_nonzero(y <= bound if below else y >= bound))
                low, high = wilson(inside, whole)
                sign = "≤" if below else "≥"
                title = f"{100 * inside / max(1, whole):.1f} % {sign} {number_text(bound, 4)} {head.unit}".rstrip()
                words = f"of {whole}; 95 %: {100 * low:.0f} … {100 * high:.0f} %"
            self.view.autoRange(padding=0.03)
        self.set_caption(title, words or f"{len(y)} of {whole} rows have one")
