"""Which mode of a state machine held when in a run, why it came, and what time and energy fall to each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.own_block import MODES, modes_in
from pendel.core.drive import file
from pendel.core.errors import PendelError
from pendel.core.runs.record.kept import KeptRun


@dataclass(frozen=True)
class Modes:
    """Mode ``number[k]``, of ``names``, holds from ``begins[k]`` (s) to the next; ``reasons[k]`` is the condition by
    which it came, as written; empty for the first."""

    card: str
    title: str
    names: tuple[str, ...]
    begins: np.ndarray
    number: np.ndarray
    reasons: tuple[str, ...]
    end: float

    def at(self, time: float) -> int:
        """The span that holds at a time (s); −1 before the first."""
        return int(np.searchsorted(self.begins, time, side="right")) - 1

    @property
    def ends(self) -> np.ndarray:
        return np.append(self.begins[1:], self.end)


@dataclass(frozen=True)
class ModeFigures:
    """Of one mode between two times: time (s), how often it came, energy (J) of a power where one was asked for."""

    name: str
    time: float
    came: int
    energy: float | None


def state_machines(run: KeptRun) -> dict[str, str]:
    """Cards of a run's state machines with their names."""
    try:
        drive = file.from_text(run.drive_text)
    except PendelError:
        return {}
    return {k: c.name for k, c in drive.cards.items() if c.kind == MODES and f"{k}.mode" in run.tick_signals}


def modes_of(run: KeptRun, card: str) -> Modes:
    """What a state machine did in a run.

    Raises
    ------
    KeyError
        where the run has no such state machine.
    """
    title = state_machines(run)[card]
    own = file.from_text(run.drive_text).cards[card].own
    assert own is not None
    names, changes = modes_in(own)
    trace = run.trace(f"{card}.mode")
    number = np.rint(trace.y).astype(int)
    starts = np.concatenate([[0], np.flatnonzero(np.diff(number)) + 1]) if len(number) else np.empty(0, int)
    held = number[starts]
    why: dict[tuple[str, str], list[str]] = {}
    for before, after, condition in changes:
        why.setdefault((before, after), []).append(condition)
    reasons = [""] + [" or ".join(why.get((names[a], names[b]), [])) for a, b in zip(held, held[1:])]
    return Modes(card, title, tuple(names), trace.t[starts], held, tuple(reasons[: len(held)]), run.end)


def by_mode(run: KeptRun, modes: Modes, start: float, end: float, power: str = "") -> list[ModeFigures]:
    """Time, comings and energy of ``power`` (a signal in W) by mode, between two times (s). A mode that came before
    ``start`` counts as no coming.

    Raises
    ------
    KeyError
        where the run has no such signal.
    """
    low, high = (np.clip(times, start, end) for times in (modes.begins, modes.ends))
    lasts = high - low
    came = (modes.begins >= start) & (modes.begins < end) & (np.arange(len(modes.begins)) > 0)
    spent = _energy(run, power, low, high) if power else None
    figures = []
    for n, name in enumerate(modes.names):
        of = modes.number == n
        energy = None if spent is None else float(spent[of].sum())
        figures.append(ModeFigures(name, float(lasts[of].sum()), int(came[of].sum()), energy))
    return figures


def _energy(run: KeptRun, power: str, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """∫ P dt from each of ``low`` to ``high``. Modes change at ticks, at which steps end: borders are rows."""
    t, y = run.trace(power).drawn
    summed = np.concatenate([[0.0], np.cumsum(np.diff(t) * (y[1:] + y[:-1]) / 2)])
    return np.asarray(np.interp(high, t, summed) - np.interp(low, t, summed))


def powers_of(run: KeptRun) -> list[str]:
    """Signals of a run that are powers, by key."""
    return [key for key, info in run.infos.items() if info.unit in ("W", "kW")]
