"""Figures of the power stage: inverter with a synchronous machine, DC converter, growth. Called by ``all.py``."""

from __future__ import annotations

import ctypes
import functools
import statistics
import time
from pathlib import Path

import numpy as np
import scipy.integrate

import pendel
from pendel.core.drive.document import OwnEquations
from pendel.core.plant.compiler import build_library
from pendel.core.plant.runtime import sizes_of, time_loop
from pendel.core.runs.preparing.simulate import Prepared, prepare, run_drive

MACHINE = OwnEquations(
    ports=("a: line, v_a, i_a", "b: line, v_b, i_b", "c: line, v_c, i_c", "shaft: shaft, w, M"),
    values=("R = 0.04 ohm", "L_d = 0.9 mH", "L_q = 1.4 mH", "psi = 0.32 Wb", "p = 4"),
    states=("i_d = 0 A", "i_q = 0 A", "theta = 0 rad"),
    unknowns=("u_d: V", "u_q: V"),
    equations=(
        "u_d = 2/3*(v_a*cos(theta) + v_b*cos(theta - 2.0943951023931957) + v_c*cos(theta + 2.0943951023931957))",
        "u_q = -2/3*(v_a*sin(theta) + v_b*sin(theta - 2.0943951023931957) + v_c*sin(theta + 2.0943951023931957))",
        "L_d*der(i_d) = u_d - R*i_d + p*w*L_q*i_q",
        "L_q*der(i_q) = u_q - R*i_q - p*w*(L_d*i_d + psi)",
        "der(theta) = p*w",
        "i_a = i_d*cos(theta) - i_q*sin(theta)",
        "i_b = i_d*cos(theta - 2.0943951023931957) - i_q*sin(theta - 2.0943951023931957)",
        "i_c = -i_a - i_b",
        "M = -1.5*p*(psi*i_q + (L_d - L_q)*i_d*i_q)",
    ),
)
SPEED = 60.0
PAR = (0.04, 0.9e-3, 1.4e-3, 0.32, 4 * SPEED, 560.0, 90.0, 4 * SPEED)


def haul(dead: str = "0", method: str = "auto") -> pendel.Drive:
    """The machine of the haul drive on its inverter, open loop at a given speed."""
    d = pendel.Drive("Haul")
    for name, text in (
        ("level", "switching"),
        ("tick", "100 us"),
        ("computing_delay", "0"),
        ("method", method),
    ):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="560", R_i="0")
    d.add("inverter", "Inv", f_p="10", R_on="0.01", R_d="0.01", V_d="0", t_dead=dead)
    d.add("phase_opener", "Lines")
    d.add("own", "Machine", own=MACHINE)
    d.add("imposed_speed", "Bench", profile=[("0", str(SPEED)), ("99", str(SPEED))])
    d.add("three_phase_sine", "Gen", amplitude="90", f=f"{4 * SPEED / 2 / np.pi!r}")
    d.add("three_phase_modulator", "Mod", U_dc="560")
    d.connect("link.dc", "inv.dc")
    d.connect("inv.out", "lines.phases")
    d.connect("machine.shaft", "bench.a")
    for n in "abc":
        d.connect(f"lines.{n}", f"machine.{n}")
        d.connect(f"gen.{n}", f"mod.u_{n}")
        d.connect(f"mod.d_{n}", f"inv.d_{n}")
    return d


def by_hand(periods: int) -> np.ndarray:
    library = ctypes.CDLL(
        str(
            build_library(
                Path(__file__).with_name("inverter_by_hand.c").read_text(),
                flags=("-std=c99", "-O2", "-fPIC", "-shared"),
            )
        )
    )
    par, trace = np.array(PAR), np.empty((periods, 2))
    library.inverter.argtypes = [ctypes.c_void_p, ctypes.c_long, ctypes.c_double, ctypes.c_void_p]
    library.inverter(par.ctypes.data, periods, 1e-4, trace.ctypes.data)
    return trace


