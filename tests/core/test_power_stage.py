"""Converters, rectifiers and circuits against textbook formulas, SciPy and energy balances."""

import numpy as np
import pytest
import scipy.integrate
import scipy.special

import pendel
from pendel.core.catalogue.index import kind_of
from pendel.core.errors import DriveHasFindings, RunProblem
from pendel.core.quantities.expressions import value_in_field
from pendel.core.quantities.named import Names
from pendel.core.runs.found.spectra import spectrum
from pendel.core.runs.preparing.simulate import prepare, run_drive
from pendel.core.runs.record.measures import mean, window
from pendel.core.runs.remarks.duties import duties_beyond
from tests.core.energy import energy_gap

L, C, F = 100e-6, 220e-6, 50e3


def dc_converter(kind, duty, load, level="switching", **values):
    """A nearly lossless converter on 24 V with a resistive load."""
    d = pendel.Drive("Bench")
    d.set("level", level)
    d.set("tick", "20 us")
    d.set("computing_delay", "0")
    d.add("dc_source", "Feed", U_0="24", R_i="0")
    ideal = {
        "f_p": "50",
        "L": "100",
        "C": "220",
        "R_on": "0.1",
        "R_d": "0.1",
        "V_d": "0",
        "R_L": "0",
        "R_C": "0",
    }
    d.add(kind, "Conv", **(ideal | values))
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R=str(load))
    d.add("step", "Duty", before=str(duty), after=str(duty))
    for a, b in (
        ("feed.dc", "conv.dc"),
        ("conv.out", "ends.pair"),
        ("ends.plus", "load.a"),
        ("ends.minus", "load.b"),
        ("duty.out", "conv.duty"),
    ):
        d.connect(a, b)
    return d


def textbook_ratio(kind, d, load):
    """Erickson, Maksimović: Fundamentals of Power Electronics, 3rd ed., tables 5.1 and 5.2."""
    k = 2 * L * F / load
    continuous = {"step_down": d, "step_up": 1 / (1 - d), "inverting": d / (1 - d)}[kind]
    discontinuous = {
        "step_down": 2 / (1 + np.sqrt(1 + 4 * k / d**2)),
        "step_up": (1 + np.sqrt(1 + 4 * d**2 / k)) / 2,
        "inverting": d / np.sqrt(k),
    }[kind]
    critical = {"step_down": 1 - d, "step_up": d * (1 - d) ** 2, "inverting": (1 - d) ** 2}[kind]
    return continuous if k > critical else discontinuous


def last_mean(run, key, span):
    trace = run[key]
    return mean(*window(trace.t, trace.y, trace.t[-1] - span, trace.t[-1]))


@pytest.mark.parametrize("level", ["averaged", "switching"])
@pytest.mark.parametrize("load", [8, 400])
@pytest.mark.parametrize("kind", ["step_down", "step_up", "inverting"])
def test_conversion_ratio_in_both_modes_of_conduction(kind, load, level):
    run = dc_converter(kind, 0.4, load, level).run(0.04 if load == 8 else 0.6)
    ratio = last_mean(run, "conv.output_voltage", 1e-3) / 24
    assert ratio == pytest.approx(textbook_ratio(kind, 0.4, load), rel=3e-4)
    choke = run["conv.choke_current"].y
    assert np.min(choke) > -1e-5 * np.max(choke)


def test_ripple_of_choke_and_capacitor():
    # Erickson, Maksimović, (2.14) and (2.60): step-down, 2Δi = (U − u)·d·T/L, 2Δu = 2Δi·T/(8·C).
    run = dc_converter("step_down", 0.4, 8).run(0.04)
    i, u = run["conv.choke_current"], run["conv.output_voltage"]
    swing = 24 * 0.6 * 0.4 / F / L
    assert np.ptp(i.y[i.t > 0.038]) == pytest.approx(swing, rel=2e-3)
    assert np.ptp(u.y[u.t > 0.038]) == pytest.approx(swing / F / 8 / C, rel=0.02)


def test_boundary_of_conduction_lies_where_the_textbook_has_it():
    # K_crit = 1 − d for the step-down converter; the shown value is for duty ½.
    critical = 2 * L * F / 0.5
    shares = [
        float(np.mean(dc_converter("step_down", 0.5, r, "averaged").run(0.1)["conv.conduction_share"].y[-20:]))
        for r in (0.9 * critical, 1.1 * critical)
    ]
    assert shares[0] == pytest.approx(1.0, abs=1e-9)
    assert shares[1] < 0.99


def test_step_up_converter_agrees_with_scipy_event_by_event():
    """SciPy from edge to edge with events at zero current, in discontinuous conduction."""
    d = dc_converter("step_up", 0.4, 400)
    d.set("tolerance", "1e-8")
    run = d.run(2e-3)
    on, period, r = 0.4 / F, 1 / F, 1e-4

    def conducting(t, x):
        return [(24 - r * x[0] - x[1]) / L, (x[0] - x[1] / 400) / C]

    def charging(t, x):
        return [(24 - r * x[0]) / L, -x[1] / 400 / C]

    def idle(t, x):
        return [0.0, -x[1] / 400 / C]

    def empty(t, x):
        return x[0]

    empty.terminal, empty.direction = True, -1
    options = {"rtol": 1e-10, "atol": 1e-12}
    # The run's first half period is the middle of a pulse: the carrier's valley lies at time zero.
    x, t, reference = np.zeros(2), 0.0, []
    edges = [e for k in range(101) for e in ((k * period + on / 2, False), ((k + 1) * period - on / 2, True))]
    gate = True
    for at, next_gate in edges:
        if at > 2e-3:
            break
        x = piece(charging, conducting, idle, empty, gate, t, at, x, options)
        t, gate = at, next_gate
        reference.append((t, *x))
    t, i, u = np.array(reference).T
    np.testing.assert_allclose(run.at("conv.choke_current", t), i, atol=2e-4 * np.max(i))
    np.testing.assert_allclose(run.at("conv.output_voltage", t), u, rtol=2e-4, atol=2e-4)


def piece(charging, conducting, idle, empty, gate, start, end, x, options):
    if gate:
        return scipy.integrate.solve_ivp(charging, (start, end), x, **options).y[:, -1]
    if x[0] > 0:
        found = scipy.integrate.solve_ivp(conducting, (start, end), x, events=empty, **options)
        start, x = found.t[-1], found.y[:, -1]
        if found.status == 1:
            x = np.array([0.0, x[1]])
    return scipy.integrate.solve_ivp(idle, (start, end), x, **options).y[:, -1] if end > start else x


def bridge_bench(dead, r_off="", speed=0.0, duty=None, level="switching", pattern="three levels", **values):
    d = pendel.Drive("Bridge bench")
    d.set("level", level)
    d.add("dc_source", "Feed", U_0="48", R_i="0")
    d.add("four_quadrant_bridge", "Bridge", t_dead=dead, R_off=r_off, choices={"pattern": pattern}, **values)
    d.add("brushed_dc", "Motor", R_a="0.46", L_a="0.61", k_t="0.108", J_m="1.9e-4", b_m="0")
    d.add("imposed_speed", "Dyno", profile=[("0", str(speed)), ("9", str(speed))])
    level_of = 0.108 * speed / 48 if duty is None else duty
    d.add("step", "Duty", before=str(level_of), after=str(level_of))
    for a, b in (
        ("feed.dc", "bridge.dc"),
        ("bridge.out", "motor.winding"),
        ("motor.shaft", "dyno.a"),
        ("duty.out", "bridge.duty"),
    ):
        d.connect(a, b)
    return d


