"""What a field-oriented drive shows after a run: phases swapped, an estimate that ran away, a voltage that
ended."""

from __future__ import annotations

import itertools

import numpy as np

from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Cause, Remark
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole, ValueRole

PHASES = ("a", "b", "c")
TURN = np.exp(2j * np.pi / 3)
ENOUGH = 20
"""Ticks, below which nothing is said."""
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
SLOW = 1.0
"""rad/s: below it a run's largest speed counts as this, as a share of nothing, or of rounding, says nothing."""
LATE = 0.25
"""Share of a run, at its end, over which an estimate is judged."""
AT_LIMIT = 0.995
MISSED = 0.1
"""Share of the largest current by which currents miss their setpoints when a voltage at its limit is worth
telling."""
LASTING = 0.05
"""Share of a run, in one piece, for which a voltage must be at its limit to be reported."""


def mean_voltages(seen: Seen, machine: str, ticks: np.ndarray) -> np.ndarray:
    """Mean voltage of each phase in the tick from each of ``ticks``, shape (3, ticks), whatever the level of
    detail: the change of its flux, and the drop on the resistance, which the copper loss tells."""
    rotor = seen.signals(machine, SignalRole.FLUX_DQ)
    fluxes = rotor or seen.signals(machine, SignalRole.FLUX_ALPHA_BETA)
    angle = seen.signals(machine, SignalRole.ROTOR_ANGLE) if rotor else []
    loss = seen.signals(machine, SignalRole.COPPER_LOSS)
    currents = seen.signals(machine, SignalRole.PHASE_CURRENT)
    rows = iter(seen.of_plant([*fluxes, *angle, *loss, *currents], np.concatenate([ticks, ticks + 1])))
    flux = next(rows) + 1j * next(rows)
    if rotor:
        flux = flux * np.exp(1j * next(rows))
    count = len(ticks)
    copper = next(rows)[:count]
    current = np.array([phase[:count] for phase in rows])
    induced = (flux[count:] - flux[:count]) / seen.run.tick
    resistance = copper / np.maximum(np.sum(current**2, axis=0), 1e-30)
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


def swapped_currents(seen: Seen, key: str) -> Remark | None:
    """Whether the three currents at the inputs a, b, c of a block are the machine's, in this order."""
    ends = [seen.source(key, n) for n in PHASES]
    machine = seen.machine_measured(ends[0])
    signals = [str(e) for e in ends if e is not None and str(e) in seen.run.tick_signals]
    if not machine or len(signals) < 3 or len(seen.ticks) < ENOUGH:
        return None
    true = seen.of_plant(seen.signals(machine, SignalRole.PHASE_CURRENT), seen.ticks)
    order = order_of(seen.at_ticks(signals, seen.ticks), true)
    if order == (0, 1, 2):
        return None
    return Cause(
        f"{seen.name(key)}: its currents {SWAPS[order]} are swapped, so that the field it sees turns "
        "the other way round. Swap the wires at its inputs.",
        key,
        0.0,
    )


def swapped_voltages(seen: Seen, key: str) -> Remark | None:
    """Whether the voltages at the inputs u_a, u_b, u_c of a modulator reach the drive's only machine in this
    order."""
    run, known = seen.run, seen.three_phase_machines
    ends = [seen.source(key, f"u_{n}") for n in PHASES]
    if len(known) != 1 or not (
        seen.has(known[0], SignalRole.FLUX_DQ) or seen.has(known[0], SignalRole.FLUX_ALPHA_BETA)
    ):
        return None
    signals = [str(e) for e in ends if e is not None and str(e) in run.tick_signals]
    late = seen.ticks[(seen.ticks >= run.delay) & (seen.ticks + 1 < len(run.ticks))]
    if len(signals) < 3 or len(seen.ticks) < ENOUGH or not len(late):
        return None
    order = order_of(seen.at_ticks(signals, late - run.delay), mean_voltages(seen, known[0], late))
    if order == (0, 1, 2):
        return None
    return Cause(
        f"{seen.name(key)}: the voltages {SWAPS[order]} reach {seen.name(known[0])} swapped, so that its "
        "field turns against the one demanded. Swap the duties at the inverter or the lines at the machine.",
        key,
        0.0,
    )


