"""The permanent-magnet synchronous machine and its control against phasors, SciPy and optimisation."""

import dataclasses
from pathlib import Path

import numpy as np
import pytest
import scipy.integrate
import scipy.optimize

import pendel
from pendel.core.catalogue.machines import pmsm
from pendel.core.check import examine
from pendel.core.drive import commands
from pendel.core.runs.preparing.simulate import prepare

EXAMPLES = Path(pendel.__file__).parent / "examples"

VALUES = {"p": "4", "R_s": "40", "L_d": "0.9", "L_q": "1.4", "psi_f": "0.32", "J_m": "0.08", "b_m": "0.02"}
R, L_D, L_Q, PSI, P = 0.04, 0.9e-3, 1.4e-3, 0.32, 4


def on_grid(speed, voltage=160.0, frequency=None, until="0.3 s", starts=None, **values):
    """The machine on three sine voltages behind next to nothing, at a given speed or free."""
    d = pendel.Drive("Grid")
    d.set("tolerance", "1e-8")
    d.set("until", until)
    d.add("pmsm", "Machine", starts=starts or {}, **{**VALUES, **values})
    f = frequency if frequency is not None else P * speed / 2 / np.pi
    d.add(
        "three_phase_source",
        "Grid",
        U=str(voltage * np.sqrt(1.5)),
        f=repr(f),
        angle="90 deg",
        R_i="0",
        L_i="1e-6",
    )
    d.connect("grid.out", "machine.phases")
    if speed is not None:
        d.add("imposed_speed", "Bench", profile=[("0", repr(speed)), ("9", repr(speed))])
        d.connect("machine.shaft", "bench.a")
    return d


def test_steady_state_follows_the_phasor_diagram():
    # Fitzgerald, Kingsley, Umans: Electric Machinery, 6th ed., section 5.6 (two-reaction theory), in peak values:
    # with the
    # voltage along the d axis at time zero the currents solve R·i + jX·i + E = U.
    speed, voltage = 60.0, 160.0
    run = on_grid(speed, voltage).run()
    w = P * speed
    u_d, u_q = voltage * np.cos(0.0), 0.0
    i_d, i_q = np.linalg.solve([[R, -w * L_Q], [w * L_D, R]], [u_d, u_q - w * PSI])
    torque = 1.5 * P * (PSI + (L_D - L_Q) * i_d) * i_q
    for key, wanted in (
        ("i_d", i_d),
        ("i_q", i_q),
        ("torque", torque),
        ("copper_loss", 1.5 * R * (i_d**2 + i_q**2)),
    ):
        assert run.at(f"machine.{key}", [0.29])[0] == pytest.approx(wanted, rel=2e-4), key
    # Power in is copper loss and shaft power; the phase current's peak is the length of the vector.
    phase = run["machine.current_b"]
    assert np.max(np.abs(phase.y[phase.t > 0.26])) == pytest.approx(np.hypot(i_d, i_q), rel=1e-3)


def test_running_up_on_a_source_agrees_with_scipy():
    frequency, voltage, j, b = 8.0, 60.0, 0.08, 0.02
    d = on_grid(None, voltage, frequency, until="0.4 s")
    run = d.run()

    def f(t, x):
        i_d, i_q, w, phi = x
        angle = 2 * np.pi * frequency * t - P * phi
        u_d, u_q = voltage * np.cos(angle), voltage * np.sin(angle)
        torque = 1.5 * P * (PSI + (L_D - L_Q) * i_d) * i_q
        return [
            (u_d - R * i_d + P * w * L_Q * i_q) / L_D,
            (u_q - R * i_q - P * w * (L_D * i_d + PSI)) / L_Q,
            (torque - b * w) / j,
            w,
        ]

    t = np.linspace(0, 0.4, 801)
    x = scipy.integrate.solve_ivp(f, (0, 0.4), [0, 0, 0, 0], t_eval=t, rtol=1e-10, atol=1e-10).y
    for key, row in (("i_d", x[0]), ("i_q", x[1]), ("speed", x[2])):
        np.testing.assert_allclose(run.at(f"machine.{key}", t), row, atol=2e-4 * np.max(np.abs(row)))


def test_energy_in_is_energy_stored_lost_and_delivered():
    from pendel.core.runs.found.spectra import integral
    from pendel.core.runs.preparing.simulate import prepare, run_drive

    d = on_grid(None, 60.0, 8.0, until="0.3 s", P_fe="40", n_fe="300")
    run = run_drive(prepare(d.document, with_energy=True))
    t = run.trace("machine.speed").t
    fed = sum(run.trace(f"machine.voltage_{n}").y * run.trace(f"machine.current_{n}").y for n in "abc")
    held = (
        0.75 * (L_D * run.trace("machine.i_d").y ** 2 + L_Q * run.trace("machine.i_q").y ** 2)
        + 0.04 * run.trace("machine.speed").y ** 2
    )
    whole = np.array([0.0, t[-1]])
    energy = float(integral(t, fed, whole)[-1] - integral(t, fed, whole)[0])
    lost = float(np.diff(integral(t, run.trace("machine.loss").y, whole))[0])
    assert energy == pytest.approx(held[-1] - held[0] + lost, rel=1e-5)


