"""What was looked at and what failed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

import pendel

FAILED = Path(__file__).parents[3] / "build" / "truth"
"""Where failing cases are kept."""


@dataclass
class Tally:
    """Of one check: how many cases, the worst figure over what is allowed, and what failed."""

    name: str
    count: int = 0
    worst: float = 0.0
    failed: list[str] = field(default_factory=list)
    skipped: int = 0

    def note(self, share: float, where: str, drive: pendel.Drive | None = None) -> None:
        """``share``: the figure over what is allowed; above 1 it failed."""
        self.count += 1
        self.worst = max(self.worst, share) if share == share else float("inf")
        if not share <= 1:
            self.failed.append(f"{where}: {share:.3g} times what is allowed")
            keep(where, drive)

    def fault(self, where: str, sentence: str, drive: pendel.Drive | None = None) -> None:
        self.count += 1
        self.failed.append(f"{where}: {sentence}")
        keep(where, drive)


class Tallies(dict[str, Tally]):
    """Tallies by name, each there as soon as it is asked for."""

    def __missing__(self, name: str) -> Tally:
        self[name] = Tally(name)
        return self[name]


def keep(where: str, drive: pendel.Drive | None) -> None:
    if drive is not None:
        FAILED.mkdir(parents=True, exist_ok=True)
        drive.save(FAILED / f"{where.split(' ')[0]}.pendel")


def table(tallies: Iterable[Tally]) -> str:
    lines = [f"{'check':<44}{'cases':>7}{'skipped':>9}{'failed':>8}{'worst/allowed':>15}"]
    for t in tallies:
        lines.append(f"{t.name:<44}{t.count:>7}{t.skipped:>9}{len(t.failed):>8}{t.worst:>15.3g}")
        lines += [f"    {sentence}" for sentence in t.failed[:12]]
    return "\n".join(lines)
