"""Colours, fonts and the style sheet, all from one set of tokens; light and dark."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication, QLabel, QProxyStyle


@dataclass(frozen=True)
class Tokens:
    paper: str = "#F7F4EC"
    side: str = "#FBF9F3"
    card: str = "#FFFFFF"
    hairline: str = "#D9D4C7"
    bar: str = "#EFEADD"
    ink: str = "#1E2A32"
    muted: str = "#5C6B73"
    petrol: str = "#0F6B6B"
    petrol_tint: str = "#E4EFEC"
    brass: str = "#B07A1E"
    brass_text: str = "#8A5E12"
    brass_tint: str = "#F7EEDB"
    brick: str = "#B3402A"
    brick_tint: str = "#F8E5E0"
    moss: str = "#4F7A3A"
    moss_tint: str = "#EBF2E6"
    plot: str = "#FFFFFF"
    on_petrol: str = "#FFFFFF"
    on_brass: str = "#FFFFFF"
    traces: tuple[str, ...] = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#56B4E9", "#E69F00")
    """Okabe-Ito without yellow, in the order in which traces take them."""
    further: tuple[str, ...] = ("#6A3D9A", "#8C564B", "#7F7F00", "#C2185B", "#5B6B73")
    """For what comes after these and the ink: told apart by their names beside them rather than by hue alone."""
    strong: str = "#0072B2"
    """Of two traces of one kind, the one that counts; ``pale`` is what it is compared with."""
    pale: str = "#56B4E9"
    contrast: str = "#D55E00"


LIGHT = Tokens()
DARK = Tokens(
    paper="#1B2226",
    side="#20282C",
    card="#283136",
    hairline="#3C474D",
    bar="#252D31",
    ink="#E8E4DA",
    muted="#9FADB3",
    petrol="#4FB3AC",
    petrol_tint="#23403F",
    brass="#D9A648",
    brass_text="#E3B661",
    brass_tint="#3D3420",
    brick="#E07A63",
    brick_tint="#452A24",
    moss="#8FBF76",
    moss_tint="#2A3826",
    plot="#20282C",
    on_petrol="#10201F",
    on_brass="#231A08",
    traces=("#56B4E9", "#E69F00", "#009E73", "#CC79A7", "#D55E00", "#4C8FC9"),
    further=("#B39DDB", "#C8A08C", "#C0CA33", "#F06292", "#90A4AE"),
    strong="#56B4E9",
    pale="#4C7F9E",
    contrast="#E69F00",
)

_current = LIGHT


def tokens() -> Tokens:
    return _current


def trace_colour(number: int) -> str:
    shades = (*tokens().traces, tokens().ink, *tokens().further)
    return shades[number % len(shades)]


def load_fonts() -> None:
    folder = resources.files("pendel.app").joinpath("fonts")
    for entry in folder.iterdir():
        if entry.name.endswith((".otf", ".ttf")):
            QFontDatabase.addApplicationFontFromData(entry.read_bytes())


def font(size: float = 12, *, bold: bool = False, italic: bool = False) -> QFont:
    chosen = QFont("B612")
    chosen.setPixelSize(round(size))
    chosen.setBold(bold)
    chosen.setItalic(italic)
    return chosen


def code_font(size: float = 12) -> QFont:
    chosen = QFont("JetBrains Mono")
    # Code is shown letter by letter: no ligatures that turn "->" into an arrow.
    chosen.setFeature(QFont.Tag("calt"), 0)
    chosen.setPixelSize(round(size))
    return chosen


def colour(name: str) -> QColor:
    return QColor(getattr(tokens(), name))


def desktop_tokens(application: QApplication) -> Tokens:
    """The variant the desktop asks for."""
    return DARK if application.styleHints().colorScheme() is Qt.ColorScheme.Dark else LIGHT


class PlainLabels(QProxyStyle):
    """Fusion, with every label plain text: also those of message boxes and tooltips, which show names and
    notes out of files."""

    def __init__(self) -> None:
        super().__init__("Fusion")

    def polish(self, thing):  # type: ignore[no-untyped-def,override]
        if isinstance(thing, QLabel):
            thing.setTextFormat(Qt.TextFormat.PlainText)
        return super().polish(thing)


def dress(application: QApplication, variant: Tokens | None = None) -> None:
    """Fonts, palette and style sheet; ``variant`` is the desktop's unless one is given."""
    global _current
    load_fonts()
    _current = variant or desktop_tokens(application)
    t = _current
    application.setStyle(PlainLabels())
    palette = QPalette()
    for role, value in (
        (QPalette.ColorRole.Window, t.paper),
        (QPalette.ColorRole.WindowText, t.ink),
        (QPalette.ColorRole.Base, t.card),
        (QPalette.ColorRole.AlternateBase, t.side),
        (QPalette.ColorRole.Text, t.ink),
        (QPalette.ColorRole.Button, t.card),
        (QPalette.ColorRole.ButtonText, t.ink),
        (QPalette.ColorRole.Highlight, t.petrol),
        (QPalette.ColorRole.HighlightedText, t.on_petrol),
        (QPalette.ColorRole.PlaceholderText, t.muted),
        (QPalette.ColorRole.ToolTipBase, t.card),
        (QPalette.ColorRole.ToolTipText, t.ink),
    ):
        palette.setColor(role, QColor(value))
    application.setPalette(palette)
    application.setFont(font(12))
    application.setStyleSheet(style_sheet(t))