@pytest.mark.parametrize(("form", "number"), [("line rms", 164.17), ("line peak", 232.17), ("phase peak", 134.04)])
def test_a_sheet_in_any_form_of_its_emf_gives_the_same_machine(form, number):
    # ψ = û_phase/(p·ω); 0.32 Wb and 4 pole pairs at 1000 rpm: 134.04 V phase peak, times √3, over √2 for rms.
    d = on_grid(60.0)
    plain = d.run(0.05)
    sheet = on_grid(60.0, R_ll="80", L_ll="1.8", L_ll_q="2.8", K_E=repr(number))
    for name, option in (("entry", "sheet"), ("emf", form)):
        sheet.do(commands.set_choice(sheet.document, "machine", name, option))
    t = np.linspace(0, 0.05, 200)
    a, b = plain.at("machine.torque", t), sheet.run(0.05).at("machine.torque", t)
    np.testing.assert_allclose(b, a, atol=2e-4 * np.max(np.abs(a)))
    for k_t, wrong in (("2.715", False), ("1.92", True), ("4.70", True)):
        sheet.set("machine.k_t", k_t)
        sentences = [f.sentence for f in sheet.check() if "contradict" in f.sentence]
        assert bool(sentences) == wrong
    other = "line rms" if form == "phase peak" else "phase peak"
    sheet.set("machine.k_t", str(2.715 * pmsm.FORMS[other] / pmsm.FORMS[form]))
    assert any(f"agree if the EMF is given as {other}" in f.sentence for f in sheet.check())


def test_a_winding_in_delta_is_its_equivalent_star():
    star = on_grid(60.0).run(0.05)
    d = on_grid(60.0, R_s="120", L_d="2.7", L_q="4.2", psi_f=str(0.32 * np.sqrt(3)))
    d.do(commands.set_choice(d.document, "machine", "winding", "delta"))
    t = np.linspace(0, 0.05, 200)
    np.testing.assert_allclose(
        d.run(0.05).at("machine.torque", t),
        star.at("machine.torque", t),
        atol=1e-3 * np.max(np.abs(star["machine.torque"].y)),
    )


def test_a_warm_winding_has_more_resistance():
    # Copper: R(T) = R_20·(235 + T)/(235 + 20), IEC 60034-1 (from memory); the machine takes the slope at 20 °C.
    cold, warm = (on_grid(60.0, T_w=t).run(0.3) for t in ("20", "120"))
    ratio = [r.at("machine.copper_loss", [0.29])[0] / r.at("machine.current", [0.29])[0] ** 2 for r in (cold, warm)]
    assert ratio[1] / ratio[0] == pytest.approx((235 + 120) / (235 + 20), rel=2e-3)


# control ---------------------------------------------------------------------------


def blocks(*cards, wires, constants):
    d = pendel.Drive("Blocks")
    d.set("until", "5 ms")
    d.set("tick", "100 us")
    for name, value in constants.items():
        d.add("constant", name, value=repr(float(value)))
    for kind, name, values in cards:
        d.add(kind, name, **values)
    for a, b in wires:
        d.connect(a, b)
    return d


@pytest.mark.parametrize("keeps", ["amplitude", "power"])
def test_transforms_undo_each_other_and_keep_what_they_say(keeps):
    a, b, angle = 3.0, -1.2, 0.7
    constants = {"A": a, "B": b, "C": -a - b, "Angle": angle}
    cards = [
        ("clarke", "Clarke", {}),
        ("park", "Park", {}),
        ("inverse_park", "Back", {}),
        ("inverse_clarke", "Phases", {}),
        ("abc_to_dq", "Both", {}),
        ("dq_to_abc", "And back", {}),
    ]
    wires = [
        *((f"{n}.out", f"clarke.{n}") for n in "abc"),
        *((f"{n}.out", f"both.{n}") for n in "abc"),
        ("clarke.alpha", "park.alpha"),
        ("clarke.beta", "park.beta"),
        ("angle.out", "park.angle"),
        ("angle.out", "back.angle"),
        ("angle.out", "both.angle"),
        ("angle.out", "and_back.angle"),
        ("park.d", "back.d"),
        ("park.q", "back.q"),
        ("back.alpha", "phases.alpha"),
        ("back.beta", "phases.beta"),
        ("both.d", "and_back.d"),
        ("both.q", "and_back.q"),
    ]
    d = blocks(*cards, wires=wires, constants=constants)
    for card in ("clarke", "phases", "both", "and_back"):
        d.do(commands.set_choice(d.document, card, "invariant", keeps))
    run = d.run()
    last = {k: run[k].y[-1] for k in run.keys()}
    for n, value in zip("abc", (a, b, -a - b)):
        assert last[f"phases.{n}"] == pytest.approx(value) and last[f"and_back.{n}"] == pytest.approx(value)
    assert (last["both.d"], last["both.q"]) == pytest.approx((last["park.d"], last["park.q"]))
    squares = a * a + b * b + (a + b) ** 2
    size = last["clarke.alpha"] ** 2 + last["clarke.beta"] ** 2
    assert size == pytest.approx(squares if keeps == "power" else squares * 2 / 3)
    if keeps == "amplitude":
        assert last["clarke.alpha"] == pytest.approx(a)


