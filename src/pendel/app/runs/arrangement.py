"""Which signals lie on which strips: the usual ones until somebody chooses, from then on what was chosen, kept from one
start to the next by the drive's file."""

from __future__ import annotations

import contextlib
import json
import os

from pendel.app.runs.strips import Strips
from pendel.app.session.session import Session
from pendel.app.session.usual_strips import StripSpec, default_strips, keys_of
from pendel.core.drive.document import renamed_signal

MOST_DRIVES = 50
"""Whose strips are kept."""
MOST_STRIPS, MOST_SIGNALS = 40, 60
"""That are taken from the settings, which anybody may have written."""
KEPT = "strips/chosen"


class Arrangement:
    """What lies on the strips of the open drive."""

    def __init__(self, session: Session, strips: Strips):
        self.session, self.strips = session, strips
        self._usual = ""
        """The strips as they were laid out last without anybody choosing."""
        self._laid_out_for = ""
        """The cards that the drive had then."""
        session.opened.connect(self.recall)
        session.card_renamed.connect(self._follow)
        session.file_changed.connect(self.keep)  # it may be saved under another name
        self.recall()

    @property
    def chosen(self) -> bool:
        """Whether somebody chose what is on the strips."""
        return written(self.strips.specs) != self._usual

    @property
    def _cards(self) -> str:
        return ",".join(self.session.drive.cards)

    @property
    def keys_ahead(self) -> list[str]:
        """Signals that the strips will show of the next run."""
        stays = self.chosen or self._cards == self._laid_out_for
        return keys_of(self.strips.specs if stays else default_strips(self.session))

    def lay_out(self) -> bool:
        """Follow the drive, with a run of it there: usual strips are those of its present cards, chosen ones lose what
        no run has any more. Returns whether these are other strips altogether."""
        if self._cards == self._laid_out_for:
            return False
        self._laid_out_for = self._cards
        if self.chosen:
            live = self.session.live
            runs = [*self.session.runs, *([live] if live is not None else [])]
            known = {key for run in runs for key in run.keys}
            left = [StripSpec([s for s in each.signals if s in known], each.setpoints) for each in self.strips.specs]
            if any(each.signals for each in left):
                self.strips.specs = [each for each in left if each.signals]
                self.keep()
                return False
        before = written(self.strips.specs)
        self.take_usual()
        return written(self.strips.specs) != before

    def take_usual(self) -> None:
        self.strips.specs = default_strips(self.session)
        self._usual = written(self.strips.specs)
        self.keep()

    def _follow(self, old: str, new: str) -> None:
        """A card is called otherwise. What it is called in kept runs stays beside it."""
        if not self.chosen:
            return
        self.strips.specs = [
            StripSpec(with_other_name(each.signals, old, new), set(with_other_name(each.setpoints, old, new)))
            for each in self.strips.specs
        ]
        self.keep()

    # From one start to the next.

    def recall(self) -> None:
        """The strips of the drive that was just opened. Where nobody chose any, the usual ones are laid out with its
        first run."""
        kept = read(self._kept().get(self._file, ""))
        self._laid_out_for = ""
        self._usual = written([] if kept else self.strips.specs)
        self.strips.specs = kept or self.strips.specs

    def keep(self) -> None:
        """Remember what was chosen, or that the usual strips are shown."""
        path, kept = self._file, self._kept()
        text = written(self.strips.specs) if self.chosen and self.strips.specs else ""
        if not path or kept.get(path, "") == text:
            return
        kept.pop(path, None)
        if text:
            kept[path] = text
        self.session.settings.setValue(KEPT, json.dumps(dict(list(kept.items())[-MOST_DRIVES:])))

    @property
    def _file(self) -> str:
        """The drive's file, however it was named when it was opened; empty where there is none."""
        return os.path.abspath(self.session.path) if self.session.path is not None else ""

    def _kept(self) -> dict[str, str]:
        with contextlib.suppress(ValueError, TypeError, RecursionError):
            table = json.loads(str(self.session.settings.value(KEPT, "{}")))
            if isinstance(table, dict):
                return {path: text for path, text in table.items() if isinstance(text, str)}
        return {}


def with_other_name(signals: list[str] | set[str], old: str, new: str) -> list[str]:
    """Signals of a card under its new name, too, each behind the one under the old name."""
    return list(dict.fromkeys(name for s in signals for name in (s, renamed_signal(s, old, new))))


def written(specs: list[StripSpec]) -> str:
    return json.dumps([[each.signals, sorted(each.setpoints)] for each in specs])


def read(text: str) -> list[StripSpec]:
    """Strips as `written`; none where they cannot be read."""
    with contextlib.suppress(ValueError, TypeError, RecursionError):
        specs = [StripSpec(signals[:MOST_SIGNALS], set(setpoints)) for signals, setpoints in json.loads(text or "[]")]
        if all(isinstance(s, str) for each in specs for s in (*each.signals, *each.setpoints)):
            return [each for each in specs[:MOST_STRIPS] if each.signals]
    return []


__all__ = ["Arrangement"]
