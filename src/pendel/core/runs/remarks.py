"""What a run showed that wants attention, as far as the kinds of its cards look for it."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.catalogue.declare import Kind
from pendel.core.catalogue.remarks.seen import Seen, some_ticks
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Cause, Remark
from pendel.core.runs.kept import KeptRun


def remarks_of_kinds(
    run: KeptRun, drive: Drive, kinds: Mapping[str, Kind], values: Mapping[str, Mapping[str, float]]
) -> list[Remark]:
    """Remarks by `Kind.remarks`, card by card; where there is a `Cause`, nothing else, since that follows
    from it."""
    sources = {str(w.b): w.a for w in drive.wires.values()}
    seen = Seen(run, drive, kinds, values, sources, some_ticks(run))
    remarks = [r for key, kind in kinds.items() for look in kind.remarks if (r := look(seen, key)) is not None]
    return [r for r in remarks if isinstance(r, Cause)] or remarks
