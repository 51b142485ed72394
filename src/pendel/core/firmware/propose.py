"""The narrowest mix of number formats that stays within an error of a run.

Where 16 bits throughout do, they are it. Else every block is narrowed alone among blocks of 32 bits, to see
what that costs, and then as many as stay within it together, the cheapest first. A block that
has no C in fixed point stays in float."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from pendel.core.controllers.numbers.lowering import control_blocks
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import fault
from pendel.core.errors import DriveHasFindings, PendelError, Stopped
from pendel.core.firmware.ship import angles_of, in_float64, signals_of
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.kept import KeptRun

FEW = 16
"""Levels of a signal that is a mode, a sector or a step."""
SPARE = 1.1
"""Where not even 32 bits stay within what is wanted, how much more than theirs an error may be."""
NARROW, WIDE, FLOAT = NumberFormat.FIXED16, NumberFormat.FIXED32, NumberFormat.FLOAT32


@dataclass(frozen=True)
class Narrowed:
    """A block that was tried in 16 bits among blocks of 32: the worst error that alone leaves, at which
    signal, and whether it was taken."""

    block: str
    error: float
    signal: str
    taken: bool


@dataclass(frozen=True)
class ProposedFormats:
    """A format for each block, how far the worst of all signals is from float 64 (rms over its span), and what
    each block cost; ``reasons`` names blocks that have no C in fixed point. ``least`` is the error that
    32 bits leave throughout."""

    formats: dict[str, str]
    error: float
    worst: str
    wanted: float
    least: float
    tried: tuple[Narrowed, ...]
    reasons: dict[str, str]

    @property
    def reached(self) -> bool:
        return self.error <= self.wanted


def errors_of(given: KeptRun, exact: KeptRun, signals: Sequence[str], angles: Collection[str]) -> dict[str, float]:
    """By signal, the rms of its difference in closed loop over its span. Signals of few levels may change a
    tick earlier or later, as where a time falls on a tick."""
    errors = {}
    for signal in signals:
        a, b = given.trace(signal).y, exact.trace(signal).y
        count = min(len(a), len(b))
        a, b = a[:count], b[:count]
        gap = np.abs(np.remainder(a - b + np.pi, 2.0 * np.pi) - np.pi) if signal in angles else np.abs(a - b)
        if count > 2 and len(np.unique(b)) <= FEW:
            earlier, later = np.abs(a[1:-1] - b[:-2]), np.abs(a[1:-1] - b[2:])
            gap = np.minimum(np.minimum(gap[1:-1], earlier), later)
        span = max(float(np.ptp(b)), float(np.max(np.abs(b), initial=0.0)), 1e-300)
        errors[signal] = float(np.sqrt(np.mean(gap * gap))) / (2.0 * np.pi if signal in angles else span)
    return errors


def in_closed_loop(drive: Drive) -> dict[str, float]:
    """By signal of the controller, how far it is from float 64 where both run in closed loop, over the drive's run: rms
    over the signal's span. Empty where the drive cannot run with its controller as shipped."""
    try:
        prepared = prepare(twin(drive, "as modelled", {}))
        shipped = run_drive(prepare(twin(drive, "as shipped", {})))
    except PendelError:
        return {}
    lowered = in_float64(prepared.deck)
    return errors_of(shipped, run_drive(prepared), signals_of(lowered), angles_of(lowered))


def propose_formats(
    drive: Drive,
    wanted: float = 2e-3,
    stopping: Callable[[], bool] = lambda: False,
    report: Callable[[float], None] = lambda share: None,
) -> ProposedFormats:
    """Formats for all blocks of a drive whose ranges were found.

    Parameters
    ----------
    wanted
        the largest rms error of a signal of the controller, in closed loop, over its span.
    stopping
        called between runs.
    report
        called with the fraction of the work that is done.

    Raises
    ------
    Stopped
    DriveHasFindings
        where the drive cannot run, or a block has no C in any format.
    """
    modelled = twin(drive, "as modelled", {})
    prepared = prepare(modelled)
    names = [b.name for b in control_blocks(prepared.deck)]
    if not names:
        raise DriveHasFindings([fault("The control deck is empty: there is no code to make. Add a block.")])
    exact = run_drive(prepared)
    lowered = in_float64(prepared.deck)
    signals = signals_of(lowered)
    angles = angles_of(lowered)
    reasons: dict[str, str] = {}
    count, done = 2 * len(names) + 4, 0

    def tried(mix: Mapping[str, NumberFormat]) -> tuple[float, str]:
        """The worst error of a mix, and its signal."""
        nonlocal done
        if stopping():
            raise Stopped
        run = run_drive(prepare(twin(drive, "as shipped", mix)))
        errors = errors_of(run, exact, signals, angles)
        done += 1
        report(min(1.0, done / count))
        worst = max(errors, key=lambda s: errors[s], default="")
        return errors.get(worst, 0.0), worst

    def mixed(narrow: Collection[str]) -> dict[str, NumberFormat]:
        return {n: FLOAT if n in reasons else NARROW if n in narrow else WIDE for n in names}

    def answer(narrow: Collection[str], least: float, costs: Mapping[str, tuple[float, str]]) -> ProposedFormats:
        error, worst = tried(mixed(narrow))
        rows = tuple(Narrowed(n, *costs[n], n in narrow) for n in sorted(costs, key=lambda n: costs[n]))
        formats = {n: f.value for n, f in mixed(narrow).items()}
        return ProposedFormats(formats, error, worst, wanted, least, rows, reasons)

    while True:  # what has no C in fixed point stays in float
        try:
            all_narrow = tried(mixed(names))[0]
            break
        except DriveHasFindings as problem:
            (name, reason) = next(((f.card, f.sentence) for f in problem.findings), ("", ""))
            if name in reasons or name not in names:
                raise
            reasons[name] = reason
    fixed = [n for n in names if n not in reasons]
    if all_narrow <= wanted or not fixed:
        return answer(fixed, all_narrow, {})
    least = tried(mixed(()))[0]
    allowed = max(wanted, SPARE * least)
    with ThreadPoolExecutor(2) as pool:  # building what is tried takes most of the time, in other processes
        costs = dict(zip(fixed, pool.map(lambda n: tried(mixed((n,))), fixed)))
    narrow = sorted((n for n in fixed if costs[n][0] <= allowed), key=lambda n: costs[n][0])
    while narrow and tried(mixed(narrow))[0] > allowed:
        narrow.pop()
    return answer(narrow, least, costs)


def twin(drive: Drive, controller: str, mix: Mapping[str, NumberFormat]) -> Drive:
    """The drive with its controller as modelled or as shipped in these formats."""
    other = drive.copy()
    other.settings["controller"] = controller
    for name, number in mix.items():
        other.cards[name] = replace(other.cards[name], number_format=number.value)
    return other