MACHINE = {"p": "4", "psi": "0.32", "L_d": "0.9", "L_q": "1.4"}


@pytest.mark.parametrize(
    ("torque", "speed"),
    [(150.0, 100.0), (400.0, 300.0), (-400.0, 300.0), (120.0, 1400.0), (60.0, 2000.0), (2000.0, 50.0)],
)
def test_currents_are_the_fewest_that_give_the_torque_within_the_voltage(torque, speed):
    """SciPy's constrained optimum; where the torque is out of reach, the most torque there is."""
    u, maximum = 0.98 * 560 / np.sqrt(3), 250.0
    d = blocks(
        ("torque_to_currents", "Currents", {**MACHINE, "I_max": str(maximum), "U_dc": "560"}),
        wires=[("torque.out", "currents.torque"), ("speed.out", "currents.speed")],
        constants={"Torque": torque, "Speed": speed},
    )
    run = d.run(0.05)
    i_d, i_q = run["currents.i_d"].y[-1], run["currents.i_q"].y[-1]

    def gives(i):
        return 1.5 * P * (PSI + (L_D - L_Q) * i[0]) * i[1]

    limits = [
        {"type": "ineq", "fun": lambda i: (u / speed) ** 2 - (L_D * i[0] + PSI) ** 2 - (L_Q * i[1]) ** 2},
        {"type": "ineq", "fun": lambda i: (maximum**2 - i[0] ** 2 - i[1] ** 2) / maximum**2},
    ]
    start = [max(-0.8 * maximum, min(-1.0, (0.9 * u / speed - PSI) / L_D)), 0.1 * maximum * np.sign(torque)]
    best = scipy.optimize.minimize(
        lambda i: -np.sign(torque) * gives(i) / 100,
        start,
        constraints=limits,
        method="SLSQP",
        options={"maxiter": 500, "ftol": 1e-12},
    )
    reach = abs(gives(best.x))
    assert (u / speed) ** 2 * (1 + 1e-6) >= (L_D * i_d + PSI) ** 2 + (L_Q * i_q) ** 2
    assert np.hypot(i_d, i_q) <= maximum * (1 + 1e-6)
    if reach > abs(torque) * 1.001:
        same = [*limits, {"type": "eq", "fun": lambda i: (gives(i) - torque) / 100}]
        fewest = scipy.optimize.minimize(
            lambda i: (i[0] ** 2 + i[1] ** 2) / 1e4,
            best.x * abs(torque) / reach,
            constraints=same,
            method="SLSQP",
            options={"maxiter": 500, "ftol": 1e-14},
        )
        assert gives((i_d, i_q)) == pytest.approx(torque, rel=1e-4)
        assert np.hypot(i_d, i_q) == pytest.approx(np.hypot(*fewest.x), rel=2e-3)
    else:
        assert abs(gives((i_d, i_q))) > 0.9 * reach


def test_a_machine_with_the_larger_inductance_along_d_has_its_most_torque_with_more_field():
    """Against SciPy's search; the block that weakens the field only says so, and keeps to i_d up to 0."""
    swapped = {**VALUES, "L_d": VALUES["L_q"], "L_q": VALUES["L_d"]}
    d = pendel.Drive("Swapped")
    d.add("pmsm", "Machine", **swapped)
    machine = pmsm.circuit(examine(d.document).values["machine"], d.document.cards["machine"])
    lead = scipy.optimize.minimize_scalar(
        lambda a: -pmsm.torque_of(machine, 250 * np.sin(a), 250 * np.cos(a)), bounds=(-1.5, 1.5), method="bounded"
    )
    i_d, i_q = pmsm.best_point(machine, 250.0, 0.0, 560 / np.sqrt(3))
    assert lead.x > 0.05 and i_d == pytest.approx(250 * np.sin(lead.x), abs=0.2)
    assert pmsm.torque_of(machine, i_d, i_q) == pytest.approx(-lead.fun, rel=1e-6)
    assert pmsm.torque_of(machine, 0.0, 250.0) < 0.99 * -lead.fun
    currents = ("torque_to_currents", "Currents", {**MACHINE, "L_d": "1.4 mH", "L_q": "0.9 mH"})
    wires = [("torque.out", "currents.torque")]
    d = blocks(currents, wires=wires, constants={"Torque": 150.0})
    (said,) = [f for f in examine(d.document).findings if f.card == "currents"]
    assert not said.stops and "L_d (1.4 mH) is above L_q (900 µH)" in said.sentence
    run = d.run(0.05)
    assert run["currents.i_d"].y[-1] == 0.0
    assert 1.5 * 4 * 0.32 * run["currents.i_q"].y[-1] == pytest.approx(150.0)
    d.set("currents.L_q", "1.4 mH")
    assert not [f for f in examine(d.document).findings if f.card == "currents"]


