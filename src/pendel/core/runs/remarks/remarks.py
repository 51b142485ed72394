"""What a run showed that wants attention, as far as the kinds of its cards look for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, cast

import numpy as np

from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.remarks.seen import Seen, some_ticks
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Cause, Remark
from pendel.core.runs.record.kept import KeptRun


class Asked(Exception):
    """Signals at all rows were asked for that are not known yet."""


class AllRows:
    """A run whose signals at all rows are worked out together for all who ask: one signal takes as long as all do."""

    def __init__(self, run: KeptRun) -> None:
        self._run = run
        self.wanted: dict[str, None] = {}
        self.known: dict[str, np.ndarray] = {}

    def __getattr__(self, name: str) -> Any:
        return getattr(self._run, name)

    def on_rows(self, keys: Sequence[str], places: np.ndarray | slice) -> np.ndarray:
        if not isinstance(places, slice) or places != slice(None):
            return self._run.on_rows(keys, places)
        if any(key not in self.known for key in keys):
            self.wanted |= dict.fromkeys(keys)
            raise Asked
        return np.stack([self.known[key] for key in keys], axis=1)

    def work_out(self) -> None:
        keys = [key for key in self.wanted if key not in self.known]
        self.known |= zip(keys, self._run.on_rows(keys, slice(None)).T)


def remarks_of_kinds(
    run: KeptRun, drive: Drive, kinds: Mapping[str, Kind], values: Mapping[str, Mapping[str, float]]
) -> list[Remark]:
    """Remarks by `Kind.remarks`, card by card; where there is a `Cause`, nothing else, since that follows
    from it."""
    sources = {str(w.b): w.a for w in drive.wires.values()}
    rows = AllRows(run)
    seen = Seen(cast(KeptRun, rows), drive, kinds, values, sources, some_ticks(run))
    looks = [(look, key) for key, kind in kinds.items() for look in kind.remarks]
    found: dict[int, Remark | None] = {}
    while len(found) < len(looks):
        for n, (look, key) in enumerate(looks):
            if n not in found:
                try:
                    found[n] = look(seen, key)
                except Asked:
                    continue
        if len(found) < len(looks):
            rows.work_out()
    remarks = [remark for n in range(len(looks)) if (remark := found[n]) is not None]
    return [r for r in remarks if isinstance(r, Cause)] or remarks
