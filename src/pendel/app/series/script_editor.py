"""The editor of a script: colours, completion, what a call takes, the line where it failed."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.Qsci import QsciLexerPython, QsciScintilla
from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QKeyEvent

from pendel.app.session.jobs import COMPLETE, End, Job
from pendel.app.session.session import Session
from pendel.app.widgets.theme import code_font, tokens
from pendel.app.widgets.timers import Later
from pendel.remote.completing import Completer

FAILED_LINE, WORDS = 8, 1
"""Numbers of our marker and of our list of words."""
ASK_AFTER_MS = 60
Lexer = QsciLexerPython
POINTS_PER_PIXEL = 0.75
"""At 96 dots an inch. Scintilla knows points alone."""


def editor_font(pixels: float) -> QFont:
    found = code_font(pixels)
    found.setPointSizeF(pixels * POINTS_PER_PIXEL)
    return found


class ScriptEditor(QsciScintilla):
    """``edited``: somebody typed; ``run_wanted``: Ctrl+Enter was pressed."""

    edited = pyqtSignal()
    run_wanted = pyqtSignal()

    def __init__(self, session: Session, names: Callable[[], list[str]]):
        super().__init__()
        self.session, self.names = session, names
        self.setAccessibleName("Script")
        self.setUtf8(True)
        self.setEolMode(QsciScintilla.EolMode.EolUnix)
        self.setIndentationsUseTabs(False)
        self.setTabWidth(4)
        self.setAutoIndent(True)
        self.setIndentationGuides(True)
        self.setBraceMatching(QsciScintilla.BraceMatch.SloppyBraceMatch)
        self.setMarginType(0, QsciScintilla.MarginType.NumberMargin)
        self.setMarginWidth(1, 0)
        self.setCaretLineVisible(True)
        self.setAutoCompletionSource(QsciScintilla.AutoCompletionSource.AcsNone)
        self.setCallTipsStyle(QsciScintilla.CallTipsStyle.CallTipsNone)
        self.markerDefine(QsciScintilla.MarkerSymbol.Background, FAILED_LINE)
        self.SendScintilla(QsciScintilla.SCI_SETWRAPMODE, 0)
        self.SendScintilla(QsciScintilla.SCI_SETHSCROLLBAR, 1)
        self.SendScintilla(QsciScintilla.SCI_SETSCROLLWIDTHTRACKING, 1)
        self.SendScintilla(QsciScintilla.SCI_SETSCROLLWIDTH, 10)
        self._completer = Completer()
        session.at_close.append(self._completer.close)
        self._begun = 0
        self._quiet = False
        self._ask = Later(self, ASK_AFTER_MS, self.complete)
        self.textChanged.connect(self._changed)
        self.userListActivated.connect(self._take_word)
        self.SCN_CHARADDED.connect(self._typed)
        self.dress()

    def dress(self) -> None:
        """Take the colours of the window, for each kind of word."""
        t = tokens()
        lexer = QsciLexerPython(self)
        lexer.setDefaultFont(editor_font(13))
        tints = {
            Lexer.Comment: t.muted,
            Lexer.CommentBlock: t.muted,
            Lexer.Number: t.brass_text,
            Lexer.Keyword: t.petrol,
            Lexer.ClassName: t.strong,
            Lexer.FunctionMethodName: t.strong,
            Lexer.Decorator: t.brass_text,
            Lexer.UnclosedString: t.brick,
        }
        texts = [s for s in range(30) if "string" in lexer.description(s).lower()]
        for style in range(128):  # one that is left out would be black on white
            colour = t.moss if style in texts else tints.get(style, t.ink)
            lexer.setColor(QColor(colour), style)
            lexer.setPaper(QColor(t.card), style)
            font = editor_font(13)
            font.setBold(style == Lexer.Keyword)
            lexer.setFont(font, style)
        self.setLexer(lexer)
        self.setPaper(QColor(t.card))
        self.setColor(QColor(t.ink))
        self.setCaretForegroundColor(QColor(t.ink))
        self.setCaretLineBackgroundColor(QColor(t.bar))
        self.setMarginsBackgroundColor(QColor(t.side))
        self.setMarginsForegroundColor(QColor(t.muted))
        self.setMarginsFont(editor_font(11))
        self.setMarginWidth(0, "00000")
        self.setSelectionBackgroundColor(QColor(t.petrol_tint))
        self.setSelectionForegroundColor(QColor(t.ink))
        self.setMatchedBraceBackgroundColor(QColor(t.brass_tint))
        self.setMatchedBraceForegroundColor(QColor(t.ink))
        self.setUnmatchedBraceForegroundColor(QColor(t.brick))
        self.setUnmatchedBraceBackgroundColor(QColor(t.card))
        self.setIndentationGuidesForegroundColor(QColor(t.hairline))
        self.setIndentationGuidesBackgroundColor(QColor(t.card))
        self.setMarkerBackgroundColor(QColor(t.brick_tint), FAILED_LINE)
        self.setFrameShape(QsciScintilla.Shape.NoFrame)

    def show_text(self, text: str) -> None:
        """Another text; the cursor stays where it can."""
        if text == self.text():
            return
        line, index = self.getCursorPosition()
        self._quiet = True
        try:
            self.setText(text)
        finally:
            self._quiet = False
        line = min(line, max(0, self.lines() - 1))
        self.setCursorPosition(line, min(index, len(self.text(line).rstrip("\n"))))

    def mark_failed(self, line: int) -> None:
        """Mark a line, from 1; 0 marks none."""
        self.markerDeleteAll(FAILED_LINE)
        if line:
            self.markerAdd(line - 1, FAILED_LINE)

    def go_to_line(self, line: int) -> None:
        self.setCursorPosition(max(0, line - 1), 0)
        self.ensureLineVisible(max(0, line - 1))
        self.setFocus()

    def _changed(self) -> None:
        if not self._quiet:
            self.mark_failed(0)
            self.edited.emit()

    # completion ------------------------------------------------------------------

    def _typed(self, letter: int) -> None:
        if chr(letter) in ".('\"" or chr(letter).isalnum():
            self._ask.start()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        with_control = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if with_control and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.run_wanted.emit()
        elif with_control and event.key() == Qt.Key.Key_Space:
            self.complete()
        elif with_control and event.key() == Qt.Key.Key_Slash:
            self.toggle_comment()
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """Ctrl+Enter and Ctrl+Space are the editor's, before any action of the window."""
        if event is not None and event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent):
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier and event.key() in (
                Qt.Key.Key_Return,
                Qt.Key.Key_Space,
                Qt.Key.Key_Slash,
            ):
                event.accept()
                return True
        return bool(super().event(event))

    def toggle_comment(self) -> None:
        """Make the chosen lines comments, or lines again."""
        first, _, last, end = self.getSelection()
        if first < 0:
            first = last = self.getCursorPosition()[0]
        elif end == 0 and last > first:
            last -= 1
        lines = [self.text(n) for n in range(first, last + 1)]
        off = all(line.lstrip().startswith("#") or not line.strip() for line in lines)
        self.beginUndoAction()
        for n, line in zip(range(first, last + 1), lines):
            bare = line.lstrip(" ")
            at = len(line) - len(bare)
            if off and bare.startswith("#"):
                self.setSelection(n, at, n, at + (2 if bare.startswith("# ") else 1))
                self.removeSelectedText()
            elif not off and line.strip():
                self.insertAt("# ", n, at)
        self.endUndoAction()

    def complete(self) -> None:
        """Ask how the line may go on; the answer comes as a list below the cursor."""
        line, column = self.getCursorPosition()
        text, names, place = self.text(), self.names(), (line, column)

        def then(job: Job) -> None:
            if job.end is End.FINISHED and self.hasFocus() and self.getCursorPosition() == place:
                self._offer(job.result)

        self.session.jobs.start(COMPLETE, lambda _: self._completer.ask(text, line + 1, column, names), then)

    def _offer(self, answer: dict[str, object]) -> None:
        words, self._begun = answer["words"], int(str(answer["begun"]))
        assert isinstance(words, list)
        line, column = self.getCursorPosition()
        before = self.text(line)[:column]
        begun = before[column - self._begun :]
        if len(words) == 1 and words[0] == begun:
            words = []
        if words and (self._begun or before[-1:] in (".", '"', "'")):
            self.showUserList(WORDS, words)
        elif answer["call"]:
            at = self.positionFromLineIndex(line, column)
            tip = f"{answer['call']}\n{answer['words_of_call']}".strip()
            self.SendScintilla(QsciScintilla.SCI_CALLTIPSHOW, at, tip.encode())

    def _take_word(self, number: int, word: str) -> None:
        if number != WORDS:
            return
        line, column = self.getCursorPosition()
        self.setSelection(line, column - self._begun, line, column)
        self.replaceSelectedText(word)