@pytest.mark.parametrize("speed", [100.0, -100.0, 0.0])
def test_no_sticking_at_zero_current_whatever_the_blocking_resistance(speed):
    steps = []
    for r_off in ("1e5", "1e7", "1e9"):
        run = bridge_bench("1", r_off, speed).run(0.2).kept
        assert not run.message
        steps.append(run.counters["steps"] + run.counters["rejected"])
    assert max(steps) < 1.1 * min(steps)
    assert max(steps) < 0.2 * 20e3 * 15


def dead_time_bench(kind, device, duty):
    """A leg or bridge of 20 kHz and 2 µs dead time with a current of some 20 A through a large choke, from a link of
    400 V."""
    d = pendel.Drive("Dead")
    for name, text in (("tick", "50 us"), ("computing_delay", "0")):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="400", R_i="0")
    d.add(
        kind,
        "Conv",
        f_p="20",
        t_dead="2",
        R_on="20",
        R_d="15",
        V_d="1.1",
        choices={"device": device},
        **({"V_0": "0.9"} if device == "igbt" else {}),
    )
    d.add("pair_opener", "Ends")
    d.add("inductor", "Coil", L="20", R_s="220")
    d.add("dc_source", "Other", U_0=str(400 * duty - (42 if kind == "four_quadrant_bridge" else 24)), R_i="0.2")
    d.add("pair_opener", "Into")
    d.add("step", "Duty", before=str(duty), after=str(duty))
    for a, b in (
        ("link.dc", "conv.dc"),
        ("conv.out", "ends.pair"),
        ("ends.plus", "coil.a"),
        ("coil.b", "into.plus"),
        ("other.dc", "into.pair"),
        ("into.minus", "ends.minus"),
        ("duty.out", "conv.duty"),
    ):
        d.connect(a, b)
    return d


@pytest.mark.parametrize("device", ["mosfet", "igbt"])
@pytest.mark.parametrize(("kind", "duty"), [("half_bridge", 0.4), ("half_bridge", 0.6), ("four_quadrant_bridge", 0.5)])
def test_dead_time_shifts_power_and_does_not_burn_it(kind, duty, device):
    """Averaged as by switching: the link gives what the output takes and the devices lose. The voltage of t_d·f·U is
    not lost, the link's current is less by as much (Mohan, Undeland, Robbins: Power Electronics, 3rd ed., section
    8-5)."""
    found = []
    for level in ("averaged", "switching"):
        d = dead_time_bench(kind, device, duty)
        d.set("level", level)
        run = d.run(0.6)
        found.append([last_mean(run, f"conv.{n}", 5e-3) for n in ("output_current", "link_current", "loss")])
    assert found[0] == pytest.approx(found[1], rel=0.01)
    current, link, loss = found[1]
    assert abs(current) > 10 and loss < 0.1 * 2e-6 * 20e3 * 400 * abs(current) * 4
    assert 400 * link == pytest.approx(last_mean(run, "conv.power", 5e-3) + loss, rel=2e-3)


def test_dead_time_costs_the_textbook_voltage():
    # Mohan, Undeland, Robbins, 3rd ed., section 8-5 (from memory): each leg loses t_d·f·U against its current.
    none, some = (
        last_mean(bridge_bench(dead, duty=0.5).run(0.05), "bridge.output_voltage", 5e-3) for dead in ("0", "1")
    )
    assert none - some == pytest.approx(2 * 1e-6 * 20e3 * 48 + 2 * 1e-6 * 20e3 * 0.8 * 2, rel=0.1)
    averaged = last_mean(bridge_bench("1", duty=0.5, level="averaged").run(0.05), "bridge.output_voltage", 5e-3)
    assert averaged == pytest.approx(some, abs=0.02 * 48 * 0.04 + 0.1)


def test_averaged_and_switching_agree_on_means_and_energy():
    runs = [
        bridge_bench("0", duty=0.4, level=level, pattern=p)
        for level, p in (("averaged", "three levels"), ("switching", "three levels"), ("switching", "two levels"))
    ]
    means = [last_mean(d.run(0.05), "motor.current", 5e-3) for d in runs]
    assert means[1] == pytest.approx(means[0], rel=2e-3)
    assert means[2] == pytest.approx(means[0], rel=2e-3)
    for d in (runs[1], bridge_bench("1", duty=0.2), dc_converter("step_up", 0.4, 400)):
        assert energy_gap(d.run(0.02, with_energy=True)) < 1e-6


def inverter_bench(scheme, amplitude, level="switching", f=50, **values):
    d = pendel.Drive("Inverter bench")
    d.set("level", level)
    d.set("tick", "100 us")
    d.set("computing_delay", "0")
    d.add("dc_source", "Feed", U_0="560", R_i="0")
    d.add("inverter", "Inv", f_p="10", R_on="1", R_d="1", V_d="0", **values)
    d.add("star_load", "Load", R="5", L="5")
    d.add("three_phase_sine", "Gen", amplitude=str(amplitude), f=str(f))
    d.add("three_phase_modulator", "Mod", U_dc="560", choices={"scheme": scheme})
    d.connect("feed.dc", "inv.dc")
    d.connect("inv.out", "load.in")
    for n in "abc":
        d.connect(f"gen.{n}", f"mod.u_{n}")
        d.connect(f"mod.d_{n}", f"inv.d_{n}")
    return d


def fundamental(run, key, f=50.0):
    trace = run[key]
    return spectrum(trace.t, trace.y, trace.t[-1] - 0.02, trace.t[-1], fundamental=f).line(f)


@pytest.mark.parametrize(
    ("scheme", "most"),
    [
        ("sine", 280.0),
        ("third harmonic", 560 / np.sqrt(3)),
        ("space vector", 560 / np.sqrt(3)),
        ("clamped 60", 560 / np.sqrt(3)),
        ("clamped low", 560 / np.sqrt(3)),
    ],
)
def test_modulation_is_linear_up_to_its_limit(scheme, most):
    # Holmes, Lipo, chapters 5 and 6 (from memory): û = U/2 for sine, U/√3 with a common voltage.
    run = inverter_bench(scheme, most).run(0.06)
    assert fundamental(run, "load.voltage_a") == pytest.approx(most, rel=2e-3)
    beyond = inverter_bench(scheme, 1.1 * most).run(0.06)
    assert fundamental(beyond, "load.voltage_a") < 1.09 * most
    assert fundamental(run, "load.current_a") == pytest.approx(most / abs(5 + 2j * np.pi * 50 * 5e-3), rel=2e-3)


def test_block_operation_gives_two_over_pi():
    d = inverter_bench("block", 300, choices={"sampling": "at once"})
    d.set("tick", f"{0.02 / 1200!r} s")  # a whole number of ticks in every sixth of a period
    run = d.run(0.06)
    assert fundamental(run, "load.voltage_a") == pytest.approx(2 / np.pi * 560, rel=2e-3)


def test_sidebands_of_natural_sampling_follow_the_bessel_series():
    """Pole voltage of one leg, sine, triangle: Holmes, Lipo, (3.39) (from memory): lines at m·f_c + n·f_0.

    Amplitude (2·U/(m·π))·J_n(m·M·π/2)·sin((m + n)·π/2) for a pole between ±U/2 with U the link voltage.
    """
    d = inverter_bench("sine", 0.8 * 280, choices={"sampling": "at once"})
    d.set("tick", "0.5 us")  # a duty followed at once is natural sampling
    run = d.run(0.02)
    trace = run["inv.pole_a"]
    lines = spectrum(trace.t, trace.y, 0.0, 0.02)
    for m, n in ((1, 0), (1, 2), (1, -2), (2, 1), (2, -1), (2, 3)):
        wanted = abs(2 * 560 / (m * np.pi) * scipy.special.jv(n, m * 0.8 * np.pi / 2) * np.sin((m + n) * np.pi / 2))
        assert lines.line(m * 10e3 + n * 50) == pytest.approx(wanted, abs=2.0), (m, n)