def test_the_envelope_falls_beyond_its_corner_as_the_optimum_does():
    card = pendel.Drive("x")
    card.add("pmsm", "Machine", **VALUES)
    examined = examine(card.document).values["machine"]
    machine = pmsm.circuit(examined, card.document.cards["machine"])
    u = 560 / np.sqrt(3)
    n_c = pmsm.corner(machine, 250.0, u)
    top = pmsm.most_torque(machine, 250.0, 0.0, u)
    assert pmsm.most_torque(machine, 250.0, 0.99 * n_c, u) == pytest.approx(top, rel=1e-3)
    assert pmsm.most_torque(machine, 250.0, 1.3 * n_c, u) < 0.9 * top
    # Krishnan: at the corner the voltage of the most-torque-per-ampere point is used up.
    q = scipy.optimize.minimize_scalar(
        lambda d: -(PSI + (L_D - L_Q) * d) * np.sqrt(250**2 - d**2), bounds=(-249, 0), method="bounded"
    ).x
    flux = np.hypot(L_D * q + PSI, L_Q * np.sqrt(250**2 - q**2))
    assert n_c == pytest.approx(u / flux / P, rel=2e-3)


def test_vectors_at_an_instant_are_those_of_the_machine():
    from pendel.core.runs.found.vectors import current_path, machines, vectors_at

    run = on_grid(60.0).run(0.1).kept
    assert machines(run) == ["machine"]
    for time in (0.05, 0.0873):
        found = vectors_at(run, "machine", time)
        for vector, d, q in (
            (found.current, "i_d", "i_q"),
            (found.voltage, "u_d", "u_q"),
            (found.flux, "flux_d", "flux_q"),
        ):
            wanted = [np.interp(time, run.trace(f"machine.{n}").t, run.trace(f"machine.{n}").y) for n in (d, q)]
            seen = found.in_rotor(vector)
            assert (seen.real, seen.imag) == pytest.approx(tuple(wanted), rel=0.01, abs=0.01 * np.hypot(*wanted))
    path = current_path(run, "machine", 0.08, 0.1)
    np.testing.assert_allclose(
        path.real,
        np.interp(np.linspace(0.08, 0.1, 400), run.trace("machine.current_a").t, run.trace("machine.current_a").y),
    )


@pytest.mark.parametrize("speed", [60.0, 150.0, -150.0])
def test_the_emf_observer_finds_angle_and_speed(speed):
    # The rotor's true angle is the reference; what remains is what sampling the voltage leaves, 1° electrical.
    # Dead time
    # then costs several degrees more, as in practice.
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    bench = d.document.cards["test_bench"]
    d.document.cards["test_bench"] = dataclasses.replace(bench, profile=(("0", repr(speed)), ("9", repr(speed))))
    for name in ("t_dead", "V_0", "V_d"):  # what the demanded voltage knows nothing of
        d.set(f"inverter.{name}", "0")
    values = prepare(d.document).examined.values["haul_machine"]
    d.add(
        "emf_observer",
        "Observer",
        p="4",
        R="40 mohm",
        L_d=f"{values['L_d']} H",
        L_q=f"{values['L_q']} H",
        psi="0.32 Wb",
    )
    for n in "abc":
        d.connect(f"voltage_demand.{n}", f"observer.u_{n}")
        d.connect(f"current_{n}.value", f"observer.{n}")
    run = d.run(0.4)
    t = np.linspace(0.3, 0.39, 91)
    true = 4 * run.at("haul_machine.angle", t)
    error = np.angle(np.exp(1j * (run.at("observer.angle", t) - true)))
    assert np.max(np.abs(error)) < np.radians(1.0)
    np.testing.assert_allclose(run.at("observer.speed", t), speed, rtol=0.02)
    d.set("inverter.t_dead", "2 us")
    late = d.run(0.4)
    drift = np.angle(np.exp(1j * (late.at("observer.angle", t) - 4 * late.at("haul_machine.angle", t))))
    assert np.radians(0.5) < np.max(np.abs(drift - error)) < np.radians(15)
