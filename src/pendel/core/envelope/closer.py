"""A stretch of a trip in detail: the drive that an envelope was made of, on its bench, led through the speed and the
torque of the trip."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np

from pendel.core.catalogue.electrical.dc_source import KIND as SOURCE
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, End
from pendel.core.drive.file import load
from pendel.core.envelope.bench import bench_of
from pendel.core.envelope.origin import FILE, MACHINE, path_of
from pendel.core.errors import DriveProblem, ExpressionProblem
from pendel.core.quantities.expressions import evaluate, read
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import figure, si_unit, unit
from pendel.core.runs.record.kept import KeptRun
from pendel.core.system.fold import PER, TORQUE

MOST_CORNERS = 300
LONGEST = 60.0
"""s. More is a trip."""
LEAD = 0.5
"""s for which the first speed and torque are held, so that the drive's own states come to them."""
BESIDE = 38
"""Steps of the sheet from the machine to its bench."""
TORQUE_UNIT = "N·m"
TO = "profile"
"""The block that asks for the torque of the trip."""


def with_origin(drive: Drive) -> list[str]:
    """Cards of a trip that were made of another drive."""
    return [key for key, card in drive.cards.items() if card.made_from.get(MACHINE)]


def in_detail(trip: Drive, run: KeptRun, card: str, start: float, end: float, folder: Path | None) -> Drive:
    """The drive that a card was made of, from its file in ``folder``, from ``start`` to ``end`` (s) of a run of the
    trip: it begins `LEAD` before, at the first speed and torque, and takes the speed from a bench. Its link is the
    trip's at the start, where one source feeds it.

    Raises
    ------
    DriveProblem
        where the card was made of none, the file is not there, or the span is not of the run. A file that was changed
        since is taken as it is now; the card's page says so.
    FileProblem
    """
    if card not in trip.cards:
        raise DriveProblem(f"There is no card “{card[:40]}”. Those that can be looked at: {words_of(trip)}.")
    record = trip.cards[card]
    name = record.name
    if card not in with_origin(trip):
        raise DriveProblem(
            f"{name} was made of no other drive, so there is nothing to look at in detail. Those that were: "
            f"{words_of(trip)}. “Make envelope” in the detailed drive makes such a card."
        )
    if not (0 <= start < end <= run.end * (1 + 1e-9)) or end - start > LONGEST:
        raise DriveProblem(
            f"From {figure(start, 's', 6)} to {figure(end, 's', 6)} is no span to look at in detail. Take one of the "
            f"run, which ends at {figure(run.end, 's', 6)}, of {figure(LONGEST, 's')} at most."
        )
    path = path_of(record.made_from, folder)
    if path is None:
        file = Path(record.made_from.get(FILE, "")).name or "The drive it was made of"
        raise DriveProblem(f"{file} is not beside this drive, so {name} cannot be looked at in detail. Put it there.")
    detailed, torque_end = load(path), record.made_from.get(TORQUE, "")
    bench = bench_of(detailed, record.made_from[MACHINE], torque_end)
    per = per_of(record.made_from.get(PER, ""), bench.unit)
    if per is None:
        raise DriveProblem(
            f"{path.name} is asked for in {bench.unit or 'no unit'}, not in {TORQUE_UNIT}, and its envelope does not "
            "say which torque comes of that, or it was not in proportion. Recreate the envelope, or from where a "
            "torque is asked for."
        )
    t = times_of(run, start, end)
    speed, torque = (run.trace(f"{card}.{signal}").at(t) for signal in ("speed", "torque"))
    made = bench.drive
    commands.set_profile(made, bench.holder, corners(t - start, speed, "rad/s")).apply(made)
    commands.set_kind(made, bench.asked, TO, "profile").apply(made)
    asked_for, machine = detailed.cards[End.parse(torque_end).card], made.cards[bench.machine]
    made.cards[bench.asked] = replace(
        made.cards[bench.asked], values={}, name="Torque of the trip", x=asked_for.x, y=asked_for.y
    )
    asked_in = "N*m" if bench.unit == TORQUE_UNIT else si_unit(unit(bench.unit)[1])
    commands.set_profile(made, bench.asked, corners(t - start, torque / per, asked_in)).apply(made)
    made.cards[bench.holder] = replace(
        made.cards[bench.holder], name="Speed of the trip", x=machine.x + BESIDE, y=machine.y
    )
    sources = [key for key in bench.sources if made.cards[key].kind == SOURCE.id]
    if len(sources) == 1:
        power, current = (float(run.trace(f"{card}.{signal}").at(t[:1])[0]) for signal in ("link_power", "current"))
        if abs(current) > 1e-9:
            commands.set_value(made, sources[0], "U_0", f"{power / current:.6g} V").apply(made)
    made.settings["until"] = f"{LEAD + end - start:.9g} s"
    made.settings["title"] = f"{name}, {figure(start, 's', 6)} to {figure(end, 's', 6)} of its trip"
    return made


def per_of(text: str, asked_in: str) -> float | None:
    """Torque (N·m) for one (SI) of what is asked for in that unit; None where nobody says."""
    if asked_in == TORQUE_UNIT:
        return 1.0
    try:
        per = evaluate(read(text), Names({}), text).si if text else 0.0
    except ExpressionProblem:
        return None
    return per if math.isfinite(per) and per != 0 else None


def words_of(trip: Drive) -> str:
    return ", ".join(with_origin(trip)) or "none"


def times_of(run: KeptRun, start: float, end: float) -> np.ndarray:
    """Recorded times within a span, its ends among them, thinned."""
    own = run.rows[:, 0]
    inside = own[(own > start) & (own < end)]
    if len(inside) > MOST_CORNERS - 2:
        inside = np.linspace(start, end, MOST_CORNERS)[1:-1]
    return np.unique(np.concatenate([[start], inside, [end]]))


def corners(t: np.ndarray, y: np.ndarray, unit: str) -> list[tuple[str, str]]:
    """Of a profile that first holds for `LEAD`."""
    first = [("0 s", f"{y[0]:.9g} {unit}")]
    return first + [(f"{LEAD + at:.9g} s", f"{value:.9g} {unit}") for at, value in zip(t, y)]
