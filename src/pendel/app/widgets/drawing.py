"""What a widget paints, kept as shapes: an SVG or an image of any resolution is made of them.

Qt's own SVG knows no clipping, so that a curve would run on beyond its plot, and names fonts which a reader may not
have. Its images of a higher resolution have curves as thin as before. Here curves end where they do on the screen,
words are outlines, and lines are as wide as they look."""

from __future__ import annotations

import math
from base64 import b64encode
from collections.abc import Sequence
from dataclasses import dataclass
from xml.etree import ElementTree as Xml

from PyQt6.QtCore import QBuffer, QByteArray, QLineF, QPoint, QPointF, QRect, QRectF, Qt
from PyQt6.QtGui import (
    QBrush,
    QColor,
    QFont,
    QImage,
    QPaintDevice,
    QPaintEngine,
    QPaintEngineState,
    QPainter,
    QPainterPath,
    QPainterPathStroker,
    QPen,
    QPixmap,
    QRegion,
    QTextItem,
    QTransform,
)
from PyQt6.QtWidgets import QGraphicsScene, QWidget

PIXELS_AN_INCH = 96
"""As CSS has it, so that an SVG is as large on a page as the widget on the screen."""
SVG = "http://www.w3.org/2000/svg"
Feature, Flag, Metric = QPaintEngine.PaintEngineFeature, QPaintEngine.DirtyFlag, QPaintDevice.PaintDeviceMetric
FEATURES = (
    Feature.AlphaBlend
    | Feature.Antialiasing
    | Feature.ConstantOpacity
    | Feature.PainterPaths
    | Feature.PaintOutsidePaintEvent
    | Feature.PatternTransform
    | Feature.PixmapTransform
    | Feature.PrimitiveTransform
)
"""All else, such as a gradient, comes from Qt as an image."""
TRANSFORM, PEN, BRUSH, OPACITY = (
    flag.value for flag in (Flag.DirtyTransform, Flag.DirtyPen, Flag.DirtyBrush, Flag.DirtyOpacity)
)
HINTS, CLIPPING, REGION, CLIP = (
    flag.value for flag in (Flag.DirtyHints, Flag.DirtyClipEnabled, Flag.DirtyClipRegion, Flag.DirtyClipPath)
)
"""What has changed; as numbers, since flags of Python's are ten times as slow, and a page changes thousands."""
FAR, BESIDE = 20_000.0, 200.0
"""Pixels: what reaches further is cut, so far beside what is seen of it."""
CAPS = {Qt.PenCapStyle.FlatCap: "butt", Qt.PenCapStyle.SquareCap: "square", Qt.PenCapStyle.RoundCap: "round"}
Point = tuple[int, int]
JOINS = {Qt.PenJoinStyle.RoundJoin: "round", Qt.PenJoinStyle.BevelJoin: "bevel"}


@dataclass(frozen=True)
class Shape:
    """An outline, drawn with ``pen`` and filled with ``brush``, of which what is within ``clip`` is seen. Lengths in
    pixels of the picture. ``words``: what it says, where it is made of letters."""

    outline: QPainterPath
    pen: QPen
    brush: QBrush
    clip: QPainterPath
    opacity: float
    words: str = ""


@dataclass(frozen=True)
class Placed:
    """An image in the picture: ``rect`` as ``transform`` moves it."""

    image: QImage
    rect: QRectF
    transform: QTransform
    clip: QPainterPath
    opacity: float