def three_phase_rectifier(inductance, current=20):
    d = pendel.Drive("Rectifier")
    d.set("tolerance", "1e-7")
    d.add("three_phase_source", "Grid", U="400", f="50", R_i="0", L_i=str(inductance))
    d.add("diode_bridge_3", "Bridge", V_d="0", R_d="1")
    d.add("pair_opener", "Ends")
    d.add("inductor", "Choke", L="1000", starts={"i": str(current)})
    d.add("resistor", "Load", R=str(540 / current))
    for a, b in (
        ("grid.out", "bridge.in"),
        ("bridge.dc", "ends.pair"),
        ("ends.plus", "choke.a"),
        ("choke.b", "load.a"),
        ("load.b", "ends.minus"),
    ):
        d.connect(a, b)
    return d


@pytest.mark.parametrize("inductance", ["0.001", "1", "3"])
def test_three_phase_rectifier_loses_its_commutation_voltage(inductance):
    # Mohan, Undeland, Robbins, 3rd ed., (5-68), (5-83): 1.35·U_LL − 3·ω·L·I/π, with the diodes' 2 mΩ.
    run = three_phase_rectifier(inductance).run(0.6)
    i = last_mean(run, "choke.current", 0.1)
    wanted = 3 * np.sqrt(2) / np.pi * 400 - 3 * 2 * np.pi * 50 * float(inductance) * 1e-3 / np.pi * i - 2e-3 * i
    assert last_mean(run, "load.voltage", 0.1) == pytest.approx(wanted, rel=1e-4)


def test_commutation_overlaps_for_the_textbook_angle():
    # cos µ = 1 − 2·ω·L·I/(√2·U_LL): Mohan, Undeland, Robbins, 3rd ed., (5-81).
    run = three_phase_rectifier("3").run(0.1)
    uppers = [run[f"bridge.current_{n}_upper"] for n in "abc"]
    t = np.linspace(0.08, 0.1, 400_001)
    conducting = sum((np.interp(t, u.t, u.y) > 1e-3).astype(int) for u in uppers)
    i = last_mean(run, "choke.current", 0.02)
    overlap = np.arccos(1 - 2 * 2 * np.pi * 50 * 3e-3 * i / (np.sqrt(2) * 400))
    assert np.mean(conducting == 2) == pytest.approx(3 * overlap / (2 * np.pi), rel=0.01)


def test_single_phase_rectifier_with_capacitor_agrees_with_scipy():
    d = pendel.Drive("Rectifier")
    d.set("tolerance", "1e-8")
    d.add("ac_source", "Grid", U="230", f="50", R_i="500", L_i="1")
    d.add("diode_bridge", "Bridge", V_d="0.8", R_d="10")
    d.add("pair_opener", "Ends")
    d.add("capacitor", "Link", C="1000")
    d.add("resistor", "Load", R="50")
    for a, b in (
        ("grid.a", "bridge.a"),
        ("grid.b", "bridge.b"),
        ("bridge.dc", "ends.pair"),
        ("ends.plus", "link.a"),
        ("ends.minus", "link.b"),
        ("ends.plus", "load.a"),
        ("ends.minus", "load.b"),
    ):
        d.connect(a, b)
    run = d.run(0.1)
    w, r = 2 * np.pi * 50, 0.5 + 0.02

    def e(t):
        return np.sqrt(2) * 230 * np.sin(w * t)

    t, x, sign, times, volts = 0.0, np.array([0.0, 0.0]), 1.0, [0.0], [0.0]
    while t < 0.1:

        def on(t, x, sign=sign):
            return [
                (abs(e(t)) * np.sign(e(t)) * sign - 1.6 - r * x[0] - x[1]) / 1e-3,
                (x[0] - x[1] / 50) / 1e-3,
            ]

        def off(t, x):
            return [0.0, -x[1] / 50 / 1e-3]

        def stops(t, x):
            return x[0]

        def starts(t, x):
            return abs(e(t)) - 1.6 - x[1]

        stops.terminal, stops.direction = True, -1
        starts.terminal, starts.direction = True, 1
        found = scipy.integrate.solve_ivp(off, (t, 0.1), x, events=starts, rtol=1e-10, atol=1e-10, max_step=1e-4)
        times, volts, t, x = [*times, *found.t], [*volts, *found.y[1]], found.t[-1], found.y[:, -1]
        if t >= 0.1:
            break
        sign = np.sign(e(t))
        found = scipy.integrate.solve_ivp(
            lambda t, x, s=sign: on(t, x, s), (t, 0.1), [0.0, x[1]], events=stops, rtol=1e-10, atol=1e-10, max_step=1e-4
        )
        times, volts, t, x = (
            [*times, *found.t],
            [*volts, *found.y[1]],
            found.t[-1],
            np.array([0.0, found.y[1, -1]]),
        )
    at = np.linspace(0.005, 0.099, 500)
    np.testing.assert_allclose(run.at("link.voltage", at), np.interp(at, times, volts), atol=0.02)


def circuit(*cards, wires=(), tolerance="1e-8"):
    d = pendel.Drive("Circuit")
    d.set("tolerance", tolerance)
    d.set("tick", "1 ms")
    for kind, name, values in cards:
        d.add(kind, name, **values)
    for a, b in wires:
        d.connect(a, b)
    return d


def sine_fed(*cards, wires, f=1000.0, until=0.02, tick="1 us"):
    """A controlled source with a sine into a circuit; returns the run."""
    d = circuit(
        ("sine", "Tone", {"amplitude": "1", "f": str(f)}),
        ("set_voltage", "Source", {}),
        ("ground", "Earth", {}),
        *cards,
        wires=(("tone.out", "source.set"), ("source.b", "earth.line"), *wires),
    )
    d.set("tick", tick)
    d.set("tolerance", "1e-7")
    return d.run(until)


def test_series_resonance_rings_as_the_closed_form_says():
    r, ind, c = 2.0, 1e-3, 10e-6
    d = circuit(
        ("dc_source", "Feed", {"U_0": "10", "R_i": "0"}),
        ("pair_opener", "Ends", {}),
        ("resistor", "R", {"R": "2"}),
        ("inductor", "L", {"L": "1"}),
        ("capacitor", "C", {"C": "10"}),
        wires=(("feed.dc", "ends.pair"), ("ends.plus", "r.a"), ("r.b", "l.a"), ("l.b", "c.a"), ("c.b", "ends.minus")),
    )
    u = d.run(5e-3)["c.voltage"]
    a, w = r / 2 / ind, np.sqrt(1 / ind / c - (r / 2 / ind) ** 2)
    np.testing.assert_allclose(
        u.y, 10 * (1 - np.exp(-a * u.t) * (np.cos(w * u.t) + a / w * np.sin(w * u.t))), atol=2e-5
    )


def test_inductors_in_series_and_capacitors_in_parallel_are_one():
    """Cut sets of inductors and loops of capacitors are reduced, not leaked around."""
    d = circuit(
        ("dc_source", "Feed", {"U_0": "10", "R_i": "0"}),
        ("pair_opener", "Ends", {}),
        ("inductor", "L1", {"L": "1", "R_s": "500"}),
        ("inductor", "L2", {"L": "1", "R_s": "500"}),
        ("capacitor", "C1", {"C": "10"}),
        ("capacitor", "C2", {"C": "10"}),
        wires=(
            ("feed.dc", "ends.pair"),
            ("ends.plus", "l1.a"),
            ("l1.b", "l2.a"),
            ("l2.b", "c1.a"),
            ("l2.b", "c2.a"),
            ("c1.b", "ends.minus"),
            ("c2.b", "ends.minus"),
        ),
    )
    run = d.run(5e-3)
    assert len(run.kept.structure.state_keys) == 2
    ind, c, r = 2e-3, 20e-6, 1.0
    a, w = r / 2 / ind, np.sqrt(1 / ind / c - (r / 2 / ind) ** 2)
    u = run["c2.voltage"]
    np.testing.assert_allclose(
        u.y, 10 * (1 - np.exp(-a * u.t) * (np.cos(w * u.t) + a / w * np.sin(w * u.t))), atol=2e-5
    )
    np.testing.assert_allclose(run["l1.current"].y, run["l2.current"].y, rtol=1e-12)


