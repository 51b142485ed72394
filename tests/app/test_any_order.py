"""The real window under hands that know nothing: whatever is clicked, dragged, typed and pressed, no exception, and no
edit is lost."""

import sys
import traceback
from random import Random

import pytest
from PyQt6.QtWidgets import QDialog, QFileDialog, QInputDialog, QMessageBox

from pendel.core.drive.file import from_text, to_text
from tests.campaigns.faults.hands import Hands
from tests.campaigns.faults.soak import PAGES, lost_on_the_way_back

from .conftest import settle

MOVES = 70


@pytest.fixture
def answered(monkeypatch, tmp_path):
    """Dialogs are left, and files saved beside the drive."""
    monkeypatch.setattr(QMessageBox, "about", lambda *_: None)
    for kind in (QMessageBox, QDialog):
        monkeypatch.setattr(kind, "exec", lambda *_: 0)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "out.csv"), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(tmp_path / "none.pendel"), ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_, **__: str(tmp_path / "out"))
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("another name", True))


@pytest.mark.parametrize("seed", [1, 2])
def test_nothing_breaks_and_all_can_be_undone(window, answered, monkeypatch, seed):
    broken = []
    monkeypatch.setattr(sys, "excepthook", lambda *what: broken.append("".join(traceback.format_exception(*what))))
    hands = Hands(window, Random(seed), PAGES)
    for _ in range(MOVES):
        what = hands.move()
        assert not broken, f"{what} ({hands.done}): {broken[0]}"
    settle(typing=True)
    window.jobs.stop()
    settle()
    assert not broken, broken[0]
    assert not lost_on_the_way_back(window)
    text = to_text(window.session.drive)
    assert to_text(from_text(text)) == text, "what came of it can be saved and opened"