class Drawing(QPaintDevice):
    """Something to paint on, so many pixels wide and high."""

    def __init__(self, width: int, height: int):
        super().__init__()
        self.width_, self.height_ = width, height
        self.shapes: list[Shape | Placed] = []
        self.recorder = Recorder(self.shapes)
        self.recorder.show(QRectF(0, 0, width, height))

    def paintEngine(self) -> QPaintEngine:
        return self.recorder

    def metric(self, metric: QPaintDevice.PaintDeviceMetric) -> int:
        millimetre = PIXELS_AN_INCH / 25.4
        figures = {
            Metric.PdmWidth: self.width_,
            Metric.PdmHeight: self.height_,
            Metric.PdmWidthMM: round(self.width_ / millimetre),
            Metric.PdmHeightMM: round(self.height_ / millimetre),
            Metric.PdmNumColors: 1 << 24,
            Metric.PdmDepth: 32,
            Metric.PdmDevicePixelRatio: 1,
            Metric.PdmDevicePixelRatioScaled: round(QPaintDevice.devicePixelRatioFScale()),
        }
        return figures.get(metric, PIXELS_AN_INCH)

    def image(self, scale: float, ground: QColor) -> QImage:
        """With ``scale`` times as many pixels each way."""
        image = QImage(
            math.ceil(self.width_ * scale), math.ceil(self.height_ * scale), QImage.Format.Format_ARGB32_Premultiplied
        )
        image.setDotsPerMeterX(round(scale * PIXELS_AN_INCH / 0.0254))
        image.setDotsPerMeterY(image.dotsPerMeterX())
        image.fill(ground)
        painter = QPainter(image)
        painter.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        enlarged = QTransform.fromScale(scale, scale)
        for shape in self.shapes:
            painter.setTransform(enlarged)
            painter.setOpacity(shape.opacity)
            painter.setClipPath(shape.clip)
            if isinstance(shape, Shape):
                painter.setPen(shape.pen)
                painter.setBrush(shape.brush)
                painter.drawPath(shape.outline)
            else:
                painter.setTransform(shape.transform * enlarged)
                painter.drawImage(shape.rect, shape.image)
        painter.end()
        return image

    def svg(self, title: str, ground: QColor | None = None) -> bytes:
        """As an SVG 1.1 document, on a ground or on none."""
        size = {"width": str(self.width_), "height": str(self.height_)}
        root = Xml.Element("svg", {"xmlns": SVG, "viewBox": f"0 0 {self.width_} {self.height_}", **size})
        Xml.SubElement(root, "title").text = printable(title)
        if ground is not None:
            Xml.SubElement(root, "rect", {**size, **paint("fill", ground)})
        clips: dict[str, str] = {}
        for shape in self.shapes:
            attributes = {} if shape.opacity == 1 else {"opacity": figure(shape.opacity)}
            if not inside(shape):
                outline = path_data(shape.clip)
                if outline not in clips:
                    clips[outline] = f"clip{len(clips)}"
                    clip = Xml.SubElement(root, "clipPath", {"id": clips[outline]})
                    Xml.SubElement(clip, "path", {"d": outline})
                attributes["clip-path"] = f"url(#{clips[outline]})"
            # A clip counts before what it clips is moved, so an image that is moved has a group around it.
            if isinstance(shape, Shape):
                Xml.SubElement(root, "path", attributes | shape_attributes(shape))
            else:
                Xml.SubElement(Xml.SubElement(root, "g", attributes), "image", image_attributes(shape))
        return bytes(Xml.tostring(root, encoding="utf-8", xml_declaration=True))