@pytest.mark.parametrize("model", ["ideal", "limited"])
def test_an_op_amp_low_pass_has_its_closed_form(model):
    # Tietze, Schenk, chapter 13 (from memory): inverting first-order low-pass −(R_2/R_1)/(1 + jω·R_2·C).
    run = sine_fed(
        ("resistor", "R1", {"R": "1000"}),
        ("resistor", "R2", {"R": "5000"}),
        ("capacitor", "C1", {"C": "0.02"}),
        ("op_amp", "Amp", {"choices": {"model": model}, "f_1": "20", "slew": "100"}),
        ("resistor", "Load", {"R": "10e3"}),
        wires=(
            ("source.a", "r1.a"),
            ("r1.b", "amp.minus"),
            ("amp.minus", "r2.a"),
            ("r2.b", "amp.out"),
            ("amp.minus", "c1.a"),
            ("c1.b", "amp.out"),
            ("amp.plus", "earth.line"),
            ("amp.out", "load.a"),
            ("load.b", "earth.line"),
        ),
    )
    u = run["amp.output"]
    gain = spectrum(u.t, u.y, 0.01, 0.02, fundamental=1000).line(1000)
    assert gain == pytest.approx(abs(5 / (1 + 2j * np.pi * 1000 * 5000 * 0.02e-6)), rel=3e-3)


def test_a_slow_op_amp_is_limited_in_slew_and_output():
    run = sine_fed(
        ("resistor", "R1", {"R": "1000"}),
        ("resistor", "R2", {"R": "20000"}),
        (
            "op_amp",
            "Amp",
            {"choices": {"model": "limited"}, "f_1": "3", "slew": "0.05", "U_low": "-5", "U_high": "5", "R_out": "0"},
        ),
        wires=(
            ("source.a", "r1.a"),
            ("r1.b", "amp.minus"),
            ("amp.minus", "r2.a"),
            ("r2.b", "amp.out"),
            ("amp.plus", "earth.line"),
        ),
        until=0.004,
    )
    u = run["amp.output"]
    assert np.max(np.abs(u.y)) == pytest.approx(5, abs=0.02)
    slope = np.abs(np.diff(u.y)[np.diff(u.t) > 1e-8] / np.diff(u.t)[np.diff(u.t) > 1e-8])
    assert np.max(slope) == pytest.approx(0.05e6, rel=0.01)


def test_coupled_inductors_at_full_coupling_come_near_the_ideal_transformer():
    wires = (("source.a", "t.a"), ("t.b", "earth.line"), ("t.c", "load.a"), ("load.b", "t.d"))
    ideal = sine_fed(("ideal_transformer", "T", {"ratio": "2"}), ("resistor", "Load", {"R": "10"}), wires=wires)
    near = sine_fed(
        ("coupled_inductors", "T", {"L_1": "400", "L_2": "100", "k": "0.99999", "R_1": "0", "R_2": "0"}),
        ("resistor", "Load", {"R": "10"}),
        wires=wires,
    )
    assert np.max(np.abs(ideal["load.voltage"].y)) == pytest.approx(0.5, rel=1e-3)
    late = near["load.voltage"].t > 0.01
    assert np.ptp(near["load.voltage"].y[late]) / 2 == pytest.approx(0.5, rel=5e-3)


def test_a_transformer_follows_its_equivalent_circuit():
    # Fitzgerald, Kingsley, Umans, 6th ed., section 2.4 (from memory): the T circuit as phasors.
    run = sine_fed(
        (
            "transformer",
            "T",
            {"ratio": "2", "R_1": "0.4", "L_1": "1", "R_2": "0.1", "L_2": "0.25", "L_m": "0.1", "R_fe": "500"},
        ),
        ("resistor", "Load", {"R": "5"}),
        wires=(("source.a", "t.a"), ("t.b", "earth.line"), ("t.c", "load.a"), ("load.b", "t.d")),
        f=50,
        until=0.6,
        tick="20 us",
    )
    w = 2 * np.pi * 50
    second = 4 * (0.1 + 5 + 1j * w * 0.25e-3)
    main = 1 / (1 / (1j * w * 0.1) + 1 / 500 + 1 / second)
    first = 1 / (0.4 + 1j * w * 1e-3 + main)
    u = run["load.voltage"]
    got = spectrum(u.t, u.y, 0.5, 0.6, fundamental=50).line(50)
    assert got == pytest.approx(abs(first * main / second * 2 * 5), rel=2e-3)


@pytest.mark.parametrize(
    ("cards", "wires", "part"),
    [
        (
            [("dc_source", "One", {"R_i": "0"}), ("dc_source", "Two", {"R_i": "0", "U_0": "24"})],
            [("one.dc", "two.dc")],
            "One|Two",
        ),
        (
            [("set_current", "Pump", {}), ("inductor", "Coil", {}), ("ground", "Earth", {})],
            [("pump.a", "coil.a"), ("coil.b", "earth.line")],
            "Pump|Coil",
        ),
        (
            [("set_voltage", "One", {}), ("set_voltage", "Two", {}), ("ground", "Earth", {})],
            [("one.a", "two.a"), ("one.b", "two.b"), ("one.b", "earth.line")],
            "One|Two",
        ),
    ],
)
def test_circuits_without_a_solution_name_their_parts(cards, wires, part):
    with pytest.raises(DriveHasFindings, match=part):
        circuit(*cards, wires=wires).run(0.01)


@pytest.mark.parametrize(
    ("values", "sentence"),
    [
        ({"t_dead": "30 us"}, "dead time of 30 µs leaves nothing"),
        ({"t_least": "40 us"}, "do not fit"),
        ({"f_p": "0"}, "above 0"),
        ({"R_d": "0"}, "above 0"),
    ],
)
def test_pulse_values_that_cannot_be_are_findings(values, sentence):
    d = bridge_bench("0")
    for name, text in values.items():
        d.set(f"bridge.{name}", text)
    assert any(sentence in f.sentence for f in d.check())


def test_a_duty_outside_its_range_saturates_and_missing_gates_are_pointed_out():
    run = bridge_bench("0", duty=3.0).run(0.01)
    assert np.all(run["bridge.duty_ratio"].y[-100:] == 1.0)
    d = pendel.Drive("Bench")
    d.add("inverter", "Inv")
    assert sum("nothing feeds “Duty of" in f.sentence for f in d.check()) == 3


def test_a_signal_of_another_level_is_pointed_out():
    d = bridge_bench("0")
    d.add("gain", "Reader")
    d.connect("bridge.gate_a_upper", "reader.x")
    d.run(0.001)
    d.set("level", "averaged")
    with pytest.raises(
        DriveHasFindings, match="gate a upper is wired to a block, but exists only at the level switching"
    ):
        d.run(0.001)


def test_pulses_are_exact_whatever_the_solver_does():
    """Mean over a period of the pole voltage is the duty times the link voltage, to rounding."""
    d = bridge_bench("0", duty=0.3137, R_on="1e-3")
    run = d.run(0.002)
    gate = run["bridge.gate_a_upper"]
    t, y = window(gate.t, gate.y, 0.001, 0.002)
    assert mean(t, y) == pytest.approx((1 + 0.3137) / 2, abs=1e-12)
    short = bridge_bench("0", duty=0.99)
    short.set("bridge.t_least", "1 us")
    assert np.all(short.run(0.001)["bridge.gate_a_upper"].y[-100:] == 1.0)