def by_solve_ivp(until: float) -> float:
    """Seconds SciPy takes for the same from edge to edge."""
    r, l_d, l_q, psi, w, u_dc, amplitude, omega = PAR
    shift = 2 * np.pi / 3 * np.arange(3)

    def f(t, x, v):
        th = w * t
        u_d, u_q = 2 / 3 * np.dot(v, np.cos(th - shift)), -2 / 3 * np.dot(v, np.sin(th - shift))
        return [(u_d - r * x[0] + w * l_q * x[1]) / l_d, (u_q - r * x[1] - w * (l_d * x[0] + psi)) / l_q]

    begun, x, period = time.perf_counter(), np.zeros(2), 1e-4
    for n in range(round(until / period)):
        u = amplitude * np.sin(omega * n * period - shift)
        d = 0.5 + (u - 0.5 * (u.max() + u.min())) / u_dc
        edges = sorted([*(0.5 * d), *(1 - 0.5 * d)]) + [1.0]
        start = 0.0
        for end in edges:
            v = u_dc * ((0.5 * d > 0.5 * (start + end)) | (1 - 0.5 * d < 0.5 * (start + end)))
            span = ((n + start) * period, (n + end) * period)
            x = scipy.integrate.solve_ivp(f, span, x, args=(v,), rtol=1e-6, atol=1e-9).y[:, -1]
            start = end
    return time.perf_counter() - begun


def alternately(actions, times: int = 12) -> list[float]:
    """Shortest time of each action, taken in turn so that a slow spell of the machine hits all alike. An action that
    gives seconds is taken at its word: a run tells its computing, to which what is then found in it does not belong."""
    found = [[] for _ in actions]
    for _ in range(times):
        for one, action in zip(found, actions):
            begun = time.perf_counter()
            told = action()
            one.append(told if isinstance(told, float) else time.perf_counter() - begun)
    return [min(one) for one in found]


def beside(base, actions, times: int = 25) -> list[float]:
    """Time of each action over that of ``base`` just before and after it, the median of ``times`` rounds. A machine
    that changes its speed between two calls would upset the ratio of the shortest times, as they may come from
    different spells."""
    found = [[] for _ in actions]

    def took(action) -> float:
        begun = time.perf_counter()
        told = action()
        return told if isinstance(told, float) else time.perf_counter() - begun

    for _ in range(times):
        before = took(base)
        for one, action in zip(found, actions):
            own = took(action)
            after = took(base)
            one.append(2 * own / (before + after))
            before = after
    return [statistics.median(one) for one in found]


def warmed(drive: pendel.Drive) -> Prepared:
    """A drive with its code built, the loop for its sizes too, which runs else wait for aside."""
    prepared = prepare(drive.document)
    run_drive(prepared, until=0.01)
    structure = prepared.structure
    time_loop(sizes_of(structure))
    return prepared


CHOKE, BANK, LOAD, FEED, PERIOD, SHARE, ON = 100e-6, 220e-6, 400.0, 24.0, 20e-6, 0.4, 1e-4


def step_up() -> pendel.Drive:
    """A step-up converter at 50 kHz whose choke runs empty in each period."""
    d = pendel.Drive("Step-up")
    for name, text in (("level", "switching"), ("tick", "20 us"), ("computing_delay", "0")):
        d.set(name, text)
    d.add("dc_source", "Feed", U_0="24", R_i="0")
    d.add(
        "step_up",
        "Conv",
        f_p="50",
        L="100",
        C="220",
        R_on="0.1",
        R_d="0.1",
        V_d="0",
        R_L="0",
        R_C="0",
        R_off="1e9",
    )
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R="400")
    d.add("step", "Duty", before="0.4", after="0.4")
    for a, b in (
        ("feed.dc", "conv.dc"),
        ("conv.out", "ends.pair"),
        ("ends.plus", "load.a"),
        ("ends.minus", "load.b"),
        ("duty.out", "conv.duty"),
    ):
        d.connect(a, b)
    return d