class Recorder(QPaintEngine):
    """Takes from Qt what is painted, and keeps it in pixels of the picture."""

    def __init__(self, shapes: list[Shape | Placed]):
        super().__init__(FEATURES)
        self._shapes = shapes
        self._transform, self._pen, self._brush = QTransform(), QPen(), QBrush()
        self._clip: QPainterPath | None = None
        self._clipping = self._smooth = False
        self._opacity = 1.0
        self._visible = QRectF()
        self._seen_now: QPainterPath | None = None

    def show(self, visible: QRectF) -> None:
        """Where the widget lies that is painted next, as far as it is seen; Qt does not say that."""
        self._visible, self._seen_now = visible, None

    def begin(self, device: QPaintDevice | None) -> bool:
        return True

    def end(self) -> bool:
        return True

    def type(self) -> QPaintEngine.Type:
        return QPaintEngine.Type.User

    def updateState(self, state: QPaintEngineState) -> None:
        changed = state.state().value
        if changed & TRANSFORM:
            self._transform = QTransform(state.transform())
        if changed & PEN:
            self._pen = QPen(state.pen())
        if changed & BRUSH:
            self._brush = QBrush(state.brush())
        if changed & OPACITY:
            self._opacity = state.opacity()
        if changed & HINTS:
            self._smooth = bool(state.renderHints() & QPainter.RenderHint.Antialiasing)
        if changed & CLIPPING:
            self._clipping, self._seen_now = state.isClipEnabled(), None
        if changed & REGION:
            region = QPainterPath()
            region.addRegion(state.clipRegion())
            self._narrow(state.clipOperation(), region)
        if changed & CLIP:
            self._narrow(state.clipOperation(), QPainterPath(state.clipPath()))

    def _narrow(self, operation: Qt.ClipOperation, clip: QPainterPath) -> None:
        clip = self._transform.map(clip)
        if operation == Qt.ClipOperation.NoClip:
            self._clip = None
        elif operation == Qt.ClipOperation.IntersectClip and self._clip is not None:
            self._clip = self._clip.intersected(clip)
        else:
            self._clip = clip
        self._clipping, self._seen_now = operation != Qt.ClipOperation.NoClip, None

    def _seen(self) -> QPainterPath:
        """What of the widget is seen, and of that what it paints on."""
        if self._seen_now is None:
            self._seen_now = QPainterPath()
            self._seen_now.addRect(self._visible)
            if self._clipping and self._clip is not None:
                self._seen_now = self._seen_now.intersected(self._clip)
        return self._seen_now

    def _keep(self, path: QPainterPath, pen: QPen, brush: QBrush, words: str = "") -> None:
        clip = self._seen()
        if clip.isEmpty():
            return
        drawn = pen.style() != Qt.PenStyle.NoPen
        if drawn and not pen.isCosmetic() and not uniform(self._transform):
            # What is drawn is not equally wide in all directions, so it is kept as what is filled.
            self._keep(path, QPen(Qt.PenStyle.NoPen), brush)
            self._keep(QPainterPathStroker(pen).createStroke(path), QPen(Qt.PenStyle.NoPen), QBrush(pen.brush()))
            return
        width = pen.widthF() or 1.0
        if not pen.isCosmetic():
            width *= math.sqrt(abs(self._transform.determinant()))
        pen = QPen(pen)
        pen.setWidthF(width)
        pen.setCosmetic(False)
        path = bounded(self._transform.map(path), clip.boundingRect(), line=brush.style() == Qt.BrushStyle.NoBrush)
        if path.isEmpty():
            return
        if drawn and not self._smooth:  # Qt paints the pixels below and to the right of such lines
            path.translate(0.5, 0.5)
        self._shapes.append(Shape(path, pen, brush, clip, self._opacity, words))

    def drawPath(self, path: QPainterPath) -> None:
        self._keep(path, self._pen, self._brush)

    def drawPolygon(self, points: Sequence[QPointF], mode: QPaintEngine.PolygonDrawMode) -> None:
        path = QPainterPath(points[0])
        for point in points[1:]:
            path.lineTo(point)
        if mode == QPaintEngine.PolygonDrawMode.PolylineMode:
            self._keep(path, self._pen, QBrush())
            return
        path.closeSubpath()
        if mode == QPaintEngine.PolygonDrawMode.WindingMode:
            path.setFillRule(Qt.FillRule.WindingFill)
        self._keep(path, self._pen, self._brush)

    def drawLines(self, lines: Sequence[QLineF]) -> None:
        path = QPainterPath()
        for line in lines:
            path.moveTo(line.p1())
            path.lineTo(line.p2())
        self._keep(path, self._pen, QBrush())

    def drawTextItem(self, at: QPointF, item: QTextItem) -> None:
        font = QFont(item.font())
        if font.pixelSize() < 0:
            font.setPixelSize(round(font.pointSizeF() * PIXELS_AN_INCH / 72))
        path = QPainterPath()
        path.setFillRule(Qt.FillRule.WindingFill)
        path.addText(at, font, item.text())
        if font.underline():
            path.addRect(at.x(), at.y() + 1, item.width(), 1)
        self._keep(path, QPen(Qt.PenStyle.NoPen), QBrush(self._pen.color()), item.text())

    def drawPixmap(self, rect: QRectF, pixmap: QPixmap, source: QRectF) -> None:
        part = pixmap.copy(source.toAlignedRect()).toImage()
        clip = self._seen()
        if not clip.isEmpty():
            self._shapes.append(Placed(part, QRectF(rect), QTransform(self._transform), clip, self._opacity))