def test_a_nonlinear_loop_is_solved_inside_the_step():
    """A diode's exponential law from own equations across a resistor, against Lambert's W function.

    i = I_s·(exp((U − R·i)/U_T) − 1) gives i = U_T/R·W(I_s·R/U_T·exp((U + I_s·R)/U_T)) − I_s (textbook).
    """
    from pendel.core.drive.document import OwnEquations

    d = pendel.Drive("Loop")
    d.add("dc_source", "Feed", U_0="2", R_i="1000")
    law = OwnEquations(
        ports=("feed: dc, u, i",),
        values=("I_s = 1e-9 A", "U_T = 26 mV"),
        equations=("i = I_s * (exp(u / U_T) - 1)",),
    )
    d.add("own", "Junction", own=law)
    d.connect("feed.dc", "junction.feed")
    run = d.run(0.01)
    i_s, u_t, r, u = 1e-9, 0.026, 1.0, 2.0
    wanted = u_t / r * scipy.special.lambertw(i_s * r / u_t * np.exp((u + i_s * r) / u_t)).real - i_s
    assert run["feed.current"].y[-1] == pytest.approx(wanted, rel=1e-9)


def test_loops_are_judged_averaged_whatever_the_level(door):
    from pendel.core.loops.regulators.find import find_loops

    d = pendel.Drive(document=door)
    before = find_loops(d.document)
    d.set("level", "switching")
    assert find_loops(d.document) == before
    prepared = prepare(d.document)
    assert run_drive(prepared, until=0.01).level == "switching"


def test_both_switches_on_is_found_with_its_remedy():
    run = bridge_bench("0", duty=0.3, level="device", t_on="40", t_off="125", I_sat="310").run(0.01).kept
    (first, *_) = run.remarks
    assert first.card == "bridge"
    assert "both switches on for 85 ns" in first.sentence
    assert "peak 310 A" in first.sentence
    # Energy of one overlap: 48 V times the saturation current for 85 ns.
    assert f"{48 * 310 * 85e-9 * 1e3:.1f} mJ" in first.sentence
    dead = value_in_field(first.text, "s", Names({}))
    assert 85e-9 < dead < 100e-9
    fixed = bridge_bench(first.text, duty=0.3, level="device", t_on="40", t_off="125", I_sat="310").run(0.01)
    assert fixed.kept.remarks == []
    assert not bridge_bench("0", duty=0.3).run(0.01).kept.remarks


def test_no_gates_overlap_at_any_duty_however_short_the_pulse():
    """A pulse as long as the dead time must not leave a gate on: swept over duties about that case."""
    for duty in (0.96, 0.9599999999, 0.97, 0.98, 0.999, 1.0, -0.96, 0.0):
        run = bridge_bench("1", duty=duty).run(0.002)
        for leg in "ab":
            both = run[f"bridge.gate_{leg}_upper"].y * run[f"bridge.gate_{leg}_lower"].y
            assert not np.any(both), duty


def test_switching_energies_scale_with_voltage_and_current_and_stand_by_device():
    values = {"E_on": "60", "E_off": "80", "E_rec": "30", "t_tr": "50", "U_ref": "48", "I_ref": "20"}
    d = bridge_bench("0.3", duty=0.3, level="device", **values)
    run = d.run(0.05)
    current = last_mean(run, "motor.current", 0.01)
    keys = [k for k in run.keys() if "switching_energy" in k]
    assert len(keys) == 4
    lost = {k.rpartition(".")[2]: run.at(k, [0.04, 0.05]) for k in keys}
    power = {k: (e[1] - e[0]) / 0.01 for k, e in lost.items()}
    # The load's current enters at leg a's upper and leaves at leg b's lower switch, once a period each; of the
    # other two
    # only the diodes switch. A transition costs half of u times i for its time: Mohan, Undeland, Robbins, section 2-5.
    switching = 20e3 * ((60e-6 + 80e-6) * current / 20 + 2 * 0.5 * 48 * current * 50e-9)
    recovering = 20e3 * 30e-6 * current / 20
    for name, wanted in (
        ("a_upper", switching),
        ("b_lower", switching),
        ("a_lower", recovering),
        ("b_upper", recovering),
    ):
        assert power[f"switching_energy_{name}"] == pytest.approx(wanted, rel=0.04)


def test_a_kept_run_tells_its_switching_energies_again(tmp_path):
    from pendel.core.runs.preparing.simulate import reopen
    from pendel.core.runs.record import kept

    run = bridge_bench("0.3", duty=0.3, level="device").run(0.002).kept
    kept.save(run, tmp_path / "run1.h5")
    again = reopen(tmp_path / "run1.h5")
    key = "bridge.switching_energy_a_upper"
    np.testing.assert_array_equal(again.trace(key).y, run.trace(key).y)
    assert run.trace(key).y[-1] > 0


@pytest.mark.parametrize("current", [12.0, -12.0])
def test_an_igbt_leg_drops_what_transistor_and_diode_take_in_turn(current):
    # The transistor carries a positive load's current for its share of the period, the other switch's diode the rest:
    # Mohan, Undeland, Robbins, 3rd ed., section 7-3. Averaged and switching must both give that.
    duty, u_dc, v_t, r_t, v_d, r_d = 0.3, 300.0, 1.1, 0.02, 0.9, 0.01
    share = duty if current > 0 else 1 - duty
    drop = share * (v_t * np.sign(current) + r_t * current) + (1 - share) * (v_d * np.sign(current) + r_d * current)
    for level in ("averaged", "switching", "device"):
        d = pendel.Drive("Leg")
        for name, text in (
            ("level", level),
            ("tick", "100 us"),
            ("computing_delay", "0"),
            ("until", "20 ms"),
        ):
            d.set(name, text)
        d.add("dc_source", "Feed", U_0=str(u_dc), R_i="0")
        d.add(
            "half_bridge",
            "Leg",
            choices={"device": "igbt"},
            f_p="10",
            V_0=str(v_t),
            R_on="20",
            V_d=str(v_d),
            R_d="10",
            t_on="0",
            t_off="0",
            I_sat="5000",
        )
        d.add("pair_opener", "Ends")
        d.add("set_current", "Load")
        for name, value in (("Duty", duty), ("Amount", -current)):
            d.add("step", name, before=repr(value), after=repr(value))
        for a, b in (
            ("feed.dc", "leg.dc"),
            ("leg.out", "ends.pair"),
            ("ends.plus", "load.a"),
            ("load.b", "ends.minus"),
            ("duty.out", "leg.duty"),
            ("amount.out", "load.set"),
        ):
            d.connect(a, b)
        run = d.run()
        assert last_mean(run, "leg.output_current", 0.01) == pytest.approx(current)
        assert last_mean(run, "leg.output_voltage", 0.01) == pytest.approx(duty * u_dc - drop, rel=2e-4), level
        assert last_mean(run, "leg.loss", 0.01) == pytest.approx(drop * current, rel=2e-3), level


