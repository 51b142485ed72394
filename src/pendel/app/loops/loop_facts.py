"""What a loop and its model are, in words beside the plots."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from pendel.core.catalogue.index import known_kind
from pendel.core.drive.document import Drive
from pendel.core.loops.regulators.find import Loop
from pendel.core.loops.regulators.measured import Measured, MeasuredDrive
from pendel.core.loops.tuning.tuning import LoopStatus, LoopStudy
from pendel.core.quantities.units import figure, number_text
from pendel.core.runs.preparing.simulate import signal_infos
from pendel.core.runs.record.kept import SignalInfo
from pendel.core.vocabulary import SignalRole


def model_words(study: LoopStudy, unit: str) -> list[tuple[str, str]]:
    """Rows of name and figure; ``unit`` is that of what the regulator gives."""
    if isinstance(study.drive, MeasuredDrive):
        return measured_words(study.drive.measured, unit)
    unstable = int(np.sum(np.abs(study.plant_model.poles) > 1 + 1e-6))
    rows = [
        ("plant states", str(len(study.drive.plant.states))),
        ("all states", str(len(study.drive.names))),
        ("hold and delay", figure(study.delay, "s", 3)),
    ]
    if study.drive.point.calm:  # else the poles are those of an instant
        rows.insert(2, ("unstable", str(unstable or "none")))
    return rows


def still_there(judged: Sequence[LoopStatus], drive: Drive) -> list[LoopStatus]:
    """Loops all of whose signals the drive still has: what was judged last may be of cards that were taken off."""
    infos = signal_infos(drive)
    return [
        each
        for each in judged
        if each.loop.regulator in drive.cards
        and each.loop.actual in infos
        and (each.study is None or each.study.output in infos)
    ]


def watched(loop: Loop, infos: Mapping[str, SignalInfo]) -> SignalInfo:
    """What a loop is about: what comes back from the plant, or what blocks make of it where that is another quantity or
    one axis of several."""
    plant, read = infos.get(loop.actual), infos.get(loop.source)
    if plant is None:  # its card was just taken off
        return read or SignalInfo(loop.actual, *loop.actual.partition(".")[::2], "")
    return read if read is not None and (loop.regulation.axis or read.unit != plant.unit) else plant


def measured_words(measured: Measured, unit: str) -> list[tuple[str, str]]:
    low, high = measured.range
    return [
        ("measured from", figure(low, "Hz", 3)),
        ("to", figure(high, "Hz", 3)),
        ("sines", str(len(measured.frequency))),
        ("amplitude", f"{number_text(measured.amplitude, 3)} {unit}".rstrip()),
        ("harmonics", f"{100 * float(np.median(measured.harmonics)):.2g} %"),
        ("model's states", str(len(measured.plant.states))),
        ("model is off by", f"{100 * measured.off:.2g} %"),
    ]


def tells_an_angle(drive: Drive) -> bool:
    """Whether something in it turns that has a field."""
    roles = (SignalRole.ROTOR_ANGLE, SignalRole.FIELD_ANGLE)
    known = [kind for card in drive.cards.values() if (kind := known_kind(card)) is not None]
    return any(kind.signal_names(role) for kind in known for role in roles)


def limits_reached(drive: Drive, study: LoopStudy) -> str:
    """What is at its limit at the point, in words behind a comma."""
    names = [drive.cards[name].name for name in study.drive.limited() if name in drive.cards]
    return f" · at its limit: {', '.join(names)}; the loop is open there" if names else ""


__all__ = ["limits_reached", "model_words", "tells_an_angle", "watched"]