def uniform(t: QTransform) -> bool:
    """Whether it makes all directions longer alike."""
    along, across = math.hypot(t.m11(), t.m12()), math.hypot(t.m21(), t.m22())
    return abs(along - across) < 1e-3 * max(along, across) and abs(t.m11() * t.m21() + t.m12() * t.m22()) < 1e-3


def bounded(path: QPainterPath, seen: QRectF, *, line: bool) -> QPainterPath:
    """Without what lies far beyond what is seen of it: of a curve that was zoomed a thousand times, others know such
    places to some pixels only. Nothing where it ends at no number at all."""
    whole = path.controlPointRect()
    if not all(map(math.isfinite, (whole.x(), whole.y(), whole.width(), whole.height()))):
        return QPainterPath()
    if max(-whole.left(), -whole.top(), whole.right(), whole.bottom()) < FAR:
        return path
    area = seen.adjusted(-BESIDE, -BESIDE, BESIDE, BESIDE)
    if not line:
        inner = QPainterPath()
        inner.addRect(area)
        return path.intersected(inner)
    inner, end = QPainterPath(), None
    for polygon in path.toSubpathPolygons():
        for begin, to in zip(polygon, list(polygon)[1:]):
            if (part := within(begin, to, area)) is None:
                continue
            if end is None or part[0] != end:
                inner.moveTo(part[0])
            inner.lineTo(part[1])
            end = part[1]
        end = None
    return inner


def within(begin: QPointF, end: QPointF, area: QRectF) -> tuple[QPointF, QPointF] | None:
    """The part of a line that lies in an area (Liang and Barsky, ACM Transactions on Graphics 3 (1984) 1)."""
    first, last = 0.0, 1.0
    step = end - begin
    for way, room in (
        (-step.x(), begin.x() - area.left()),
        (step.x(), area.right() - begin.x()),
        (-step.y(), begin.y() - area.top()),
        (step.y(), area.bottom() - begin.y()),
    ):
        if way < 0:
            first = max(first, room / way)
        elif way > 0:
            last = min(last, room / way)
        elif room < 0:
            return None
    if first > last:
        return None
    return (begin + step * first if first > 0 else begin, begin + step * last if last < 1 else end)


def inside(shape: Shape | Placed) -> bool:
    """Whether all of it is within its clip, which then is not needed."""
    if not isinstance(shape, Shape):
        return bool(shape.clip.contains(shape.transform.mapRect(shape.rect)))
    wide = shape.pen.widthF() if shape.pen.style() != Qt.PenStyle.NoPen else 0.0
    return bool(shape.clip.contains(shape.outline.boundingRect().adjusted(-wide, -wide, wide, wide)))


def shape_attributes(shape: Shape) -> dict[str, str]:
    pen, filled = shape.pen, shape.brush.style() != Qt.BrushStyle.NoBrush
    attributes = {"d": path_data(shape.outline), **paint("fill", shape.brush.color() if filled else None)}
    if filled and shape.outline.fillRule() == Qt.FillRule.OddEvenFill:
        attributes["fill-rule"] = "evenodd"
    if shape.words.strip():
        attributes["aria-label"] = printable(shape.words)
    if pen.style() == Qt.PenStyle.NoPen:
        return attributes
    attributes |= {
        **paint("stroke", pen.color()),
        "stroke-width": figure(pen.widthF()),
        "stroke-linecap": CAPS.get(pen.capStyle(), "butt"),
        "stroke-linejoin": JOINS.get(pen.joinStyle(), "miter"),
    }
    if pattern := pen.dashPattern():
        attributes["stroke-dasharray"] = " ".join(figure(each * pen.widthF()) for each in pattern)
    return attributes


def image_attributes(placed: Placed) -> dict[str, str]:
    t, rect = placed.transform, placed.rect
    moved = " ".join(f"{v:.6g}" for v in (t.m11(), t.m12(), t.m21(), t.m22(), t.dx(), t.dy()))
    place = dict(zip(("x", "y", "width", "height"), map(figure, (rect.x(), rect.y(), rect.width(), rect.height()))))
    encoded = b64encode(png(placed.image)).decode()
    return place | {
        "transform": f"matrix({moved})",
        "preserveAspectRatio": "none",
        "href": f"data:image/png;base64,{encoded}",
    }


