"""Which signals lie on which strips: the usual ones until somebody chooses, from then on what was chosen, kept from one
start to the next by the drive's file."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from dataclasses import replace

from pendel.app.runs.panels import Panels
from pendel.app.runs.strip_view import view_of
from pendel.app.runs.strips import Strips
from pendel.app.session.session import Session
from pendel.app.session.usual_strips import StripSpec, default_strips, kept_strips, keys_of
from pendel.core.drive.document import renamed_signal
from pendel.core.drive.view_edits import view_of_runs
from pendel.core.drive.views import HIGHEST, LOWEST, MOST_SIGNALS, MOST_STRIPS

MOST_DRIVES = 50
"""Whose strips are kept."""
KEPT = "strips/chosen"


class Arrangement:
    """What lies on the strips of the open drive."""

    def __init__(self, session: Session, strips: Strips, panels: Panels):
        self.session, self.strips, self.panels = session, strips, panels
        self._usual = ""
        """The strips as they were laid out last without anybody choosing."""
        self._laid_out_for = ""
        """The cards that the drive had then."""
        session.opened.connect(self.recall)
        session.card_renamed.connect(self._follow)
        session.file_changed.connect(self.keep)  # it may be saved under another name
        session.changed.connect(lambda touched: self._changed(touched))
        session.view_now = lambda: view_of(strips, chosen=self.chosen, panels=panels.shown())
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
            left = [replace(each, signals=[s for s in each.signals if s in known]) for each in self.strips.specs]
            if any(each.signals for each in left):
                self.strips.specs = [each for each in left if each.signals]
                self.keep()
                return False
        before = written(self.strips.specs)
        self.take_usual()
        return written(self.strips.specs) != before

    def take_kept_or_usual(self) -> None:
        """The strips of the drive's file, or, where these are shown, those that its parts ask for."""
        kept = kept_strips(self.session)
        if not kept or written(kept) == written(self.strips.specs):
            self.take_usual()
        else:
            self.strips.specs = kept
            self.strips.view = view_of_runs(self.session.drive)
            self.keep()

    def take_usual(self) -> None:
        self.strips.specs = default_strips(self.session)
        self._usual = written(self.strips.specs)
        self.keep()

    def _follow(self, old: str, new: str) -> None:
        """A card is called otherwise. What it is called in kept runs stays beside it."""
        if not self.chosen:
            return
        self.strips.specs = [
            StripSpec(
                with_other_name(each.signals, old, new), set(with_other_name(each.setpoints, old, new)), each.height
            )
            for each in self.strips.specs
        ]
        self.keep()

    # From one start to the next.

    def recall(self) -> None:
        """The strips of the drive that was just opened: as they were left here, unless its file has others since, else
        as the file has them. Where nobody chose any, the usual ones are laid out with its first run."""
        ours, base = read_kept(self._kept().get(self._file, ""))
        there = kept_strips(self.session)
        view = view_of_runs(self.session.drive)
        mine = bool(ours) and base == self._base
        kept = ours if mine else there
        self.strips.view = replace(view, strips=()) if mine else view
        self.panels.show(view.panels)
        self._laid_out_for = ""
        self._usual = written([] if kept else self.strips.specs)
        self.strips.specs = kept or self.strips.specs

    def keep(self) -> None:
        """Remember what was chosen, or that the usual strips are shown."""
        path, kept = self._file, self._kept()
        as_in_file = written(self.strips.specs) == written(kept_strips(self.session))
        text = ""
        if self.chosen and self.strips.specs and not as_in_file:
            text = json.dumps({"strips": written(self.strips.specs), "base": self._base})
        if not path or kept.get(path, "") == text:
            return
        kept.pop(path, None)
        if text:
            kept[path] = text
        self.session.settings.setValue(KEPT, json.dumps(dict(list(kept.items())[-MOST_DRIVES:])))

    def _changed(self, touched: set[tuple[str, str]]) -> None:
        """A step of undo, or a program, changed how the drive is looked at."""
        if any(table == "views" for table, _ in touched) and not any(table == "cards" for table, _ in touched):
            self.recall()
            self.strips.changed.emit()

    @property
    def _base(self) -> str:
        """The strips in the drive's file, in few letters."""
        return hashlib.sha256(written(kept_strips(self.session)).encode()).hexdigest()[:16]

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
    return json.dumps([[each.signals, sorted(each.setpoints), each.height] for each in specs])


def read(text: str) -> list[StripSpec]:
    """Strips as `written`; none where they cannot be read."""
    with contextlib.suppress(ValueError, TypeError, RecursionError):
        specs = [
            StripSpec(signals[:MOST_SIGNALS], set(setpoints), *map(float, height))
            for signals, setpoints, *height in json.loads(text or "[]")
        ]
        if all(
            isinstance(s, str) and LOWEST <= each.height <= HIGHEST
            for each in specs
            for s in (*each.signals, *each.setpoints)
        ):
            return [each for each in specs[:MOST_STRIPS] if each.signals]
    return []


def read_kept(text: str) -> tuple[list[StripSpec], str]:
    """Strips from the settings, and what the drive's file had when they were kept."""
    with contextlib.suppress(ValueError, TypeError, RecursionError):
        entry = json.loads(text or "{}")
        if isinstance(entry, dict) and isinstance(entry.get("strips"), str):
            return read(entry["strips"]), str(entry.get("base", ""))
    return [], ""


__all__ = ["Arrangement"]