def step_up_by_solve_ivp(until: float, rtol: float) -> np.ndarray:
    """Choke current and output voltage at the end, from edge to edge with an event where the current ends."""

    def f(t, x, rising, passing):
        current = (FEED - ON * x[0] - x[1] * passing) / CHOKE if rising or passing else 0.0
        return [current, (x[0] * passing - x[1] / LOAD) / BANK]

    def empty(t, x, *_):
        return x[0]

    empty.terminal, empty.direction = True, -1
    solve = functools.partial(scipy.integrate.solve_ivp, f, rtol=rtol, atol=1e-2 * rtol)
    x, t, rising = np.zeros(2), 0.0, True
    for k in range(round(until / PERIOD) + 1):
        for edge in ((k + SHARE / 2) * PERIOD, (k + 1 - SHARE / 2) * PERIOD):
            end = min(edge, until)
            if end > t and rising:
                x = solve((t, end), x, args=(True, False)).y[:, -1]
            elif end > t:
                found = solve((t, end), x, args=(False, True), events=empty)
                x = found.y[:, -1]
                if found.status == 1:
                    x = solve((found.t[-1], end), [0.0, x[1]], args=(False, False)).y[:, -1]
            t, rising = max(t, end), not rising
    return x


def grid_tied() -> pendel.Drive:
    """A half bridge with a choke on a single-phase grid, controlled at 20 kHz, in fixed steps of 1 µs."""
    d = pendel.Drive("Feeder")
    for name, text in (("level", "switching"), ("tick", "50 us"), ("method", "fixed"), ("step", "1 us")):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="400", R_i="20")
    d.add("half_bridge", "Leg", f_p="20", t_dead="1")
    d.add("pair_opener", "Out")
    d.add("inductor", "Coil", L="2", R_s="100")
    d.add("ac_source", "Grid", U="100", f="50", R_i="50", L_i="0.2")
    d.add("sine", "Wanted", amplitude="10", f="50")
    d.add("pi", "Regulator", K_p="0.025", T_i="2 ms", low="-0.5", high="0.5")
    d.add("sum", "Duty")
    d.add("step", "Half", before="0.5", after="0.5")
    for a, b in (
        ("link.dc", "leg.dc"),
        ("leg.out", "out.pair"),
        ("out.plus", "coil.a"),
        ("coil.b", "grid.a"),
        ("grid.b", "out.minus"),
        ("wanted.out", "regulator.setpoint"),
        ("coil.current", "regulator.actual"),
        ("regulator.out", "duty.a"),
        ("half.out", "duty.b"),
        ("duty.out", "leg.duty"),
    ):
        d.connect(a, b)
    return d


def report_step_up(row) -> None:
    until = 5e-3
    prepared = warmed(step_up())
    exact = step_up_by_solve_ivp(until, 1e-11)
    run = run_drive(prepared, until=until)
    end = np.array([run.trace(f"conv.{n}").y[-1] for n in ("choke_current", "output_voltage")])
    gap = abs(end[1] - exact[1])
    rtol = next(
        r
        for r in (1e-3, 1e-4, 1e-5, 1e-6, 1e-7, 1e-8, 1e-9)
        if abs(step_up_by_solve_ivp(until, r)[1] - exact[1]) <= gap
    )
    ours, script = alternately(
        [lambda: run_drive(prepared, until=0.1).seconds, lambda: step_up_by_solve_ivp(until, rtol)], 4
    )
    current = run_drive(prepared, until=0.05).trace("conv.choke_current").y
    row(
        "Step-up converter, 50 kHz, choke empty in each period, faster than `solve_ivp` with events at the same error",
        f"{script / until * 0.1 / ours:.0f} ×",
        "≥ 300 ×",
    )
    row("its output voltage after 5 ms, gap to `solve_ivp` at 1e-11", f"{gap / exact[1]:.0e}", "–")
    row("its choke current, lowest over peak", f"{np.min(current) / np.max(current):.0e}", "≥ -1e-5")


