"""Pictures of pages, plots and strips: from the menu to the file, held against the screen by a renderer of others."""

from xml.etree import ElementTree

import numpy as np
import pytest
import resvg_py
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QGuiApplication, QImage, QPainter, QPen, QTransform, QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu

from pendel.app.widgets.drawing import Drawing, Shape, drawing_of
from pendel.core.drive import commands
from pendel.core.drive.examples import EXAMPLES

from .conftest import finish, judged, settle

PAPER = QColor("#f6f3ea")


def shades(image):
    """Grey levels, 0 to 255, of squares of 8 pixels: lettering and the smoothing of edges differ between renderers."""
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    data = np.frombuffer(image.constBits().asstring(image.sizeInBytes()), np.uint8)
    data = data.reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), :3].astype(float)
    height, width = (n // 8 * 8 for n in data.shape[:2])
    return data[:height, :width].reshape(height // 8, 8, width // 8, 8, 3).mean(axis=(1, 3, 4))


def by_others(drawing):
    """Its SVG, as resvg shows it."""
    image = QImage.fromData(resvg_py.svg_to_bytes(svg_string=drawing.svg("", PAPER).decode(), skip_system_fonts=True))
    assert (image.width(), image.height()) == (drawing.width(), drawing.height())
    return image


def shown(drawing):
    return drawing.image(1.0, PAPER)


def turn_wheel(plot, steps):
    view = plot.viewport()
    at = QPointF(view.rect().center())
    QApplication.sendEvent(
        view,
        QWheelEvent(
            at,
            QPointF(view.mapToGlobal(at.toPoint())),
            QPoint(),
            QPoint(0, 120 * steps),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        ),
    )
    settle()


def choose(menu, words):
    next(a for a in menu.actions() if a.text() == words).trigger()
    settle()


def test_svg_and_image_of_every_page_look_as_the_screen_does(window):
    window.files.open_path(EXAMPLES / "haul_drive.pendel")
    window.start_run()
    finish(window)
    for name in ("Runs", "Loops", "Firmware", "Bench"):
        window.show_page(name)
        judged(window)
        page = window.page(name)
        if name == "Loops":
            for plot in (page.plots.size_plot, page.plots.circle_plot):
                turn_wheel(plot, 6)  # so that curves run on beyond what is shown
        drawing = drawing_of(page)
        screen = shades(page.grab().toImage())
        for picture in (shown(drawing), by_others(drawing)):
            apart = np.abs(shades(picture) - screen)
            assert np.max(apart) < 60 and np.mean(apart) < 1.5, (name, np.max(apart), np.mean(apart))
    window.show_page("Drive")
    drawing = window.drive_page.drawing()
    assert np.max(np.abs(shades(shown(drawing)) - shades(by_others(drawing)))) < 30
    words = [shape.words for shape in drawing.shapes if isinstance(shape, Shape)]
    assert {"Link", "Inverter", "Haul machine", "Test bench"} <= set(words)
    window.drive_page.open_circuit("inverter")
    settle()
    assert drawing_of(window.drive_page.circuit).width() == window.drive_page.drawing().width()


def paint_all_there_is(painter):
    """What no page may paint today: turned, stretched, half clear, clipped twice, dashed, an image."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setClipRect(QRectF(8, 8, 150, 150))
    painter.save()
    painter.setClipRect(QRectF(80, 0, 200, 90), Qt.ClipOperation.IntersectClip)
    painter.fillRect(QRectF(0, 0, 300, 300), QColor("#0072b2"))
    painter.restore()
    painter.save()
    painter.translate(60, 100)
    painter.rotate(30)
    painter.setOpacity(0.5)
    image = QImage(20, 10, QImage.Format.Format_RGB32)
    image.fill(QColor("#d55e00"))
    painter.drawImage(QRectF(0, 0, 60, 40), image)
    painter.restore()
    painter.setPen(QPen(QColor("black"), 4, Qt.PenStyle.DashLine))
    painter.drawEllipse(QRectF(20, 20, 60, 60))
    painter.setTransform(QTransform.fromScale(1, 8), True)
    painter.setPen(QPen(QColor(0, 120, 0, 128), 2))
    painter.drawLine(QPointF(10, 5), QPointF(140, 16))
    painter.drawPolyline([QPointF(100, 12), QPointF(120, 18), QPointF(140, 12)])
    painter.resetTransform()
    painter.setPen(QPen(QColor("#cc79a7"), 3))
    # Of places so far away a number of 32 bits knows no more than 64 pixels.
    painter.drawPolyline([QPointF(-1e9, -1e9 + 30), QPointF(1e9, 1e9 + 30), QPointF(1e9, -1e9)])
    painter.fillRect(QRectF(-1e9, 150, 2e9, 1e9), QColor("#56b4e9"))
    painter.drawLine(QPointF(0, 0), QPointF(1e300, float("inf")))


def test_whatever_is_painted_is_kept_as_it_looks(application):
    plain, drawing = QImage(168, 168, QImage.Format.Format_RGB32), Drawing(168, 168)
    plain.fill(PAPER)
    for device in (plain, drawing):
        painter = QPainter(device)
        paint_all_there_is(painter)
        painter.end()
    assert np.ptp(shades(plain)) > 150
    for picture in (shown(drawing), by_others(drawing)):
        assert np.max(np.abs(shades(picture) - shades(plain))) < 12
    large = drawing.image(2.5, PAPER)
    assert (large.width(), large.height()) == (420, 420)
    assert large.dotsPerMeterX() == pytest.approx(2.5 * 96 / 0.0254, abs=1)


def test_names_in_an_svg_are_text_alone_whatever_they_hold(application):
    drawing = Drawing(200, 40)
    painter = QPainter(drawing)
    hostile = 'a"/><script>alert(1)</script>\x00\x1b&amp;'
    painter.drawText(4, 20, hostile)
    painter.end()
    root = ElementTree.fromstring(drawing.svg(f"]]>{hostile}"))
    assert {each.tag.rpartition("}")[2] for each in root} <= {"title", "path", "clipPath"}
    assert 'a"/><script>' in "".join(each.get("aria-label", "") for each in root)
    assert "\x00" not in root[0].text and root[0].text.startswith("]]>a")


@pytest.fixture
def menus(monkeypatch):
    """The menus that come up, which stay closed."""
    opened = []
    monkeypatch.setattr(QMenu, "popup", lambda menu, *_: opened.append(menu))
    monkeypatch.setattr(QMenu, "exec", lambda menu, *_: opened.append(menu))
    return opened


def test_a_plot_is_fitted_copied_and_saved_from_its_menu_and_f_fits_all(window, menus, monkeypatch, tmp_path):
    window.show_page("Loops")
    judged(window)
    page = window.page("Loops")
    plot = page.plots.size_plot
    before = np.array(plot.vb.viewRange())
    turn_wheel(plot, 3)
    assert np.ptp(plot.vb.viewRange()[0]) < 0.9 * np.ptp(before[0])
    middle = plot.viewport().rect().center()
    QTest.mouseClick(plot.viewport(), Qt.MouseButton.RightButton, pos=middle)
    assert [a.text() for a in menus[-1].actions()] == ["Fit", "Copy picture", "Save picture …"]
    QGuiApplication.clipboard().clear()
    choose(menus[-1], "Copy picture")
    copied = QGuiApplication.clipboard().image()
    assert (copied.width(), copied.height()) == (2 * plot.width(), 2 * plot.height())
    for name, kind, written in (
        ("bode", "SVG (*.svg)", "bode.svg"),
        ("bode", "PNG (*.png)", "bode.png"),
        ("BODE.SVG", "PNG (*.png)", "BODE.SVG"),
        ("bode.v2", "SVG (*.svg)", "bode.v2.svg"),
    ):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, n=name, k=kind: (str(tmp_path / n), k))
        choose(menus[-1], "Save picture …")
        begun = (tmp_path / written).read_bytes()[:5]
        assert begun == (b"<?xml" if written.lower().endswith("svg") else b"\x89PNG\r")
        assert window.foot.status_message.whole == f"Saved {tmp_path / written}."
    choose(menus[-1], "Fit")
    np.testing.assert_allclose(plot.vb.viewRange(), before)
    turn_wheel(plot, -2)
    turn_wheel(page.plots.circle_plot, 4)
    QTest.keyClick(plot, Qt.Key.Key_F)
    np.testing.assert_allclose(plot.vb.viewRange(), before)
    turn_wheel(plot, 3)
    window.session.do(commands.set_quantity(window.session.drive, "K_p", "35 A*s/m"))
    judged(window)
    redrawn = np.array(plot.vb.viewRange())
    plot.fit()
    np.testing.assert_allclose(plot.vb.viewRange(), redrawn, err_msg="what its owner showed since is kept")


def test_one_strip_is_copied_alone_and_a_folder_that_is_not_there_gets_a_sentence(window, menus, tmp_path):
    window.show_page("Runs")
    settle()
    window.exports.copy_picture()  # there is no run yet: the page says so
    settle()
    assert QGuiApplication.clipboard().image().width() == 2 * window.page("Runs").width()
    window.start_run()
    finish(window)
    window.show_page("Runs")
    settle()
    strips = window.page("Runs").strips
    place = strips.place_of(1)
    QTest.mouseClick(strips.viewport(), Qt.MouseButton.RightButton, pos=place.center())
    choose(menus[-1], "Copy picture of this strip")
    copied = QGuiApplication.clipboard().image()
    assert (copied.width(), copied.height()) == (2 * place.width(), 2 * place.height())
    assert 0 < place.height() < strips.height() / 2
    window.exports.save_picture(str(tmp_path / "no folder" / "p.png"))
    settle()
    assert "p.png: it cannot be saved" in window.foot.status_message.whole
    window.exports.save_picture(str(tmp_path / "page.png"))
    settle()
    strips_image = QImage(str(tmp_path / "page.png"))
    assert (strips_image.width(), strips_image.height()) == (2 * strips.width(), 2 * strips.height())