def test_a_split_link_gives_either_sign_and_its_middle_carries_the_load():
    for level in ("averaged", "switching"):
        d = pendel.Drive("Split")
        for name, text in (
            ("level", level),
            ("tick", "50 us"),
            ("computing_delay", "0"),
            ("until", "40 ms"),
            ("tolerance", "1e-7"),
        ):
            d.set(name, text)
        d.add("dc_source", "Feed", U_0="400", R_i="0")
        halves = {"u_upper": "200 V", "u_lower": "200 V"}
        d.add("split_half_bridge", "Bridge", C="2000", f_p="20", R_on="1", R_d="1", V_d="0", starts=halves)
        d.add("pair_opener", "Ends")
        d.add("inductor", "Coil", L="1", R_s="0")
        d.add("resistor", "Load", R="10")
        d.add("sine", "Duty", amplitude="0.3", mean="0.5", f="50")
        for a, b in (
            ("feed.dc", "bridge.dc"),
            ("bridge.out", "ends.pair"),
            ("ends.plus", "coil.a"),
            ("coil.b", "load.a"),
            ("load.b", "ends.minus"),
            ("duty.out", "bridge.duty"),
        ):
            d.connect(a, b)
        run = d.run()
        lines = run.spectrum("bridge.output_voltage", 0.02, 0.04, fundamental=50)
        # (d − ½)·U_dc about a middle that sways by I/(2·C·ω): both halves take the load's current in parallel.
        amplitude = 0.3 * 400
        current = amplitude / abs(10 + 2j * np.pi * 50 * 1e-3 + 1 / (2j * np.pi * 50 * 2 * 2e-3))
        assert run.spectrum("coil.current", 0.02, 0.04, fundamental=50).line(50) == pytest.approx(current, rel=0.01)
        sway = run.spectrum("bridge.middle_voltage", 0.02, 0.04, fundamental=50).line(50)
        assert sway == pytest.approx(current / (2 * 2e-3 * 2 * np.pi * 50), rel=0.02)
        assert lines.line(50) == pytest.approx(current * abs(10 + 2j * np.pi * 50e-3), rel=0.01)


def test_a_diode_recovers_the_charge_and_time_of_its_sheet():
    # Lauritzen, Ma: IEEE Trans. Power Electronics 6 (1991) 188, closed form of a current that falls at a given slope.
    from pendel.core.catalogue.electrical import recovery

    sheet = {"Q_rr": 0.5e-6, "t_rr": 120e-9, "I_F": 20.0, "slope": 1e8}
    tau, _ = recovery.times(sheet)
    peak, tail = recovery.peak_and_tail(sheet)
    d = pendel.Drive("Recovery")
    d.set("until", "2 us")
    d.set("tolerance", "1e-8")
    d.add("dc_source", "Back", U_0="100", R_i="0")
    d.add("pair_opener", "Ends")
    d.add("inductor", "Stray", L="0.001", R_s="0", starts={"i": "-20 A"})
    d.add(
        "diode",
        "Diode",
        V_d="0",
        R_d="0.01",
        Q_rr="0.5",
        t_rr="120",
        I_F="20",
        slope="100",
        starts={"q": f"{tau * 20!r} C"},
    )
    for a, b in (("back.dc", "ends.pair"), ("ends.plus", "stray.a"), ("stray.b", "diode.b"), ("diode.a", "ends.minus")):
        d.connect(a, b)
    i = d.run()["diode.current"]
    at = int(np.argmin(i.y))
    assert -i.y[at] == pytest.approx(peak, rel=1e-4)
    assert -np.trapezoid(np.minimum(i.y, 0), i.t) == pytest.approx(0.5e-6, rel=2e-3)
    begins = i.t[np.argmax(i.y < 0)]
    ends = i.t[(i.t > i.t[at]) & (i.y > 0.1 * i.y[at])][0]
    assert ends - begins == pytest.approx(120e-9, rel=0.01)
    assert tail == pytest.approx((120e-9 - peak / 1e8) / np.log(10))
    d.set("diode.Q_rr", "3")
    assert any("no diode loses 3 µC" in f.sentence for f in d.check())


def test_spectrum_of_a_square_wave_and_its_distortion():
    # Fourier series of a square wave: 4/(π·n) for odd n; THD over all orders √(π²/8 − 1), here over those to 50.
    t = np.array([0, 0, 1, 1, 2, 2, 3, 3, 4, 4]) * 0.01
    y = np.array([0, 1, 1, -1, -1, 1, 1, -1, -1, 0.0])
    lines = spectrum(t, y, 0.001, 0.0399, fundamental=50.0)
    assert lines.end - lines.start == pytest.approx(0.02)
    for n in (1, 3, 21, 49):
        assert lines.line(50 * n) == pytest.approx(4 / np.pi / n, rel=1e-3)
    assert lines.line(100) < 1e-3
    orders = np.arange(3, 51, 2)
    assert lines.distortion(50) == pytest.approx(np.sqrt(np.sum(1.0 / orders**2)), rel=1e-3)
    ramp = spectrum(np.array([0.0, 1.0]), np.array([2.0, 4.0]), 0.0, 1.0)
    assert ramp.mean == pytest.approx(3.0, rel=1e-12)
    assert ramp.line(5) == pytest.approx(2 / np.pi / 5, rel=1e-3)


def test_traces_between_steps_follow_the_equations():
    """A resonance seen through few steps: points between lie on the closed form, jumps stay upright."""
    d = circuit(
        ("dc_source", "Feed", {"U_0": "10", "R_i": "0"}),
        ("pair_opener", "Ends", {}),
        ("resistor", "R", {"R": "0.2"}),
        ("inductor", "L", {"L": "1"}),
        ("capacitor", "C", {"C": "10"}),
        wires=(("feed.dc", "ends.pair"), ("ends.plus", "r.a"), ("r.b", "l.a"), ("l.b", "c.a"), ("c.b", "ends.minus")),
        tolerance="1e-6",
    )
    run = d.run(5e-3)
    u = run["c.voltage"]
    assert len(u.t) > 3 * len(run.kept.rows)
    a, w = 0.1 / 1e-3, np.sqrt(1e8 - (0.1 / 1e-3) ** 2)
    np.testing.assert_allclose(
        u.y, 10 * (1 - np.exp(-a * u.t) * (np.cos(w * u.t) + a / w * np.sin(w * u.t))), atol=3e-3
    )


def grid_tied(method, step="1 us"):
    """A half bridge with a choke on a 50 Hz source, its current controlled at 20 kHz."""
    d = pendel.Drive("Grid tied")
    for name, text in (("level", "switching"), ("tick", "50 us"), ("method", method), ("step", step)):
        d.set(name, text)
    for kind, name, values in (
        ("dc_source", "Link", {"U_0": "400", "R_i": "0"}),
        ("dc_source", "Half", {"U_0": "200", "R_i": "0"}),
        ("half_bridge", "Leg", {"f_p": "20", "R_on": "10", "R_d": "10", "V_d": "0"}),
        ("pair_opener", "Out", {}),
        ("pair_opener", "Middle", {}),
        ("inductor", "Choke", {"L": "3", "R_s": "100"}),
        ("ac_source", "Grid", {"U": "100", "f": "50", "R_i": "10", "L_i": "0.1"}),
        ("current_sensor", "Sensor", {}),
        ("sine", "Wanted", {"amplitude": "20", "f": "50"}),
        ("sine", "Ahead", {"amplitude": "141.4", "f": "50"}),
        ("pi", "Control", {"K_p": "20", "T_i": "2 ms", "low": "-190", "high": "190"}),
        ("gain", "Share", {"K": "0.0025"}),
        ("step", "Half duty", {"before": "0.5", "after": "0.5"}),
        ("sum", "Duty", {}),
    ):
        d.add(kind, name, **values)
    for a, b in (
        ("link.dc", "leg.dc"),
        ("leg.out", "out.pair"),
        ("out.plus", "choke.a"),
        ("choke.b", "grid.a"),
        ("grid.b", "middle.plus"),
        ("half.dc", "middle.pair"),
        ("middle.minus", "out.minus"),
        ("choke.current", "sensor.measured"),
        ("wanted.out", "control.setpoint"),
        ("sensor.value", "control.actual"),
        ("ahead.out", "control.feedforward"),
        ("control.out", "share.x"),
        ("share.out", "duty.a"),
        ("half_duty.out", "duty.b"),
        ("duty.out", "leg.duty"),
    ):
        d.connect(a, b)
    return d


