"""Every method against the L-stable one at a tolerance of 1e-10, and a sample against SciPy, which finds its events
itself."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path
from tempfile import TemporaryDirectory

import casadi as ca
import numpy as np
import scipy.integrate

import pendel
from pendel.core.drive.file import load, save
from pendel.core.equations.context import stacked
from pendel.core.errors import PendelError
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.kept import KeptRun
from tests.campaigns.truth.drives import Case
from tests.campaigns.truth.report import Tallies, Tally

SAMPLES = 301
REFERENCE = "1e-10"
TOLERANCES = {"auto": ("1e-6", "1e-8"), "fast": ("1e-6",)}
TIMES_TOLERANCE = 10.0
FAST_TIMES = 3.0
"""By how much more the fast option may err."""
FROM_TRACES = 0.02
"""How exact the energy is that averaged converters leave open, as found from traces of quotients."""
DISTURBED = 1e-6
"""Of a state's largest value: the difference by which it is found how errors grow."""
RESOLVED = 3e-5
"""Of a state's largest value: how exact a trace is between its points (`FINE`), which bounds what can be compared."""
ENERGY = 1e-5
STEPS = (2e-6, 0.5e-6, 0.125e-6)
"""Of fixed runs (s). The last is asked for where a quarter of the first gains too little: a device that takes over or
not, for lack of a point on the grid, errs by the same until the grid resolves it."""
ORDER_GAIN = 2.2
"""By how much a fixed step's error falls for a quarter of the step, at least; four for order one."""
LEAST = {"psi": 3e-4, "omega": 1e-6, "phi": 1e-6}
"""By the first letters of states: what counts as something. A flux (Wb) of a hundredth of what one pulse of 300 V for
100 us moves: a machine on less carries currents as small as those through blocked devices. Speeds in rad/s, angles in
rad."""
FINELY = 1000
LIMITS_OF_SCIPY = 3000
"""Events."""


def run_with(case: Case, **settings: str) -> KeptRun:
    drive = pendel.Drive(document=case.drive.document.copy())
    for name, text in settings.items():
        drive.set(name, text)
    return run_drive(prepare(drive.document))


def states_at(run: KeptRun, times: np.ndarray) -> np.ndarray:
    """States at times within the run, by the parabola through a trace's points and those half way; shape (times,
    states)."""
    rows, middles, nx = run.expanded, run.half_way, len(run.structure.state_keys)
    t = rows[:, 0]
    k = np.clip(np.searchsorted(t, times, "right") - 1, 0, len(t) - 2)
    span = t[k + 1] - t[k]
    q = np.divide(times - t[k], span, out=np.zeros_like(times), where=span > 0)[:, None]
    a, m, b = (part[:, 1 : 1 + nx] for part in (rows[k], middles[k], rows[k + 1]))
    return a + q * (4 * m - 3 * a - b) + q * q * (2 * a + 2 * b - 4 * m)


def gap(run: KeptRun, wanted: np.ndarray, times: np.ndarray) -> float:
    """Largest difference of any state, over its largest value."""
    got = states_at(run, times)
    names = [key.rpartition(".")[2] for key in run.structure.state_keys]
    minimum = [next((size for begin, size in LEAST.items() if n.startswith(begin)), 1e-9) for n in names]
    sizes = np.maximum(np.max(np.abs(wanted), axis=0), minimum)
    return float(np.max(np.abs(got - wanted) / sizes)) if got.size else 0.0


def compare(case: Case, tallies: Tallies) -> None:
    """One case with all methods."""
    try:
        reference = run_with(case, method="stiff", tolerance=REFERENCE)
    except PendelError as problem:
        tallies["reference"].fault(case.name, str(problem), case.drive)
        return
    if reference.message:
        tallies["reference"].fault(case.name, reference.message, case.drive)
        return
    tallies["reference"].note(0.0, case.name)
    times = np.linspace(0, reference.end, SAMPLES)
    wanted = states_at(reference, times)
    for method, tolerances in TOLERANCES.items():
        for tolerance in tolerances:
            run, tally = (
                run_with(case, method=method, tolerance=tolerance),
                tallies[f"{method} at {tolerance}"],
            )
            if run.message:
                tally.fault(f"{case.name} {method} {tolerance}", run.message, case.drive)
                continue
            allowed = (TIMES_TOLERANCE * float(tolerance) + RESOLVED) * (FAST_TIMES if method == "fast" else 1)
            off = gap(run, wanted, times)
            if off > allowed:
                tallies["drives that let errors grow"].note(0.0, case.name)
                allowed += TIMES_TOLERANCE * float(tolerance) * (growth(case, wanted, times) - 1.0)
            tally.note(off / allowed, f"{case.name} {method} {tolerance}", case.drive)
            if method == "auto":
                energy(case, run, tallies["energy of auto"], tolerance)
    fixed(case, wanted, times, tallies["order of fixed"])


