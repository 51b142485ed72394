"""Verbs that run a drive."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from pendel.core.drive import commands
from pendel.core.drive.document import Drive
from pendel.core.drive.user_text import near_words, read_figure
from pendel.core.errors import DriveProblem

if TYPE_CHECKING:
    from pendel.core.plant.simulator import Watch
    from pendel.core.runs.record.kept import KeptRun


@dataclass(frozen=True)
class Ran:
    """A run, and which of its signals were requested."""

    run: KeptRun
    signals: list[str]


def run(
    drive: Drive,
    *,
    until: str | None = None,
    signals: Iterable[str] = (),
    unit: Iterable[str] = (),
    watch: Watch | None = None,
) -> Ran:
    """Run a drive.

    Parameters
    ----------
    until
        run length, such as “1.2 s”.
    signals
        keys; all where none is given.
    unit
        ``SIGNAL=UNIT``, to show a signal in another unit than it is declared with.

    Raises
    ------
    DriveHasFindings
        where the drive cannot run.
    DriveProblem
        where it brings C that was not allowed, for a signal it has not, and for a unit of another kind.
    """
    from pendel.core.runs.preparing.simulate import prepare_run, run_drive  # slow to load
    from pendel.core.trust import refuse_strange_c

    if until:
        commands.set_setting(drive, "until", until).apply(drive)
    refuse_strange_c(drive, "add --own-c")
    kept = run_drive(prepare_run(drive), watch=watch)
    wanted = list(dict.fromkeys(signals)) or kept.keys
    for key in wanted:
        if key not in kept.keys:
            raise DriveProblem(
                f"There is no signal {key}.{near_words(key, kept.keys)} There are {', '.join(kept.keys)}."
            )
    for choice in unit:
        key, _, unit_text = choice.partition("=")
        if key not in kept.keys:
            words = f"to report in {unit_text or 'another unit'}. Write SIGNAL=UNIT."
            raise DriveProblem(f"There is no signal {key} {words}")
        kept.units.choose(key, kept.declared_unit(key), unit_text)
    return Ran(kept, wanted)


@dataclass(frozen=True)
class SignalMeasures:
    """One signal between two times, in its shown unit, by the titles of measures; NaN where one means
    nothing."""

    signal: str
    unit: str
    values: dict[str, float]


@dataclass(frozen=True)
class ResponseMeasures:
    """How a signal follows a setpoint, as text with units, by the titles of measures; “–” where one means
    nothing."""

    signal: str
    setpoint: str
    values: dict[str, str]


@dataclass(frozen=True)
class EnergyRow:
    """Mean power (W) and energy (J) that went to one part or one way."""

    what: str
    power: float
    energy: float


@dataclass(frozen=True)
class PowerRow:
    """Of a current with the measured voltage: active power (W), apparent and non-active power (VA), power
    factor."""

    signal: str
    voltage: str
    active: float
    apparent: float
    non_active: float
    factor: float


@dataclass(frozen=True)
class Measured:
    """What signals are between two times (s), and where the energy went."""

    start: float
    end: float
    signals: list[SignalMeasures]
    responses: list[ResponseMeasures]
    powers: list[PowerRow]
    lost: list[EnergyRow]
    sums: list[EnergyRow]
    run: KeptRun
    doubt: str = ""
    """Where more of the energy is not accounted for than figures should leave."""


def measure(
    drive: Drive,
    *,
    until: str | None = None,
    signals: Iterable[str] = (),
    unit: Iterable[str] = (),
    start: str | None = None,
    end: str | None = None,
    setpoint: str | None = None,
    fundamental: str | None = None,
    voltage: str | None = None,
    band: str | None = None,
    watch: Watch | None = None,
) -> Measured:
    """Run a drive and measure its signals between two times.

    Parameters
    ----------
    start, end
        times as text; without them the run's beginning and end.
    setpoint
        a signal that the others follow: how they do is measured as well.
    fundamental
        a frequency as text: its amplitude and the distortion are measured as well.
    voltage
        a signal: the powers that the currents among the signals have with it, over whole periods of the
        fundamental where that is given.
    band
        a share as text, of the step or of the target after a load, in which what follows settles; 2 % without it.

    Raises
    ------
    DriveHasFindings, DriveProblem
        as `run`, and for times that are no span of the run.
    """
    from pendel.core.runs.remarks.balance import balance

    wanted_end, first = read_figure(drive, end, "s", math.inf), read_figure(drive, start, "s", 0.0)
    base, within = read_figure(drive, fundamental, "Hz", 0.0), read_figure(drive, band, "%", 0.02)
    if not 0 < within < 1:
        raise DriveProblem(f"{band} is no band. Write a share between 0 and 100 %, such as 5 %.")
    if not 0 <= first < wanted_end:
        raise DriveProblem(
            f"{start or '0 s'} to {end or 'the end'} is no span. Begin at 0 s or later, and write the "
            "earlier time first."
        )
    if fundamental is not None and base <= 0:
        raise DriveProblem(f"{fundamental} is no fundamental. Write a frequency above 0, such as 50 Hz.")
    ran = run(drive, until=until, signals=signals, unit=unit, watch=watch)
    kept, last = ran.run, min(wanted_end, ran.run.end)
    if not first < last:
        raise DriveProblem(f"The run ends at {kept.end:g} s, before {first:g} s.")
    for name in (setpoint, voltage):
        if name and name not in kept.keys:
            raise DriveProblem(
                f"There is no signal {name}.{near_words(name, kept.keys)} There are {', '.join(kept.keys)}."
            )
    currents = currents_among(ran, voltage) if voltage else []
    kept.fetch([*ran.signals, *([voltage] if voltage else [])])
    lost = balance(kept, first, last)
    return Measured(
        first,
        last,
        [measured_signal(kept, key, first, last, base) for key in ran.signals],
        [measured_response(kept, key, first, last, setpoint, within) for key in ran.signals] if setpoint else [],
        [measured_power(kept, key, first, last, base, voltage) for key in currents] if voltage else [],
        [EnergyRow(each.what, each.power, each.energy) for each in lost.losses],
        [EnergyRow(words, energy / lost.duration, energy) for words, energy in lost.sums],
        kept,
        lost.doubt,
    )


def currents_among(ran: Ran, voltage: str) -> list[str]:
    """Those of its signals that have a power with a voltage. Raises `DriveProblem` where that is none, or no signal
    is a current."""
    unit = ran.run.declared_unit(voltage)
    if unit != "V":
        raise DriveProblem(f"{voltage} is no voltage: its unit is {unit or 'none'}.")
    currents = [key for key in ran.signals if ran.run.declared_unit(key) == "A"]
    if not currents:
        raise DriveProblem(f"None of the signals is a current in A, so {voltage} has no power with them.")
    return currents


def measured_signal(kept: KeptRun, key: str, first: float, last: float, base: float) -> SignalMeasures:
    """Figures of a signal; with a fundamental ``base`` (Hz), its line and the distortion as well."""
    from pendel.core.measures import Place, Span, measures_at
    from pendel.core.runs.found.spectra import spectrum_of
    from pendel.core.runs.record.display_units import factor

    trace = kept.trace(key)
    span, one = Span(kept, key, first, last), factor(trace.unit)
    figures = {}
    for m in measures_at(Place.SIGNAL):
        value, _ = m.shown(span)
        figures[m.title] = math.nan if value is None else value / (one if m.unit is None else factor(m.unit))
    if base:
        lines = spectrum_of(kept, key, first, last, fundamental=base)
        figures |= {"at the fundamental": lines.line(base) / one, "THD %": 100 * lines.distortion(base)}
    return SignalMeasures(key, trace.unit, figures)


def measured_response(
    kept: KeptRun, key: str, first: float, last: float, setpoint: str, band: float
) -> ResponseMeasures:
    from pendel.core.measures import Place, Span, measures_at
    from pendel.core.quantities.units import figure

    span, figures = Span(kept, key, first, last, setpoint, band=band), dict[str, str]()
    if span.move is not None:
        figures["step at"] = figure(span.move.begins, "s", 4)
    for m in measures_at(Place.RESPONSE):
        value = m.value(span)
        figures[m.title_in(band)] = "–" if value is None or math.isnan(value) else figure(value, m.unit_for(span), 4)
    return ResponseMeasures(key, setpoint, figures)


def measured_power(kept: KeptRun, key: str, first: float, last: float, base: float, voltage: str) -> PowerRow:
    from pendel.core.runs.found.powers import powers
    from pendel.core.runs.found.spectra import whole_periods

    power = powers(kept, voltage, key, whole_periods(first, last, base), last)
    return PowerRow(key, voltage, power.active, power.apparent, power.non_active, power.factor)