def report_fixed_step(row) -> None:
    prepared = warmed(grid_tied())
    (took,) = alternately([lambda: run_drive(prepared, until=1.0).seconds])
    row("Half bridge on a grid, fixed steps of 1 µs, faster than real time", f"{1 / took:.0f} ×", "≥ 20 ×")
    run = run_drive(prepared, until=1.0)
    row(
        "its load and slowest step",
        f"{100 * run.settings['load']:.1f} %, {1e6 * run.settings['worst_step']:.0f} µs",
        "–",
    )


def half_bridges(n: int) -> pendel.Drive:
    """On one link, each with a duty of its own, so that no two of them switch at one instant."""
    d = pendel.Drive("Growth")
    for name, text in (("level", "switching"), ("tick", "100 us")):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="400", R_i="20")
    for k in range(n):
        d.add("constant", f"Duty {k}", value=f"{0.3 + 0.4 * k / n!r}")
        d.add("half_bridge", f"Leg {k}", f_p="10", t_dead="1")
        d.add("pair_opener", f"Out {k}")
        d.add("inductor", f"Coil {k}", L="2", R_s="100")
        d.add("resistor", f"Load {k}", R="10")
        for a, b in (
            ("link.dc", f"leg_{k}.dc"),
            (f"leg_{k}.out", f"out_{k}.pair"),
            (f"out_{k}.plus", f"coil_{k}.a"),
            (f"coil_{k}.b", f"load_{k}.a"),
            (f"load_{k}.b", f"out_{k}.minus"),
            (f"duty_{k}.out", f"leg_{k}.duty"),
        ):
            d.connect(a, b)
    return d


def report(row) -> None:
    cases = [warmed(haul(dead, method)) for method in ("auto", "fast") for dead in ("0", "2 us")]
    until = 1.0
    by_hand(10)
    ratios = beside(lambda: by_hand(10_000), [lambda case=case: run_drive(case, until=until).seconds for case in cases])
    ideal = cases[0]
    (ours,) = alternately([lambda: run_drive(ideal, until=until).seconds], 5)
    script = by_solve_ivp(0.02) * until / 0.02
    run = run_drive(ideal, until=0.1)
    i_q = run.trace("machine.i_q")
    reference = by_hand(1000)[:, 1]
    gap = np.max(np.abs(np.interp(np.arange(1000) * 1e-4, i_q.t, i_q.y) - reference)) / np.max(np.abs(reference))
    wanted = ("≤ 2.2 ×", "≤ 4 ×", "≤ 1.5 ×", "≤ 3.4 ×")
    words = (
        "ideal",
        "six transistors and diodes with dead time",
        "ideal, fast option",
        "dead time, fast option",
    )
    for what, ratio, limit in zip(words, ratios, wanted):
        row(
            f"Inverter and synchronous machine, 10 kHz, {what}, against C by hand",
            f"{ratio:.1f} ×",
            limit,
        )
    row("the same, faster than SciPy `solve_ivp` from edge to edge", f"{script / ours:.0f} ×", "≥ 250 ×")
    row("i_q, largest gap to the hand-written C, of its peak", f"{gap:.0e}", "–")
    per_event, builds = {}, {}
    for n in (1, 4, 16):
        begun = time.perf_counter()
        p = prepare(half_bridges(n).document)
        run_drive(p, until=1e-3)
        builds[n] = time.perf_counter() - begun
        p = warmed(half_bridges(n))
        (took,) = alternately([lambda p=p: run_drive(p, until=0.1).seconds], 5)
        per_event[n] = took / (run_drive(p, until=0.1).counters["events"] + 4 * n * 1000)
    power = np.log(per_event[16] / per_event[1]) / np.log(16)
    row("16 half bridges on one link: time for an event grows as n to the", f"{power:.2f}", "≤ 1.3")
    row("their first build", f"{builds[16]:.1f} s", "≤ 5 s")
    report_step_up(row)
    report_fixed_step(row)