def test_fixed_steps_count_edges_inside_them_and_have_order_one():
    reference = grid_tied("auto").run(0.06)["choke.current"]
    at = np.linspace(0.02, 0.06, 20_001)
    exact = np.interp(at, reference.t, reference.y)
    gaps = []
    for step in ("8 us", "4 us", "1 us"):
        run = grid_tied("fixed", step).run(0.06)
        current = run["choke.current"]
        gaps.append(np.sqrt(np.mean((np.interp(at, current.t, current.y) - exact) ** 2)) / np.max(np.abs(exact)))
        assert run.kept.settings["load"] > 0
        assert run.kept.settings["worst_step"] > 0
    assert gaps[2] < 2e-3
    assert gaps[0] > 1.3 * gaps[1] > 1.3 * gaps[2]


def test_fixed_steps_stick_and_slide_in_the_door_drive(door):
    d = pendel.Drive(document=door)
    adaptive = d.run()
    d.set("method", "fixed")
    d.set("step", "10 us")
    run = d.run()
    at = np.linspace(0, 1.2, 500)
    gap = run.at("door_leaf.speed", at) - adaptive.at("door_leaf.speed", at)
    assert np.max(np.abs(gap)) < 5e-3
    assert np.all(run.at("door_leaf.speed", np.linspace(0.001, 0.05, 20)) == 0.0)
    assert run.kept.counters["events"] < 200


def test_fixed_steps_pass_diodes_and_machines():
    d = three_phase_rectifier("3")
    d.set("method", "fixed")
    d.set("step", "5 us")
    run = d.run(0.3)
    i = last_mean(run, "choke.current", 0.1)
    wanted = 3 * np.sqrt(2) / np.pi * 400 - 3 * 2 * np.pi * 50 * 3e-3 / np.pi * i - 2e-3 * i
    assert last_mean(run, "load.voltage", 0.1) == pytest.approx(wanted, rel=1e-3)
    machine = bridge_bench("1", duty=0.3)
    adaptive = last_mean(machine.run(0.05), "motor.current", 5e-3)
    machine.set("method", "fixed")
    assert last_mean(machine.run(0.05), "motor.current", 5e-3) == pytest.approx(adaptive, rel=5e-3)


@pytest.mark.parametrize(("group", "shift"), [("Yy0", 0.0), ("Yd1", -30.0), ("Dy11", 30.0)])
def test_vector_groups_shift_by_their_clock_number(group, shift):
    # A clock number of one is a lag of 30° of the second side (IEC 60076-1, from memory).
    d = pendel.Drive("Transformer")
    d.add("three_phase_source", "Grid", U="400", f="50", R_i="1", L_i="0.001")
    d.add(
        "three_phase_transformer",
        "T",
        choices={"group": group},
        ratio="2",
        R_1="0.01",
        L_1="0.1",
        R_2="0.01",
        L_2="0.05",
        L_m="5",
    )
    d.add("star_load", "Load", R="50", L="0.01")
    d.connect("grid.out", "t.first")
    d.connect("t.second", "load.in")
    run = d.run(0.2)
    phasors = []
    for side in ("first", "second"):
        u = run[f"t.voltage_{side}"]
        t = np.linspace(0.16, 0.2, 4001)[:-1]
        phasors.append(2 * np.mean(np.interp(t, u.t, u.y) * np.exp(-2j * np.pi * 50 * t)))
    ratio = phasors[1] / phasors[0]
    assert abs(ratio) == pytest.approx(0.5, rel=5e-3)
    assert np.rad2deg(np.angle(ratio)) == pytest.approx(shift, abs=0.5)
    assert energy_gap(d.run(0.05, with_energy=True)) < 1e-5


def test_interleaved_legs_cancel_their_pulse_frequency():
    def ripple(phase):
        d = pendel.Drive("Interleaved")
        for name, text in (("level", "switching"), ("tick", "50 us")):
            d.set(name, text)
        d.add("dc_source", "Link", U_0="400", R_i="0")
        d.add("step", "Duty", before="0.3", after="0.3")
        d.add("resistor", "Load", R="5")
        for k, shift in enumerate(("0", phase)):
            d.add("half_bridge", f"Leg {k}", f_p="20", R_on="5", R_d="5", V_d="0", shift=shift)
            d.add("pair_opener", f"Out {k}")
            d.add("inductor", f"Coil {k}", L="1", R_s="10")
            for a, b in (
                ("link.dc", f"leg_{k}.dc"),
                (f"leg_{k}.out", f"out_{k}.pair"),
                (f"out_{k}.plus", f"coil_{k}.a"),
                (f"coil_{k}.b", "load.a"),
                ("load.b", f"out_{k}.minus"),
                ("duty.out", f"leg_{k}.duty"),
            ):
                d.connect(a, b)
        u = d.run(0.02)["load.voltage"]
        return spectrum(u.t, u.y, 0.01, 0.02, fundamental=20e3)

    together, apart = ripple("0"), ripple("180")
    assert apart.line(20e3) < 1e-3 * together.line(20e3)
    assert apart.line(40e3) == pytest.approx(together.line(40e3), rel=0.02)
    assert apart.mean == pytest.approx(together.mean, rel=1e-3)


def test_harmonics_of_a_source_stand_where_their_order_says():
    # In a balanced three-phase system the 5th runs backwards and the 3rd is common to all phases: Mohan, Undeland,
    # Robbins, 3rd ed., section 3-2 (from memory). The share is of the fundamental, the phase counts at the harmonic.
    d = pendel.Drive("Grid")
    for name, text in (("tolerance", "1e-8"), ("until", "60 ms")):
        d.set(name, text)
    d.add(
        "three_phase_source",
        "Grid",
        U="400",
        f="50",
        R_i="0",
        L_i="0.001",
        rows=(("3", "10", "0"), ("5", "6 %", "30 deg"), ("7", "k_7", "0")),
    )
    d.define("k_7", "4 %")
    d.add("phase_opener", "Lines")
    d.add("ground", "Earth")
    d.connect("grid.out", "lines.phases")
    d.connect("grid.star", "earth.line")
    for n in "abc":
        d.add("resistor", f"Load {n}", R="1000")
        d.connect(f"lines.{n}", f"load_{n}.a")
        d.connect(f"load_{n}.b", "earth.line")
    run = d.run()
    peak = 400 * np.sqrt(2 / 3)
    t = np.linspace(0.02, 0.06, 8001)
    for phase, n in enumerate("abc"):
        a = 2 * np.pi * 50 * t - 2 * np.pi * phase / 3
        wanted = peak * (np.sin(a) + 0.1 * np.sin(3 * a) + 0.06 * np.sin(5 * a + np.pi / 6) + 0.04 * np.sin(7 * a))
        np.testing.assert_allclose(run.at(f"load_{n}.voltage", t), wanted, atol=2e-3 * peak)
    lines = run.spectrum("load_a.voltage", 0.02, 0.06, fundamental=50)
    assert lines.distortion(50) == pytest.approx(np.sqrt(0.1**2 + 0.06**2 + 0.04**2), rel=1e-3)


def test_harmonics_that_cannot_be_are_findings():
    d = pendel.Drive("Grid")
    d.add("ac_source", "Grid", rows=(("5", "3", "0"), ("1.5", "3", "0"), ("403", "1 V", "0")))
    sentences = [f.sentence for f in d.check()]
    assert any("harmonics row 2" in s and "whole number" in s for s in sentences)
    assert any("harmonics row 3" in s and "1 V" in s for s in sentences)
    d = pendel.Drive("Grid")
    d.add("ac_source", "Grid", rows=(("5", "3", "0"), ("403", "1", "0")))
    d.set("method", "fixed")
    d.set("step", "50 us")
    assert any("order 403 is at 20" in f.sentence and "below 24.81 µs" in f.sentence for f in d.check())