def png(image: QImage) -> bytes:
    """It as a file."""
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    return data.data()


def paint(what: str, colour: QColor | None) -> dict[str, str]:
    """The attributes of a fill or a stroke."""
    if colour is None or not colour.alpha():
        return {what: "none"}
    clear = {} if colour.alpha() == 255 else {f"{what}-opacity": figure(colour.alphaF())}
    return {what: colour.name(), **clear}


def figure(value: float) -> str:
    """To a hundredth, as short as can be."""
    text = f"{value:.2f}".rstrip("0").rstrip(".")
    return "0" if text == "-0" else text


def path_data(path: QPainterPath) -> str:
    """The outline in SVG's own letters: from each point to the next, in hundredths of a pixel, as short as can be, as
    letters have many curves."""
    Element = QPainterPath.ElementType
    parts: list[str] = []
    here, begun = (0, 0), (0, 0)
    n, count = 0, path.elementCount()

    def point(number: int) -> tuple[int, int]:
        element = path.elementAt(number)
        return round(100 * element.x), round(100 * element.y)

    while n < count:
        kind, to = path.elementAt(n).type, point(n)
        if kind == Element.MoveToElement:
            if n > 1 and here == begun:
                parts.append("z")
            parts.append("M" + steps([to], (0, 0)))
            begun = to
        elif kind == Element.LineToElement:
            parts.append("l" + steps([to], here))
        else:
            first, second, to = to, point(n + 1), point(n + 2)
            parts.append(curve(here, first, second, to))
            n += 2
        here = to
        n += 1
    if count > 1 and here == begun:
        parts.append("z")
    return "".join(parts)


def curve(begin: Point, first: Point, second: Point, end: Point) -> str:
    """A cubic curve, or a quadratic one where it is no more than that, as those of most fonts are."""
    control = [((3 * first[k] - begin[k]) / 2, (3 * second[k] - end[k]) / 2) for k in (0, 1)]
    if all(abs(one - other) <= 3 for one, other in control):
        middle = (round(sum(control[0]) / 2), round(sum(control[1]) / 2))
        return "q" + steps([middle, end], begin)
    return "c" + steps([first, second, end], begin)


def steps(points: Sequence[Point], begin: Point) -> str:
    """From a point to others, given in hundredths of a pixel; a minus parts figures as well as a blank does."""
    text = ""
    for at in points:
        for k in (0, 1):
            number = f"{(at[k] - begin[k]) / 100:.7g}".replace("0.", ".", 1 if abs(at[k] - begin[k]) < 100 else 0)
            text += number if not text or number[0] == "-" else f" {number}"
    return text


def printable(text: str) -> str:
    """Without the signs that no XML may hold."""
    return "".join(c for c in text if c.isprintable())


def drawing_of(widget: QWidget, part: QRect | None = None) -> Drawing:
    """What a widget shows, or a part of it."""
    shown = part or widget.rect()
    drawing = Drawing(shown.width(), shown.height())
    painter = QPainter(drawing)
    paint_widget(widget, painter, drawing.recorder, -shown.topLeft(), QRect(QPoint(), shown.size()))
    painter.end()
    return drawing


def drawing_of_scene(scene: QGraphicsScene, part: QRectF) -> Drawing:
    """A part of a scene, as large as it is."""
    drawing = Drawing(math.ceil(part.width()), math.ceil(part.height()))
    painter = QPainter(drawing)
    scene.render(painter, QRectF(0, 0, part.width(), part.height()), part)
    painter.end()
    return drawing


def paint_widget(widget: QWidget, painter: QPainter, recorder: Recorder, at: QPoint, around: QRect) -> None:
    """Paint it at a place, and what is in it, as far as it lies in what is seen of what is around."""
    visible = QRect(at, widget.size()).intersected(around)
    if visible.isEmpty():
        return
    recorder.show(QRectF(visible))
    # A view with a scene has its own `render`, which leaves out what lies in front of the scene.
    QWidget.render(widget, painter, at, QRegion(widget.rect()), QWidget.RenderFlag(0))
    for child in widget.children():
        if isinstance(child, QWidget) and child.isVisible() and not child.isWindow():
            paint_widget(child, painter, recorder, at + child.pos(), visible)