def style_sheet(t: Tokens) -> str:
    return "".join(part(t) for part in (frames, buttons, fields, lists, all_else))


def frames(t: Tokens) -> str:
    return f"""
    QWidget {{ color: {t.ink}; font-family: "B612"; font-size: 12px; }}
    QMainWindow, QWidget#page {{ background: {t.paper}; }}
    QMenuBar {{ background: {t.bar}; padding: 2px 6px; }}
    QMenuBar::item {{ padding: 4px 12px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {t.petrol}; color: {t.on_petrol}; }}
    QMenu {{ background: {t.card}; border: 1px solid {t.hairline}; padding: 4px; }}
    QMenu::item {{ padding: 4px 24px 4px 12px; }} QMenu::item:disabled {{ color: {t.muted}; }}
    QMenu::separator {{ height: 1px; background: {t.hairline}; margin: 4px 0; }}
    QWidget#menu {{ background: {t.bar}; }}
    QWidget#header {{ background: {t.card}; border-bottom: 1px solid {t.hairline}; }}
    QWidget#foot {{ background: {t.bar}; border-top: 1px solid {t.hairline}; }}
    QWidget#side {{ background: {t.side}; border-right: 1px solid {t.hairline}; }}
    QWidget#inspector {{ background: {t.card}; border-left: 1px solid {t.hairline}; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollArea > QWidget > QWidget {{ background: transparent; }}
    """


def buttons(t: Tokens) -> str:
    return f"""
    QPushButton {{
        border: 1px solid {t.petrol}; color: {t.petrol}; background: {t.card}; border-radius: 4px;
        padding: 5px 12px;
    }}
    QPushButton:hover, QPushButton:focus {{ background: {t.petrol_tint}; }}
    QPushButton:disabled {{ color: {t.muted}; border-color: {t.hairline}; }}
    QPushButton#primary {{ background: {t.petrol}; color: {t.on_petrol}; font-weight: bold; }}
    QPushButton#primary:disabled {{ background: {t.hairline}; color: {t.muted}; }}
    QPushButton#primary:focus {{ border: 2px solid {t.ink}; }}
    QPushButton#link {{
        border: none; background: transparent; color: {t.petrol}; padding: 2px 0; text-align: left;
    }}
    QPushButton#link:hover, QPushButton#link:focus {{ text-decoration: underline; }}
    QPushButton#tab {{
        border: none; border-bottom: 3px solid transparent; border-radius: 0; background: transparent;
        color: {t.ink}; font-size: 13px; padding: 10px 14px;
    }}
    QPushButton#goal {{ background: {t.card}; border: 1px solid {t.hairline}; border-radius: 4px; text-align: left; }}
    QPushButton#goal:checked {{ background: {t.petrol_tint}; border-color: {t.petrol}; }}
    QPushButton#goal:focus, QPushButton#goal:hover {{ border-color: {t.petrol}; }}
    QPushButton#tab:checked {{ color: {t.petrol}; border-bottom-color: {t.petrol}; font-weight: bold; }}
    QPushButton#tab:focus, QPushButton#tab:hover {{ background: {t.petrol_tint}; }}
    QPushButton#small {{
        border: none; border-bottom: 2px solid transparent; border-radius: 0; background: transparent;
        color: {t.ink}; padding: 5px 8px;
    }}
    QPushButton#small:checked {{ color: {t.petrol}; border-bottom-color: {t.petrol}; font-weight: bold; }}
    QPushButton#small:focus {{ background: {t.petrol_tint}; }}
    QPushButton#level {{ border-color: {t.hairline}; border-radius: 0; color: {t.ink}; padding: 3px 12px; }}
    QPushButton#level[place="first"] {{ border-top-left-radius: 12px; border-bottom-left-radius: 12px; }}
    QPushButton#level[place="last"] {{
        border-top-right-radius: 12px; border-bottom-right-radius: 12px; border-left: none;
    }}
    QPushButton#level[place="middle"] {{ border-left: none; }}
    QPushButton#level[place="only"] {{ border-radius: 12px; }}
    QPushButton#level:checked {{ background: {t.petrol_tint}; color: {t.petrol}; font-weight: bold; }}
    QPushButton#level:focus {{ text-decoration: underline; }}
    """