def growth(case: Case, wanted: np.ndarray, times: np.ndarray) -> float:
    """How many times as large as at the start a difference in a state becomes in some state, each over its largest
    value; at least 1. What a method leaves in its first steps grows as much, as where impacts of a play follow each
    other."""
    maximum = 1.0
    for k, size in enumerate(np.max(np.abs(wanted), axis=0)):
        drive = pendel.Drive(document=case.drive.document.copy())
        drive.set("method", "stiff"), drive.set("tolerance", REFERENCE)
        prepared = prepare(drive.document)
        starts = np.array(prepared.starting.values, dtype=float)
        starts[k] += DISTURBED * size
        prepared.__dict__["starting"] = replace(prepared.starting, values=starts)
        run = run_drive(prepared)
        if not run.message:
            maximum = max(maximum, gap(run, wanted, times) / DISTURBED)
    return maximum


def energy(case: Case, run: KeptRun, tally: Tally, tolerance: str) -> None:
    from pendel.core.runs.remarks.balance import balance

    of = balance(run, 0.0, run.end)
    size = max(abs(of.supplied), abs(of.heat), abs(of.delivered), abs(of.stored))
    chokes = open_in_chokes(case, run)
    if size > 0:
        allowed = TIMES_TOLERANCE * float(tolerance) + ENERGY + FROM_TRACES * abs(chokes) / size
        tally.note(
            abs(of.open - chokes) / size / allowed,
            f"{case.name} energy {tolerance}",
            case.drive,
        )


def open_in_chokes(case: Case, run: KeptRun) -> float:
    """What averaged DC converters leave open (J): while the choke's mean current i changes and it conducts for the
    share s of a period, L·(i/s − i)·di (docs/numerics.md)."""
    left = 0.0
    for key, card in case.drive.document.cards.items():
        if run.level == "averaged" and f"{key}.conduction_share" in run.infos:
            current, share = run.trace(f"{key}.choke_current"), run.trace(f"{key}.conduction_share")
            times = np.union1d(current.t, share.t)
            mean = np.interp(times, current.t, current.y)
            more = mean / np.interp(times, share.t, share.y) - mean
            left += float(card.values["L"].split()[0]) * float(np.trapezoid(more, mean))
    return left


def fixed(case: Case, wanted: np.ndarray, times: np.ndarray, tally: Tally) -> None:
    if times[-1] > 0.05:
        tally.skipped += 1
        return
    gaps: list[float] = []
    for step in STEPS:
        run = run_with(case, method="fixed", step=f"{step} s")
        if run.message:
            tally.fault(f"{case.name} fixed {step}", run.message, case.drive)
            return
        gaps.append(gap(run, wanted, times))
        allowed = max(gaps[0] / ORDER_GAIN ** (len(gaps) - 1), 1e-12)
        share = 0.0 if gaps[-1] < 1e-3 else gaps[-1] / allowed
        if len(gaps) > 1 and share <= 1:
            break
    tally.note(share, f"{case.name} fixed", case.drive)


def again(case: Case, tally: Tally) -> None:
    """The same drive in two threads at once gives the rows of one, to the bit."""
    prepared = prepare(case.drive.document)
    alone = run_drive(prepared).rows
    with ThreadPoolExecutor(2) as pool:
        both = [f.result().rows for f in [pool.submit(run_drive, prepare(case.drive.document)) for _ in range(2)]]
    same = all(np.array_equal(alone, other) for other in both)
    tally.note(0.0 if same else 2.0, f"{case.name} threads", case.drive)


def in_process(folder: str) -> np.ndarray:
    """Rows of the drive in a folder, for another process."""
    return run_drive(prepare(load(Path(folder) / "case.pendel"))).rows


def in_another_process(case: Case, tally: Tally) -> None:
    """A file of the drive, read and run by another process, gives the same rows, to the bit."""
    with TemporaryDirectory() as folder:
        save(case.drive.document, Path(folder) / "case.pendel")
        with ProcessPoolExecutor(1, get_context("spawn")) as pool:
            other = pool.submit(in_process, folder).result()
    same = np.array_equal(run_drive(prepare(case.drive.document)).rows, other)
    tally.note(0.0 if same else 2.0, f"{case.name} process", case.drive)


