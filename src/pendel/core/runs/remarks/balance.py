"""Where the energy of a run went: what each part lost between two times, and whether all of it adds up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.drive.findings import Remark
from pendel.core.plant.program import BALANCE, FLOWS
from pendel.core.quantities.units import figure
from pendel.core.runs.record.kept import KeptRun

SWITCHED = ".switching_loss"
"""Signals of averaged converters."""
ROUNDING = 1e-9
"""Of the largest loss: what is below is none."""


TOLERATED = 0.01
"""Of the largest flow of energy: what may stay unaccounted for before it is said."""


@dataclass(frozen=True)
class Lost:
    """``what`` names the part, with “switching” where that is it; mean power (W) and energy (J)."""

    what: str
    power: float
    energy: float


@dataclass(frozen=True)
class Balance:
    """Energies between two times (s), in J.

    ``supplied`` by sources = heat of all parts + ``delivered`` to loads + rise of what is ``stored`` +
    ``open``. The last is what the run errs by, or what parts of one's own equations keep to themselves.
    ``switched`` is reckoned from the devices' switching energies beside the circuit: it is a loss, but not
    drawn from the sources.
    """

    losses: tuple[Lost, ...]
    supplied: float
    delivered: float
    stored: float
    heat: float
    switched: float
    duration: float
    largest: float = 0.0
    """Of what a single part supplied, took, stored or turned into heat (J, without sign)."""

    @property
    def sums(self) -> list[tuple[str, float]]:
        """The last lines of a table of losses: their sum, and what that is to be (J)."""
        words = "sum, without switching" if self.switched else "sum"
        return [(words, self.heat), ("fed in − delivered − stored", self.heat + self.open)]

    @property
    def open(self) -> float:
        return self.supplied - self.heat - self.delivered - self.stored

    @property
    def doubt(self) -> str:
        """A sentence where more than `TOLERATED` of the largest flow stays unaccounted for; a run that keeps to its
        tolerance in every state may do so, where powers are small differences of large values."""
        share = abs(self.open) / self.largest if self.largest > 0 else 0.0
        if share <= TOLERATED:
            return ""
        return (
            f"Between these times {figure(100 * share, '', 2)} % of the energy that flowed is not accounted for: means "
            "of small differences of large values, such as a current through a small resistance, may be as far off, "
            "or parts with own equations keep it. Take a smaller tolerance, or shorter fixed steps, to see which."
        )


def balance_keys(run: KeptRun) -> list[str]:
    """Signals that a balance is made of."""
    return [k for k in run.structure.signals if k.partition(":")[0] in BALANCE or k.endswith(SWITCHED)]


def balance(run: KeptRun, start: float, end: float) -> Balance:
    """The energy balance between two times (s), as far as the run goes."""
    start, end = max(start, float(run.rows[0, 0]) if len(run.rows) else 0.0), min(end, run.end)
    if not end > start:
        return Balance((), 0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
    span = end - start
    energies: dict[str, dict[str, float]] = {kind: {} for kind in BALANCE}
    keys = balance_keys(run)
    run.fetch(keys)
    run.fetch_between(k for k in keys if not k.startswith("stored:"))
    for key in (k for k in keys if not k.endswith(SWITCHED)):
        kind, _, card = key.partition(":")
        if kind in FLOWS:
            energies[kind][card] = run.pieces(key).integral(start, end)
        else:
            trace = run.trace(key)
            energies[kind][card] = float(np.diff(np.interp([start, end], trace.t, trace.y))[0])
    names = {info.card_key: info.card for info in run.infos.values()}
    heat = energies["lost"]
    switching = {  # by card, whose name another may have, too
        run.infos[key].card_key: run.pieces(key).integral(start, end) for key in keys if key.endswith(SWITCHED)
    }
    for device in run.devices:
        t, e = run.switchings[device.key]
        spent = float(np.sum(e[(t >= start) & (t < end)]))
        switching[device.card] = switching.get(device.card, 0.0) + spent
    spent_by = [
        *((names.get(card, card), energy) for card, energy in heat.items()),
        *((f"{names.get(card, card)}, switching", energy) for card, energy in switching.items()),
    ]
    minimum = ROUNDING * max((abs(energy) for _, energy in spent_by), default=0.0)
    lost = [Lost(what, energy / span, energy) for what, energy in spent_by if abs(energy) > minimum]
    totals = {kind: sum(of.values()) for kind, of in energies.items()}
    return Balance(
        tuple(sorted(lost, key=lambda each: -each.power)),
        totals["supplied"],
        totals["delivered"],
        totals["stored"],
        totals["lost"],
        sum(switching.values()),
        span,
        max((abs(energy) for of in energies.values() for energy in of.values()), default=0.0),
    )


def unaccounted(run: KeptRun, step: float) -> list[Remark]:
    """What a run in fixed steps says of itself where its energies do not add up: such steps heed no tolerance, and
    pulses begin and end on their grid."""
    whole = balance(run, run.begin, run.end)
    share = abs(whole.open) / whole.largest if whole.largest > 0 else 0.0
    if share <= TOLERATED:
        return []
    sentence = (
        f"Of the energy that flowed {figure(100 * share, '', 2)} % is not accounted for, by the fixed steps of "
        f"{figure(step, 's', 3)}. Losses, and means of small differences of large values, can be far off; "
        "take shorter steps, or another method where such figures count."
    )
    return [Remark(sentence, "", run.end)]


def losses(run: KeptRun, start: float, end: float) -> list[Lost]:
    """All parts that lost something between two times (s), the largest first."""
    return list(balance(run, start, end).losses)
