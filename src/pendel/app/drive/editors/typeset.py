"""Equations as printed mathematics, set beside the window."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import QByteArray, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtSvg import QSvgRenderer
from PyQt6.QtWidgets import QWidget

from pendel.app.session.jobs import TYPESET, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.theme import code_font, colour
from pendel.core.errors import ExpressionProblem
from pendel.core.quantities.expressions import Binary, Call, Name, Negative, Node, Number, read_equation

GREEK = {
    "alpha": "α",
    "beta": "β",
    "gamma": "γ",
    "delta": "δ",
    "eta": "η",
    "theta": "θ",
    "lambda": "λ",
    "mu": "μ",
    "omega": "ω",
    "phi": "φ",
    "psi": "ψ",
    "tau": "τ",
    "sigma": "σ",
}


def mathml_name(name: str) -> str:
    stem, _, index = name.partition("_")
    stem = GREEK.get(stem, stem)
    return f"<msub><mi>{stem}</mi><mi>{index}</mi></msub>" if index else f"<mi>{stem}</mi>"


MOST_WORK = 2000
"""Signs that are laid out for an equation. A row within a row (fractions, powers, roots, and brackets round these) is
laid out twice, once to see how high it is; about a second for so many."""
LINE = 22
"""px of a line that is shown as it was typed."""


def raised(unit: str) -> str:
    return unit.replace("^2", "²").replace("^3", "³")


def row_of(node: Node) -> str:
    """An expression as MathML in one row: fractions upright, derivatives as quotients, indices lowered.

    Only what is above or below a line is a row of its own. Rows within rows are laid out twice each, so that a bracket
    within a bracket would take several times as long."""
    return "".join(_signs(node))


def _signs(node: Node) -> Iterator[str]:
    match node:
        case Number(value, unit):
            yield f"<mn>{value:g}</mn>" + (f"<mspace width='3px'/><mtext>{raised(unit)}</mtext>" if unit else "")
        case Name(name):
            yield mathml_name(name)
        case Negative(operand):
            yield "<mo>−</mo>"
            yield from bracketed(operand, isinstance(operand, Binary) and operand.op in "+-")
        case Binary("/", left, right):
            yield f"<mfrac><mrow>{row_of(left)}</mrow><mrow>{row_of(right)}</mrow></mfrac>"
        case Binary("^", left, right):
            base = "".join(bracketed(left, isinstance(left, Binary | Negative)))
            yield f"<msup><mrow>{base}</mrow><mrow>{row_of(right)}</mrow></msup>"
        case Binary("*", left, right):
            yield from bracketed(left, isinstance(left, Binary) and left.op in "+-")
            yield "<mspace width='2px'/>"
            yield from bracketed(right, isinstance(right, Binary) and right.op in "+-")
        case Binary(op, left, right):
            yield from _signs(left)
            sign = "−" if op == "-" else op
            yield f"<mo>{sign}</mo>"
            yield from bracketed(right, op == "-" and isinstance(right, Binary) and right.op in "+-")
        case Call("der", (Name(name),)):
            yield f"<mfrac><mrow><mi>d</mi>{mathml_name(name)}</mrow><mrow><mi>d</mi><mi>t</mi></mrow></mfrac>"
        case Call("sqrt", (inner,)):
            yield f"<msqrt><mrow>{row_of(inner)}</mrow></msqrt>"
        case Call(function, arguments):
            yield f"<mi mathvariant='normal'>{function}</mi>"
            yield from fenced("<mo>,</mo>".join(map(row_of, arguments)))


def bracketed(node: Node, needed: bool) -> Iterator[str]:
    if needed:
        yield from fenced(row_of(node))
    else:
        yield from _signs(node)


TALL = ("<mfrac", "<msup", "<msqrt")


def fenced(inside: str) -> Iterator[str]:
    """In brackets, which grow with what is within, and with nothing else of the row."""
    if any(tag in inside for tag in TALL):
        yield f"<mrow><mo>(</mo>{inside}<mo>)</mo></mrow>"
    else:
        yield f"<mo stretchy='false'>(</mo>{inside}<mo stretchy='false'>)</mo>"


def work_of(text: str) -> int:
    """How many signs are laid out for an equation in MathML, each as often as the rows it is in."""
    depth = work = 0
    for part in text.split("<")[1:]:
        if part.startswith("mrow"):
            depth += 1
        elif part.startswith("/mrow"):
            depth -= 1
        elif part.startswith(("mi", "mn", "mo", "mtext")):
            work += 2 ** min(depth, 40)
    return work


def typeset(line: str, ink: str) -> bytes | None:
    """SVG of an equation; ``None`` while it cannot be read, or where setting it would take too long."""
    import ziamath  # slow to load

    try:
        left, right = read_equation(line)
        text = f"<math><mrow>{row_of(left)}<mo>=</mo>{row_of(right)}</mrow></math>"
    except (ExpressionProblem, RecursionError):
        return None
    if work_of(text) > MOST_WORK:
        return None
    ziamath.config.svg2 = False
    ziamath.config.math.color = ink
    return ziamath.Math(text, size=17).svg().encode()


class Typeset(QWidget):
    """Equations as printed; one that is too long to be set is shown as it was typed, and one that cannot be read
    not at all. Those that are not known yet are set beside the window; what was asked for last wins."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.lines: tuple[str, ...] = ()
        self.shown: list[QSvgRenderer | str] = []
        self.known: dict[str, bytes | None] = {}

    def show_lines(self, lines: tuple[str, ...]) -> None:
        self.lines = tuple(line for line in lines if line.strip())
        unknown, ink = [line for line in self.lines if line not in self.known], colour("ink").name()
        if not unknown:
            self._arrange()
            return

        def work(job: Job) -> dict[str, bytes | None]:
            return {line: typeset(line, ink) for line in unknown if not job.stopping}

        def then(job: Job) -> None:
            if job.end is End.FINISHED:
                self.known |= job.result
                self._arrange()

        self.session.jobs.start(TYPESET, work, then, at_once=AT_ONCE)

    def _arrange(self) -> None:
        self.shown = []
        for line in self.lines:
            if data := self.known.get(line):
                self.shown.append(QSvgRenderer(QByteArray(data), self))
            elif line in self.known and is_readable(line):
                self.shown.append(line)
        self.setFixedHeight(max(30, sum(self._height(each) + 8 for each in self.shown) + 8))
        self.update()

    @staticmethod
    def _height(each: QSvgRenderer | str) -> int:
        return LINE if isinstance(each, str) else each.defaultSize().height()

    def sizeHint(self) -> QSize:
        return QSize(260, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), colour("side"))
        painter.setFont(code_font(12))
        painter.setPen(colour("ink"))
        y = 6
        for each in self.shown:
            if isinstance(each, str):
                room = QRectF(8, y, self.width() - 16, LINE)
                words = painter.fontMetrics().elidedText(each, Qt.TextElideMode.ElideRight, self.width() - 16)
                painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, words)
            else:
                size = each.defaultSize()
                scale = min(1.0, (self.width() - 16) / max(1, size.width()))
                each.render(painter, QRectF(8, y, size.width() * scale, size.height() * scale))
            y += self._height(each) + 8


AT_ONCE = 0.02
"""s that a key may wait for the equation to be set."""


def is_readable(line: str) -> bool:
    try:
        read_equation(line)
    except ExpressionProblem:
        return False
    return True
