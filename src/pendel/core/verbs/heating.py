"""Heat over a duty, from the terminal and from Python."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.catalogue.card_names import names_of
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem, PendelError
from pendel.core.heat.duty import Duty, from_csv, of_type, seconds_of, table
from pendel.core.quantities.named import Names

if TYPE_CHECKING:
    from pendel.core.heat.held import Held
    from pendel.core.heat.over import HeatOver


@dataclass(frozen=True)
class Place:
    """Temperatures (°C) of a body or a port over a duty; ``warmest`` with its ripple, when (s); its limit and how far
    it is used (1: reached), not-a-number without one; the mean heat (W) that goes in, where parts give some."""

    what: str
    signal: str
    begin: float
    end: float
    warmest: float
    at: float
    limit: float
    use: float
    heat: float


@dataclass(frozen=True)
class HeatReport:
    """What a duty does: ``steady`` where it is the cycle that repeats itself; ``factor`` by which a load was multiplied
    until the first limit was reached, where that was asked for; ``run`` has the curves."""

    duty: str
    duration: float
    steady: bool
    places: tuple[Place, ...]
    short_runs: int
    factor: float
    run: None = None
    table: HeatOver | None = None

    def save(self, path: Path) -> None:
        """Write the curves. Raises `FileProblem`."""
        assert self.table is not None
        self.table.save(path)


def duty_of(
    drive: Drive,
    values: Mapping[str, Sequence[str | float]],
    *,
    kind: str = "",
    time: str | float = "",
    share: str | float = "",
    changes: bool = True,
) -> Duty:
    """A duty from columns: ``time`` and targets; or of a ``kind`` (S1 to S7) from a target with load and rest, whose
    changes count as that says, or not at all.

    Raises
    ------
    DriveProblem
        where it is none.
    """
    names = names_of(drive)
    columns = {
        name: [str(v) for v in (texts if isinstance(texts, list | tuple) else [texts])]
        for name, texts in values.items()
    }
    if kind:
        if len(columns) != 1:
            raise DriveProblem(f"A duty {kind} sets one thing under load and at rest; {len(columns)} are given.")
        ((target, texts),) = columns.items()
        length = seconds_of(str(time), names, f"The time of {kind}")
        rest, part = texts[1] if len(texts) > 1 else "0", _share(share, names)
        typed = of_type(kind, target, load=texts[0], rest=rest, time=length, share=part)
        return typed if changes else replace(typed, changes=False)
    lengths = columns.pop("time", [])
    if any(len(column) != len(lengths) for column in columns.values()):
        raise DriveProblem("The columns of a duty are of one length: as many values as times.")
    return table(list(columns), list(zip(lengths, *columns.values())), names, changes=changes)


def _share(given: str | float, names: Names) -> float:
    from pendel.core.quantities.expressions import value_in_field

    if given == "":
        return 0.4
    try:
        return value_in_field(str(given), "", names)
    except PendelError as problem:
        raise DriveProblem(f"The share under load: {problem}") from problem


def heat(
    drive: Drive,
    duty: str | None = None,
    kind: str | None = None,
    load: str | None = None,
    rest: str | None = None,
    time: str | None = None,
    share: str | None = None,
    steady: bool = False,
    rounds: str | None = None,
    highest: str | None = None,
    without_changes: bool = False,
    *,
    progress: Callable[[str], None] = lambda _: None,
) -> HeatReport:
    """Temperatures over a duty: of a table (its text as CSV), or of a type with a load and a rest.

    Raises
    ------
    DriveProblem, DriveHasFindings
    """
    from pendel.core.heat import over
    from pendel.core.series.points import whole_number

    names = names_of(drive)
    if bool(duty) == bool(kind):
        raise DriveProblem("Give a table of the duty, or a type such as S3 with its load.")
    if duty:
        read = replace(from_csv(duty, names), changes=not without_changes)
    else:
        target, equals, text = (load or "").partition("=")
        if not equals:
            raise DriveProblem("A type of duty needs a load, such as torque_demand.after=400 N*m.")
        columns, length = {target.strip(): [text, rest or "0"]}, time or "10 min"
        changes = not without_changes
        read = duty_of(drive, columns, kind=kind or "", time=length, share=share or "", changes=changes)
    count = whole_number("a number of rounds", rounds, 1, over.MOST_TIMES) if rounds else None
    if highest:
        factor, result = over.highest(drive, read, highest, rounds=None if steady else count)
    else:
        factor, result = 1.0, over.heat_over(drive, read, steady=steady, rounds=count or 1, progress=progress)
    return report_of(result, factor)


def report_of(result: HeatOver, factor: float = 1.0) -> HeatReport:
    uses = {use.key: use for use in result.uses}
    means = result.means
    nan = float("nan")
    places = []
    for key, y in result.temperatures.items():
        peaks, use = result.peaks[key], uses.get(key)
        at = int(peaks.argmax())
        limit, share = (use.limit, use.share) if use else (nan, nan)
        places.append(
            Place(
                result.titles[key],
                key,
                float(y[0]),
                float(y[-1]),
                float(peaks[at]),
                float(result.times[at]),
                limit,
                share,
                means.get(key, nan),
            )
        )
    return HeatReport(
        result.duty.name, result.duty.duration, result.steady, tuple(places), result.runs, factor, table=result
    )


def torque_held(
    drive: Drive,
    machine: str,
    torque: str,
    top_torque: str,
    top_speed: str,
    times: Sequence[str] | None = None,
    speeds: str | None = None,
    before: str | None = None,
    *,
    progress: Callable[[str], None] = lambda _: None,
    stopping: Callable[[], bool] = lambda: False,
) -> Held:
    """Torque over speed that the limits of bodies allow, for ever and for times.

    Raises
    ------
    DriveProblem, DriveHasFindings
    """
    from pendel.core.envelope.bench import unit_asked
    from pendel.core.heat.held import MOST_SPEEDS
    from pendel.core.heat.holding import held
    from pendel.core.quantities.expressions import value_in_field
    from pendel.core.series.points import whole_number

    names = names_of(drive)

    def number(text: str, unit: str, what: str) -> float:
        try:
            return value_in_field(str(text), unit, names)
        except PendelError as problem:
            raise DriveProblem(f"{what}: {problem}") from problem

    return held(
        drive,
        machine,
        torque,
        number(top_torque, unit_asked(drive, torque), "The largest torque"),
        number(top_speed, "rad/s", "The largest speed"),
        times=tuple(time_held(text, names) for text in times or (FOR_EVER, "60 s", "10 s")),
        speeds=whole_number("a number of speeds", speeds, 2, MOST_SPEEDS) if speeds else 7,
        before=number(before, "", "What had lasted before") if before else 0.0,
        progress=progress,
        stopping=stopping,
    )


FOR_EVER = "for ever"


def time_held(text: str, names: Names) -> float:
    """``for ever``, or a time above zero (s). Raises `DriveProblem`."""
    return math.inf if text.strip().lower() == FOR_EVER else seconds_of(text, names, "How long it is held")
