"""What can be read: contrast of both variants, no cut text at the sizes we promise, names for everything."""

import itertools
from pathlib import Path

import numpy as np
import pyqtgraph as pg
import pytest
from PyQt6.QtCore import QSize
from PyQt6.QtGui import QPainterPath, QPainterPathStroker
from PyQt6.QtWidgets import QAbstractButton, QCheckBox, QComboBox, QLabel, QLineEdit, QSlider

import pendel
from pendel.app.plots.lean_curve import needed
from pendel.app.plots.plot import Plot
from pendel.app.widgets.basic import Elided
from pendel.app.widgets.theme import DARK, LIGHT, dress
from pendel.core.catalogue.index import kinds
from pendel.core.drive import commands

from ..conftest import examples_looked_at
from .conftest import finish, judged, lay_out, settle, until

EXAMPLES = Path(pendel.__file__).parent / "examples"


def luminance(colour: str) -> float:
    """Relative luminance: Web Content Accessibility Guidelines 2.2, definition of relative luminance."""
    parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(a: str, b: str) -> float:
    high, low = sorted((luminance(a), luminance(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("t", [LIGHT, DARK], ids=["light", "dark"])
def test_text_and_traces_stand_out_from_their_grounds(t):
    # WCAG 2.2, 1.4.3: text 4.5; 1.4.11: graphics 3. Okabe-Ito's lighter shades fall below 3 on white;
    # traces carry their names too, so there 2 is asked for.
    for ground in (t.paper, t.side, t.card, t.bar):
        assert contrast(t.ink, ground) >= 7
        assert contrast(t.muted, ground) >= 4.5
    for text, ground in (
        (t.petrol, t.card),
        (t.on_petrol, t.petrol),
        (t.brass_text, t.card),
        (t.brass_text, t.brass_tint),
        (t.brick, t.card),
        (t.moss, t.card),
    ):
        assert contrast(text, ground) >= 4.4
    assert min(contrast(shade, t.plot) for shade in t.traces) >= 2
    assert min(contrast(shade, t.plot) for shade in (t.strong, t.traces[0], t.traces[1])) >= 3.5


def cut_texts(page) -> list[str]:
    found = []
    for widget in page.findChildren(QLabel) + page.findChildren(QAbstractButton):
        if not widget.isVisible() or isinstance(widget, Elided) or not widget.text() or isinstance(widget, QCheckBox):
            continue
        if isinstance(widget, QLabel) and (widget.wordWrap() or not widget.visibleRegion().boundingRect().width()):
            continue
        needed = max(widget.fontMetrics().horizontalAdvance(line) for line in widget.text().splitlines())
        if needed > widget.width() + 1:
            found.append(widget.text())
    return found


@pytest.mark.parametrize("size", [(1280, 800), (1280, 720), (1920, 1080)])
def test_no_text_is_cut_and_every_control_has_a_name(window, size):
    window.resize(QSize(*size))
    window.start_run()
    finish(window)
    for name in ("Drive", "Runs", "Loops", "Firmware"):
        window.show_page(name)
        judged(window) if name == "Loops" else settle()
        page = window.page(name)
        assert cut_texts(page) == []
        assert page.minimumSizeHint().width() <= 1280
        for kind in (QLineEdit, QComboBox, QSlider):
            for control in page.findChildren(kind):
                inside_editor = control.objectName().startswith("qt_") or control.parent().inherits("QComboBox")
                assert inside_editor or control.accessibleName() or control.toolTip(), (name, control)


@pytest.mark.parametrize("example", ["valley_filter", "service_trolley", "old_haul_feedback"])
def test_the_table_of_blocks_fits_its_place_with_all_its_words(window, example):
    window.files.open_path(EXAMPLES / f"{example}.pendel")
    window.show_page("Firmware")
    table = window.page("Firmware").table
    assert until(lambda: len(table.signals) > 4)
    lay_out()
    assert table.horizontalScrollBar().maximum() == 0
    header, last = table.horizontalHeader(), table.columnCount() - 1
    assert header.sectionPosition(last) + header.sectionSize(last) == table.viewport().width()
    for column in range(table.columnCount()):
        item = table.horizontalHeaderItem(column)
        assert header.fontMetrics().horizontalAdvance(item.text()) <= header.sectionSize(column), item.text()


def test_the_dark_variant_paints_every_page_dark(application, window):
    dress(application, DARK)
    try:
        for name in ("Drive", "Runs", "Loops", "Firmware"):
            window.pages[name].setStyleSheet("")
            window.show_page(name)
            settle()
            image = window.page(name).grab().toImage()
            points = [
                image.pixelColor(x, y).lightness()
                for x in range(4, image.width(), image.width() // 12)
                for y in range(4, image.height(), image.height() // 12)
            ]
            assert sorted(points)[len(points) // 2] < 90, name
    finally:
        dress(application, LIGHT)


def test_no_label_of_a_part_or_block_is_cut_in_the_inspector(window):
    """Every kind with every choice: the names of its values stand whole beside their symbols."""
    cut, seen = set(), set()
    for name, kind in kinds().items():
        if name == "assembly":
            continue
        drive = pendel.Drive("One")
        key = drive.add(name, "Card")
        variants = [None, *((c.name, option) for c in kind.choices for option, _ in c.options[1:])]
        for variant in variants:
            if variant:
                commands.set_choice(drive.document, key, *variant).apply(drive.document)
            shows = (name, *(v.name for v in kind.values_in_force(drive.document.cards[key])))
            if shows in seen:
                continue
            seen.add(shows)
            window.session.open(drive.document, None)
            window.session.select([key])
            lay_out()
            names = {v.label for v in kind.values}
            for shown in window.drive_page.inspector.findChildren(Elided):
                wide = shown.fontMetrics().horizontalAdvance(shown.whole)
                if shown.isVisible() and shown.whole in names and wide > shown.width() + 1:
                    cut.add((name, shown.whole))
    window.session.undo.setClean()
    assert not cut


@pytest.mark.parametrize("name", ["sine", "noise", "held", "circle", "turns back", "lines of a spectrum"])
def test_a_curve_with_fewer_points_lies_a_fifth_of_a_pixel_off_at_most(name):
    rng = np.random.default_rng(7)
    s = np.linspace(0.0, 1.0, 1500)
    x, y = {
        "sine": (900 * s, 100 * np.sin(20 * s)),
        "noise": (900 * s, np.cumsum(rng.normal(size=len(s)))),
        "held": (np.repeat(900 * s, 2)[1:], np.repeat(50 * np.sign(np.sin(40 * s)), 2)[:-1]),
        "circle": (300 * np.cos(6.3 * s), 300 * np.sin(6.3 * s)),
        "turns back": (np.full(len(s), 5.0), 100 * np.abs(2 * s - 1)),
        "lines of a spectrum": (np.repeat(900 * s[::3], 3), 80.0 * (np.arange(len(s)) % 30 == 1)),
    }[name]
    kept = needed(x, y)
    assert len(kept) < len(x) and {0, len(x) - 1} <= set(kept)
    for a, b in itertools.pairwise(kept):
        points = np.column_stack([x[a : b + 1], y[a : b + 1]])
        way = points[-1] - points[0]
        along = np.clip((points - points[0]) @ way / max(way @ way, 1e-30), 0, 1)
        assert np.hypot(*(points - points[0] - along[:, None] * way).T).max() < 0.2


def crossed(plot) -> list[str]:
    """Words in a plot that are cut, stand on each other, or have a curve through them, as it is painted."""
    found, before = [], []
    for tag in (i for i in plot.scene().items() if isinstance(i, pg.TextItem) and i.isVisible() and i.toPlainText()):
        room = plot.frame if tag is plot.caption else plot.vb
        words = tag.textItem.sceneBoundingRect().adjusted(4, 4, -4, -4)  # what Qt leaves around a text
        if not room.sceneBoundingRect().contains(words):
            found.append(f"{tag.toPlainText()} is cut")
        found += [f"{tag.toPlainText()} stands on {other}" for rect, other in before if rect.intersects(words)]
        before.append((words, tag.toPlainText()))
        for curve in (i for i in plot.frame.items if isinstance(i, pg.PlotCurveItem) and tag is not plot.caption):
            outline = QPainterPathStroker().createStroke(curve.sceneTransform().map(curve.getPath()))
            area = QPainterPath()
            area.addRect(words)
            if outline.intersects(area):
                found.append(f"{tag.toPlainText()} is crossed")
    return found


@pytest.mark.parametrize("path", examples_looked_at(EXAMPLES), ids=lambda path: path.stem)
def test_nothing_runs_through_words_in_plots_of_loops(window, path):
    window.files.open_path(path)
    window.show_page("Loops")
    judged(window)
    page = window.page("Loops")
    for key in list(page.statuses):
        page.choose(key)
        settle()
        for plot in page.findChildren(Plot):
            if plot.isVisible():
                plot.grab()
                assert not crossed(plot), (key, plot.accessibleName())
    window.session.undo.setClean()