def put_to_rest(rest: dict[int, ca.Function], exit_: tuple[int, int, int], at: tuple) -> np.ndarray:
    """States with the speed at zero that sticks from now on."""
    mode, _, to = exit_
    if to != 0 or mode not in rest:
        return at[1]
    value, slope = (np.array(part).ravel() for part in rest[mode](*at))
    return at[1] - value[0] * slope / (slope @ slope)


def second_opinion(case: Case, tally: Tally) -> None:
    """SciPy integrates the same structure between the instants at which inputs or gates change, with modes and events
    of its own."""
    prepared = prepare(case.drive.document)
    model = prepared.model
    system, network = model.system, model.network
    if system.torn or network.surfaces or not system.states:
        tally.skipped += 1
        return
    reference = run_with(case, method="stiff", tolerance="1e-9")
    n_modes = len(network.modes)
    symbols = [model.symbols[n] for n in ("t", "x", "u", "s", "p")]
    transitions = [(k, a, b) for k, mode in enumerate(network.modes) for a, _, b in mode.transitions]
    guards = stacked(*(system.express(g) for mode in network.modes for _, g, _ in mode.transitions))
    x_symbol = model.symbols["x"]
    f = ca.Function("f", symbols, [model.rhs, guards, ca.jacobian(model.rhs, x_symbol)])
    resting = {k: system.express(mode.zero_on_entry) for k, mode in enumerate(network.modes) if mode.rests}
    rest = {k: ca.Function("rest", symbols, [e, ca.jacobian(e, x_symbol)]) for k, e in resting.items()}
    nx, p = len(system.states), prepared.parameters
    nu = reference.rows.shape[1] - 1 - nx - len(reference.structure.mode_keys)
    rows = reference.rows
    held = np.concatenate([rows[:, 1 + nx : 1 + nx + nu], rows[:, 1 + nx + nu + n_modes :]], axis=1)
    begins = np.flatnonzero(np.concatenate([[True], np.any(np.diff(held, axis=0) != 0, axis=1)]))
    x, s = prepared.starting.values.copy(), np.array(prepared.structure.mode_starts, dtype=float)
    peaks = np.maximum(np.max(np.abs(rows[:, 1 : 1 + nx]), axis=0), 1e-9)
    events, worst = 0, 0.0
    for begin, end in zip(begins, [*begins[1:], len(rows) - 1]):
        t, until = rows[begin, 0], rows[end, 0]
        if until <= t:
            continue
        u = rows[begin, 1 + nx : 1 + nx + nu]
        s[n_modes:] = rows[begin, 1 + nx + nu + n_modes :]
        while t < until:
            for _ in range(4 * len(transitions) + 4):
                g = np.array(f(t, x, u, s, p)[1]).ravel()
                open_ = [k for k, (mode, a, _) in enumerate(transitions) if s[mode] == a and g[k] > 0]
                if not open_:
                    break
                k = max(open_, key=lambda n: g[n])
                x = put_to_rest(rest, transitions[k], (t, x, u, s, p))
                s[transitions[k][0]] = transitions[k][2]
                events += 1
            else:
                tally.skipped += 1
                return
            live = [k for k, (mode, a, _) in enumerate(transitions) if s[mode] == a]

            def crossing(number: int, u=u):
                def event(at, y):
                    return float(np.array(f(at, y, u, s, p)[1]).ravel()[number])

                event.terminal, event.direction = True, 1
                return event

            found = scipy.integrate.solve_ivp(
                lambda at, y, u=u: np.array(f(at, y, u, s, p)[0]).ravel(),
                (t, until),
                x,
                method="Radau",
                rtol=1e-8,
                atol=1e-8 * peaks,
                max_step=reference.end
                / FINELY,  # it looks for events between steps, and two of a diode in one cancel out
                jac=lambda at, y, u=u: np.array(f(at, y, u, s, p)[2]),
                events=[crossing(k) for k in live] or None,
            )
            t, x = float(found.t[-1]), found.y[:, -1]
            if found.status == 1:
                hit = next(k for k, times in zip(live, found.t_events) if len(times))
                x = put_to_rest(rest, transitions[hit], (t, x, u, s, p))
                s[transitions[hit][0]] = transitions[hit][2]
                events += 1
            if not found.success or events > LIMITS_OF_SCIPY:
                tally.skipped += 1
                return
        worst = max(worst, float(np.max(np.abs(x - rows[end, 1 : 1 + nx]) / peaks)))
    tally.note(worst / 3e-5, f"{case.name} SciPy", case.drive)