def test_an_own_circuit_takes_the_place_of_a_ready_converter():
    """The half bridge drawn from two transistors, one pulsed by the duty and one while that is off, gives its
    traces."""

    def bench(own: bool) -> pendel.Drive:
        d = pendel.Drive("Bench")
        for name, text in (("level", "switching"), ("tick", "50 us"), ("computing_delay", "0"), ("until", "4 ms")):
            d.set(name, text)
        d.add("dc_source", "Feed", U_0="48", R_i="0")
        d.add("inductor", "Coil", L="0.3", R_s="100")
        d.add("resistor", "Load", R="3")
        d.add("sine", "Duty", amplitude="0.3", mean="0.5", f="500")
        if own:
            d.add("pair_opener", "Ends")
            values = {"R_on": "6", "V_d": "0.8", "R_d": "6", "t_on": "1 us"}
            d.add("transistor", "Upper", choices={"gate": "duty"}, **values)
            d.add("transistor", "Lower", choices={"gate": "inverse"}, **values)
            wires = (
                ("feed.dc", "ends.pair"),
                ("ends.plus", "upper.a"),
                ("upper.b", "lower.a"),
                ("lower.b", "ends.minus"),
                ("upper.b", "coil.a"),
                ("load.b", "ends.minus"),
                ("duty.out", "upper.on"),
                ("duty.out", "lower.on"),
            )
        else:
            d.add("half_bridge", "Leg", f_p="20", t_dead="1 us", R_on="6", V_d="0.8", R_d="6")
            d.add("pair_opener", "Ends")
            wires = (
                ("feed.dc", "leg.dc"),
                ("leg.out", "ends.pair"),
                ("ends.plus", "coil.a"),
                ("load.b", "ends.minus"),
                ("duty.out", "leg.duty"),
            )
        for a, b in (*wires, ("coil.b", "load.a")):
            d.connect(a, b)
        if own:
            d.group(["upper", "lower", "ends"], "Own leg", face={"t_dead": "upper.t_on"})
        return d

    ready, own = bench(False).run(), bench(True).run()
    t = np.linspace(0, 4e-3, 4001)
    a, b = ready.at("coil.current", t), own.at("coil.current", t)
    np.testing.assert_allclose(b, a, atol=2e-4 * np.max(np.abs(a)))


def test_devices_that_short_a_source_for_good_are_named():
    d = pendel.Drive("Bench")
    d.set("until", "20 ms")
    d.add("dc_source", "Feed", U_0="48", R_i="50")
    d.add("pair_opener", "Ends")
    d.add("transistor", "Upper", R_on="10")
    d.add("switch", "Lower", R_on="10")
    d.add("step", "Always", before="1", after="1")
    d.add("step", "Late", before="0", after="1", t_0="8 ms")
    for a, b in (
        ("feed.dc", "ends.pair"),
        ("ends.plus", "upper.a"),
        ("upper.b", "lower.a"),
        ("lower.b", "ends.minus"),
        ("always.out", "upper.on"),
        ("late.out", "lower.on"),
    ):
        d.connect(a, b)
    with pytest.raises(RunProblem) as stopped:
        d.run()
    kept = stopped.value.run
    assert kept.rows[-1, 0] == pytest.approx(9e-3, abs=1.1e-4)
    (remark,) = kept.remarks
    assert "Upper and Lower short-circuit Feed from 8" in remark.sentence and "to the end" in remark.sentence
    assert f"up to {48 / 0.07:.0f} A" in remark.sentence and remark.sentence in str(stopped.value)
    d.set("late.t_0", "1 s")
    assert not d.run().remarks


@pytest.mark.parametrize("level", ["averaged", "switching"])
@pytest.mark.parametrize(
    ("asked", "words"),
    [
        (
            ("1.4", "0.5"),
            "“Duty, 0 to 1” was asked for 1.4 at 0 s and was beyond its range for 25 % of the run. "
            "The converter gives 1 then. Limit what Demand gives.",
        ),
        (
            ("0.5", "-0.2"),
            "was asked for −0.2 at 5 ms and was beyond its range for 75 % of the run. The converter gives 0 then.",
        ),
        (("0", "1"), ""),
    ],
)
def test_a_duty_beyond_its_range_is_told(level, asked, words):
    """A converter takes the end of its range in silence; the finding says which input, what was asked, when, and for
    how long."""
    d = pendel.Drive("Supply")
    for name, text in (("level", level), ("until", "20 ms"), ("tick", "50 us")):
        d.set(name, text)
    d.add("dc_source", "Feed", U_0="24", R_i="10 mohm")
    d.add("step_down", "Conv")
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R="10")
    d.add("step", "Demand", before=asked[0], after=asked[1], t_0="5 ms")
    for a, b in (
        ("feed.dc", "conv.dc"),
        ("conv.out", "ends.pair"),
        ("ends.plus", "load.a"),
        ("ends.minus", "load.b"),
        ("demand.out", "conv.duty"),
    ):
        d.connect(a, b)
    with d.live() as live:
        live.advance(20e-3)
        part = live.keep(10e-3)
    beyond = [
        r
        for r in duties_beyond(part.kept, d.document, {k: kind_of(c) for k, c in d.document.cards.items()})
        if r.card == "conv"
    ]
    assert len(beyond) == (asked[1] == "-0.2")
    for remark in beyond:
        assert "at 10 ms and was beyond its range for 100 % of the run" in remark.sentence
        assert remark.time == pytest.approx(10e-3)
    found = [r.sentence for r in d.run().kept.remarks]
    assert (not found) if not words else (len(found) == 1 and words in found[0] and found[0].startswith("Conv: "))


@pytest.mark.parametrize("kind", ["step_down", "step_up", "inverting"])
def test_small_changes_of_duty_in_both_modes_of_conduction(kind):
    """Erickson, Maksimović: Fundamentals of Power Electronics, 3rd ed. (from memory): table 8.2 in continuous
    conduction, with the zero in the right half plane of step-up and inverting converters; table 11.3 for gain and slow
    pole in discontinuous conduction, where that zero and the choke's pole lie near the pulse frequency."""
    d, load = 0.4, 8.0
    f = np.array([5.0, 100.0, 1000.0, 4000.0])
    s, rest = 2j * np.pi * f, 1 - d

    def response(drive, settle):
        drive.set("until", settle)
        way = drive.transfer("conv.duty", "conv.output_voltage", opened=["conv.duty"], at="steady")
        assert way.lifted is None, "no block lies between"
        return way.response(f)

    gain, zero, slow = {
        "step_down": (24.0, np.inf, 1.0),
        "step_up": (24 / rest**2, rest**2 * load / L, rest),
        "inverting": (24 / rest**2, rest**2 * load / (d * L), rest),
    }[kind]
    expected = gain * (1 - s / zero) / (1 + s * L / (slow**2 * load) + s**2 * L * C / slow**2)
    assert response(dc_converter(kind, d, load, "averaged", R_on="0.001", R_d="0.001"), "40 ms") == pytest.approx(
        expected, rel=2e-3
    )
    load, k = 400.0, 2 * L * F / 400.0
    m = textbook_ratio(kind, d, load)
    volts = 24 * m
    gain, pole = {
        "step_down": (2 * volts / d * (1 - m) / (2 - m), (2 - m) / ((1 - m) * load * C)),
        "step_up": (2 * volts / d * (m - 1) / (2 * m - 1), (2 * m - 1) / ((m - 1) * load * C)),
        "inverting": (volts / d, 2 / (load * C)),
    }[kind]
    found = response(dc_converter(kind, d, load, "averaged", R_on="0.001", R_d="0.001"), "1 s")
    expected = gain / (1 + s / pole)
    assert k < 0.1 and found[:3] == pytest.approx(expected[:3], rel=0.08)
    assert found[:2] == pytest.approx(expected[:2], rel=0.01)