def fields(t: Tokens) -> str:
    arrow = str(resources.files("pendel.app").joinpath("icons", "down.svg")).replace("\\", "/")
    return f"""
    QLineEdit, QComboBox, QPlainTextEdit, QSpinBox {{
        background: {t.card}; border: 1px solid {t.hairline}; border-radius: 3px; padding: 2px 6px;
        selection-background-color: {t.petrol}; selection-color: {t.on_petrol};
    }}
    QLineEdit:focus, QComboBox:focus, QPlainTextEdit:focus {{ border: 1px solid {t.petrol}; }}
    QLineEdit[usual="true"] {{ color: {t.muted}; font-style: italic; }}
    QLineEdit[wrong="true"] {{ border: 1px solid {t.brass}; background: {t.brass_tint}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({arrow}); width: 10px; height: 6px; }}
    QComboBox QAbstractItemView {{
        background: {t.card}; border: 1px solid {t.hairline}; selection-background-color: {t.petrol_tint};
        selection-color: {t.ink};
    }}
    """


def lists(t: Tokens) -> str:
    return f"""
    QListWidget, QTreeWidget, QTableWidget {{
        background: transparent; border: none; outline: none; alternate-background-color: {t.side};
    }}
    QListWidget:focus, QTreeWidget:focus, QTableWidget:focus {{ border: 1px solid {t.petrol}; }}
    QListWidget::item:selected, QTreeWidget::item:selected, QTableWidget::item:selected {{
        background: {t.petrol_tint}; color: {t.ink};
    }}
    QListWidget::indicator, QTreeWidget::indicator, QTableWidget::indicator {{
        width: 11px; height: 11px; border: 1px solid {t.muted}; border-radius: 2px; background: {t.card};
    }}
    QListWidget::indicator:checked, QTreeWidget::indicator:checked, QTableWidget::indicator:checked {{
        background: {t.petrol}; border-color: {t.petrol};
    }}
    QHeaderView::section {{
        background: transparent; border: none; border-bottom: 1px solid {t.hairline}; padding: 4px;
        color: {t.muted};
    }}
    QTableWidget {{ gridline-color: {t.hairline}; }}
    """


def all_else(t: Tokens) -> str:
    return f"""
    QToolTip {{ background: {t.card}; color: {t.ink}; border: 1px solid {t.hairline}; padding: 4px; }}
    QSplitter::handle {{ background: {t.hairline}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle {{ background: {t.hairline}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QSlider::groove:horizontal {{ height: 3px; background: {t.hairline}; border-radius: 1px; }}
    QSlider::sub-page:horizontal {{ background: {t.petrol}; }}
    QSlider::handle:horizontal {{
        background: {t.card}; border: 2px solid {t.petrol}; width: 12px; height: 12px; margin: -7px 0;
        border-radius: 8px;
    }}
    QSlider::handle:horizontal:focus {{ background: {t.petrol_tint}; border-color: {t.ink}; }}
    QLabel#muted {{ color: {t.muted}; font-size: 11px; }}
    QLabel#heading {{ color: {t.muted}; font-size: 11px; font-weight: bold; }}
    QLabel#title {{ font-size: 16px; font-weight: bold; }}
    QLabel#wrong {{ color: {t.brass_text}; font-size: 11px; }}
    QLabel#figure {{ font-size: 12px; }}
    QLabel#good {{ color: {t.moss}; font-size: 11px; }}
    """
