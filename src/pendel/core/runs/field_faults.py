"""What a field-oriented drive shows after a run: phases swapped, an estimate that ran away, a voltage that
ended."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

import numpy as np

from pendel.core.drive.document import Drive, End
from pendel.core.quantities.units import figure
from pendel.core.runs.kept import KeptRun, Remark
from pendel.core.runs.orientation import some_ticks
from pendel.core.runs.vectors import PHASES, TURN, machines

ALIKE = 0.9
"""Correlation from which two sets of three phases are taken for the same."""
SWAPS: dict[tuple[int, ...], str] = {
    (0, 2, 1): "b and c",
    (1, 0, 2): "a and b",
    (2, 1, 0): "a and c",
    (1, 2, 0): "a, b and c",
    (2, 0, 1): "a, b and c",
}
OFF = 0.15
"""Share of the largest speed of a run by which an estimate may be wrong at its end, rms."""
LATE = 0.25
"""Share of a run, at its end, over which an estimate is judged."""
AT_LIMIT = 0.995
MISSED = 0.1
"""Share of the largest current by which currents miss their setpoints when a voltage at its limit is worth
telling."""
LASTING = 0.05
"""Share of a run, in one piece, for which a voltage must be at its limit to be told."""

FLUXES = ("flux_d", "flux_alpha")
"""Signals of machines that tell their flux."""

Values = Mapping[str, Mapping[str, float]]


def field_faults(run: KeptRun, drive: Drive, values: Values) -> list[Remark]:
    """Remarks on the blocks of field orientation."""
    ticks = some_ticks(run)
    if len(ticks) < 20:
        return []
    sources = {str(w.b): w.a for w in drive.wires.values()}
    found: list[Remark | None] = []
    for key, card in drive.cards.items():
        if card.kind in ("abc_to_dq", "clarke", "rotor_flux_model"):
            found.append(swapped_currents(run, drive, key, sources, ticks))
        elif card.kind == "three_phase_modulator":
            found.append(swapped_voltages(run, drive, key, sources, ticks))
        elif card.kind in ("speed_estimator", "emf_observer"):
            found.append(estimate_off(run, drive, key, sources, ticks))
        elif card.kind in ("dq_current_regulator", "dq_regulator_tables"):
            found.append(voltage_ended(run, drive, key, sources, values[key], ticks))
    told = [remark for remark in found if remark is not None]
    swapped = [remark for remark in told if "swapped" in remark.sentence]
    return swapped or told  # what else is wrong then follows from it


def machine_measured(run: KeptRun, sources: Mapping[str, End], end: End | None) -> str:
    """The three-phase machine a signal comes from, through sensors and blocks of one input; empty where it is
    none."""
    for _ in range(10):
        if end is None:
            return ""
        if end.card in machines(run):
            return end.card
        before = [b for a, b in sources.items() if a.startswith(f"{end.card}.")]
        if len(before) != 1:
            return ""
        end = before[0]
    return ""


def tick_values(run: KeptRun, ends: list[End], ticks: np.ndarray) -> np.ndarray:
    """Signals of the control deck at some ticks, shape (ends, ticks)."""
    return run.on_ticks([str(e) for e in ends], ticks).T


def plant_values(run: KeptRun, machine: str, what: str, ticks: np.ndarray) -> np.ndarray:
    """Three phases of a machine at some ticks, shape (3, ticks)."""
    return run.on_rows([f"{machine}.{what}_{n}" for n in PHASES], run.rows_of(ticks)).T


def mean_voltages(run: KeptRun, machine: str, ticks: np.ndarray) -> np.ndarray:
    """Mean voltage of each phase in the tick from each of ``ticks``, shape (3, ticks), whatever the level of
    detail: the change of its flux, and the drop on the resistance, which the copper loss tells."""
    in_rotor = f"{machine}.flux_d" in run.structure.signals
    names = ["flux_d", "flux_q", "angle_e"] if in_rotor else ["flux_alpha", "flux_beta"]
    names += ["copper_loss", *(f"current_{n}" for n in PHASES)]
    places = run.rows_of(np.concatenate([ticks, ticks + 1]))
    seen = dict(zip(names, run.on_rows([f"{machine}.{n}" for n in names], places).T))
    if in_rotor:
        flux = (seen["flux_d"] + 1j * seen["flux_q"]) * np.exp(1j * seen["angle_e"])
    else:
        flux = seen["flux_alpha"] + 1j * seen["flux_beta"]
    count = len(ticks)
    induced = (flux[count:] - flux[:count]) / run.tick
    current = np.array([seen[f"current_{n}"][:count] for n in PHASES])
    resistance = seen["copper_loss"][:count] / np.maximum(np.sum(current**2, axis=0), 1e-30)
    return np.array([np.real(induced / TURN**n) for n in range(3)]) + resistance * current


def order_of(seen: np.ndarray, true: np.ndarray) -> tuple[int, ...]:
    """Which true phase each seen one is most like, where all three are alike at all; else as it should be. A
    sensor sees no further than its range."""
    furthest = float(np.max(np.abs(seen)))
    true = np.clip(true, -furthest, furthest)
    seen, true = (x - x.mean(axis=0) for x in (seen, true))
    size = np.linalg.norm(seen) * np.linalg.norm(true)
    if size == 0:
        return (0, 1, 2)
    alike = seen @ true.T / size
    fits = {p: sum(float(alike[k, p[k]]) for k in range(3)) for p in itertools.permutations(range(3))}
    best = max(fits, key=lambda p: fits[p])
    return best if fits[best] > ALIKE and fits[(0, 1, 2)] < fits[best] - 0.2 else (0, 1, 2)


def swapped_currents(run: KeptRun, drive: Drive, key: str, sources, ticks: np.ndarray) -> Remark | None:
    ends = [sources.get(f"{key}.{n}") for n in PHASES]
    machine = machine_measured(run, sources, ends[0])
    signals = [e for e in ends if e is not None and str(e) in run.tick_signals]
    if not machine or len(signals) < 3:
        return None
    order = order_of(tick_values(run, signals, ticks), plant_values(run, machine, "current", ticks))
    if order == (0, 1, 2):
        return None
    return Remark(
        f"{drive.cards[key].name}: its currents {SWAPS[order]} are swapped, so that the field it sees "
        "turns the other way round. Swap the wires at its inputs.",
        key,
        0.0,
    )


def swapped_voltages(run: KeptRun, drive: Drive, key: str, sources, ticks: np.ndarray) -> Remark | None:
    known, ends = machines(run), [sources.get(f"{key}.u_{n}") for n in PHASES]
    if len(known) != 1 or not {f"{known[0]}.{n}" for n in FLUXES} & set(run.structure.signals):
        return None
    if any(e is None or str(e) not in run.tick_signals for e in ends):
        return None
    late = ticks[(ticks >= run.delay) & (ticks + 1 < len(run.ticks))]
    demanded = tick_values(run, [e for e in ends if e is not None], late - run.delay)
    order = order_of(demanded, mean_voltages(run, known[0], late))
    if order == (0, 1, 2):
        return None
    machine = drive.cards[known[0]].name
    return Remark(
        f"{drive.cards[key].name}: the voltages {SWAPS[order]} reach {machine} swapped, so that its field "
        "turns against the one demanded. Swap the duties at the inverter or the lines at the machine.",
        key,
        0.0,
    )


def estimate_off(run: KeptRun, drive: Drive, key: str, sources, ticks: np.ndarray) -> Remark | None:
    machine = machine_measured(run, sources, sources.get(f"{key}.a"))
    if not machine:
        return None
    true = run.on_rows([f"{machine}.speed"], run.rows_of(ticks))[:, 0]
    late = ticks >= (1.0 - LATE) * ticks[-1]
    told = run.on_ticks([f"{key}.speed"], ticks)[:, 0]
    gap = np.abs(told - true)[late]
    largest = float(np.max(np.abs(true)))
    off = float(np.sqrt(np.mean(gap**2)))
    if largest == 0 or off < OFF * largest:
        return None
    worst = int(np.flatnonzero(late)[np.argmax(gap)])
    time = float(ticks[worst] * run.tick)
    return Remark(
        f"{drive.cards[key].name}: it has lost the machine: at {figure(time, 's', 3)} it gives "
        f"{figure(float(told[worst]), 'rad/s', 3)} while the shaft turns at "
        f"{figure(float(true[worst]), 'rad/s', 3)}. "
        "Near standstill the voltages tell too little; elsewhere check its resistances and inductances, "
        "and lower its gain.",
        key,
        time,
    )


def voltage_ended(run: KeptRun, drive: Drive, key: str, sources, values, ticks: np.ndarray) -> Remark | None:
    needed = [
        f"{key}.u_d",
        f"{key}.u_q",
        *(str(sources.get(f"{key}.{n}", "")) for n in ("set_d", "set_q", "d", "q")),
    ]
    if any(n not in run.tick_signals for n in needed):
        return None
    u_d, u_q, set_d, set_q, d, q = run.on_ticks(needed, ticks).T
    link = np.full(len(ticks), values["U_dc"])
    measured = str(sources.get(f"{key}.u_link", ""))
    if measured in run.tick_signals:
        seen = run.on_ticks([measured], ticks)[:, 0]
        link = np.where(seen > 0.05 * values["U_dc"], seen, link)
    limit = values["share"] * link / np.sqrt(3.0)
    missed = np.hypot(set_d - d, set_q - q)
    largest = float(np.max(np.hypot(set_d, set_q)))
    ended = (np.hypot(u_d, u_q) >= AT_LIMIT * limit) & (missed > MISSED * largest)
    first, length = longest(ended)
    if largest == 0 or length < LASTING * len(ticks):
        return None
    last = first + length - 1
    time = float(ticks[first] * run.tick)
    return Remark(
        f"{drive.cards[key].name}: the voltage is at its limit of {figure(float(limit[last]), 'V', 3)} for "
        f"{figure(float((ticks[last] - ticks[first]) * run.tick), 's', 3)}, and the currents miss their "
        f"setpoints by {figure(float(missed[last]), 'A', 3)}. "
        "The torque demanded at this speed is beyond the voltage. Weaken the field earlier, demand less "
        "or raise the link voltage.",
        key,
        time,
    )


def longest(mask: np.ndarray) -> tuple[int, int]:
    """Where the longest stretch of true values begins, and how long it is."""
    best = (0, 0)
    at = 0
    for value, group in itertools.groupby(mask.tolist()):
        count = len(list(group))
        if value and count > best[1]:
            best = (at, count)
        at += count
    return best