def estimate_off(seen: Seen, key: str) -> Remark | None:
    """Whether the output speed of an estimator is the speed of the machine whose currents it reads."""
    run, ticks = seen.run, seen.ticks
    machine = seen.machine_measured(seen.source(key, "a"))
    if not machine or len(ticks) < ENOUGH:
        return None
    true = seen.of_plant(seen.signals(machine, SignalRole.SPEED), ticks)[0]
    late = ticks >= (1.0 - LATE) * ticks[-1]
    estimate = seen.at_ticks([f"{key}.speed"], ticks)[0]
    gap = np.abs(estimate - true)[late]
    largest = float(np.max(np.abs(true)))
    off = float(np.sqrt(np.mean(gap**2)))
    if off < OFF * max(largest, SLOW):
        return None
    worst = int(np.flatnonzero(late)[np.argmax(gap)])
    time = float(ticks[worst] * run.tick)
    return Remark(
        f"{seen.name(key)}: it has lost the machine: at {figure(time, 's', 3)} it gives "
        f"{figure(float(estimate[worst]), 'rad/s', 3)} while the shaft turns at "
        f"{figure(float(true[worst]), 'rad/s', 3)}. "
        "Near standstill the voltages tell too little; elsewhere check its resistances and inductances, "
        "and lower its gain.",
        key,
        time,
    )


def never_led(seen: Seen, key: str) -> Remark | None:
    """Whether a start without a shaft sensor drags its machine still, at a speed that is the observer's."""
    run, ticks = seen.run, seen.ticks
    asked = str(seen.source(key, "wanted"))
    needed = [asked, f"{key}.leads", f"{key}.field", f"{key}.i_d"]
    if len(ticks) < ENOUGH or any(n not in run.tick_signals for n in needed):
        return None
    wanted, leads, field, current = seen.at_ticks(needed, ticks)
    values = seen.values[key]
    dragged = values["p"] * values["n_over"]
    late = (leads < 0.5) & (np.abs(field) >= 0.999 * dragged) & (np.abs(wanted) >= values["n_over"])
    first, length = longest(late)
    lasted = float((ticks[-1] - ticks[first]) * run.tick)
    if first + length < len(ticks) or lasted < 5 * values["t_agree"]:
        return None
    time = float(ticks[first] * run.tick)
    return Cause(
        f"{seen.name(key)}: from {figure(time, 's', 3)} on the field turns at "
        f"{figure(float(abs(field[-1])) / values['p'], 'rad/s', 3)}, and the observer does not agree: the rotor has "
        f"not followed {figure(float(np.max(np.abs(current))), 'A', 3)}, or the observer does not find it. Raise the "
        "dragging current, speed up more slowly, or hand over at a higher speed.",
        key,
        time,
    )


def voltage_ended(seen: Seen, key: str) -> Remark | None:
    """Whether a current regulator has its voltage at the limit and misses its setpoints for long."""
    run, ticks, kind = seen.run, seen.ticks, seen.kinds[key]
    share, nominal = (
        seen.values[key][kind.value_name(role)] for role in (ValueRole.VOLTAGE_SHARE, ValueRole.LINK_VOLTAGE)
    )
    needed = [
        f"{key}.u_d",
        f"{key}.u_q",
        *(str(seen.source(key, n)) for n in ("set_d", "set_q", "d", "q")),
    ]
    if len(ticks) < ENOUGH or any(n not in run.tick_signals for n in needed):
        return None
    u_d, u_q, set_d, set_q, d, q = seen.at_ticks(needed, ticks)
    link = np.full(len(ticks), nominal)
    measured = str(seen.source(key, "u_link"))
    if measured in run.tick_signals:
        read = seen.at_ticks([measured], ticks)[0]
        link = np.where(read > 0.05 * nominal, read, link)
    limit = share * link / np.sqrt(3.0)
    missed = np.hypot(set_d - d, set_q - q)
    largest = float(np.max(np.hypot(set_d, set_q)))
    ended = (np.hypot(u_d, u_q) >= AT_LIMIT * limit) & (missed > MISSED * largest)
    first, length = longest(ended)
    if largest == 0 or length < LASTING * len(ticks):
        return None
    last = first + length - 1
    time = float(ticks[first] * run.tick)
    return Remark(
        f"{seen.name(key)}: the voltage is at its limit of {figure(float(limit[last]), 'V', 3)} for "
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
