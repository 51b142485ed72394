"""Blocks of three phases and of fields: modulators by what a load sees of them, models and regulators by their
equations."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
import scipy.integrate

import pendel

PHASES = np.array([0.0, -2.0, 2.0]) * math.pi / 3
ABC = ("a", "b", "c")


def outputs(kind, ports, inputs, *, tick, choices=None, **values) -> dict[str, np.ndarray]:
    """Samples of a block's outputs, one for each tick, while it reads ``inputs``."""
    drive = pendel.Drive("Bench")
    drive.set("tick", f"{tick!r} s")
    key = drive.add(kind, "Under test", choices=choices, **values)
    count = len(next(iter(inputs.values())))
    for name, samples in inputs.items():
        corners = [(repr(k * tick), repr(float(x))) for k, x in enumerate(samples)]
        drive.connect(f"{drive.add('profile', f'Feed {name}', profile=corners)}.out", f"{key}.{name}")
    run = drive.run((count - 1) * tick)
    return {port: run[f"{key}.{port}"].y for port in ports}


def phases(amplitude, angle) -> dict[str, np.ndarray]:
    return {name: amplitude * np.cos(angle + shift) for name, shift in zip(ABC, PHASES)}


ONE_TURN = 2 * math.pi * np.arange(360) / 360
U = 540.0
SCHEMES = {
    "space vector": 3**-0.5,
    "third harmonic": 3**-0.5,
    "clamped 60": 3**-0.5,
    "clamped low": 3**-0.5,
    "sine": 0.5,
}


def duties(scheme, demands, **values) -> np.ndarray:
    """Shape (3, ticks)."""
    seen = outputs(
        "three_phase_modulator",
        [f"d_{n}" for n in ABC],
        {f"u_{n}": x for n, x in demands.items()},
        tick=1e-4,
        choices={"scheme": scheme},
        U_dc=f"{U} V",
        **values,
    )
    return np.array(list(seen.values()))


@pytest.mark.parametrize("scheme", SCHEMES)
def test_up_to_its_limit_a_modulator_gives_the_voltages_between_lines(scheme):
    """Whatever is added to all phases, as between them it cancels; a little above the limit, it cannot be."""
    for share, linear in ((0.3, True), (0.999, True), (1.05, False)):
        demands = phases(share * SCHEMES[scheme] * U, ONE_TURN + 0.1)
        seen = duties(scheme, demands)
        assert np.all((seen >= 0) & (seen <= 1))
        between = np.array([U * (seen[k] - seen[k - 1]) for k in range(3)])
        wanted = np.array([demands[ABC[k]] - demands[ABC[k - 1]] for k in range(3)])
        assert np.allclose(between, wanted, atol=1e-9 * U) == linear


def test_what_each_scheme_adds_is_as_the_textbook_draws_it():
    """Holmes, Lipo: Pulse Width Modulation for Power Converters, chapters 5 and 6 (from memory)."""
    amplitude = 0.4 * U
    demands = phases(amplitude, ONE_TURN)
    added = {}
    for scheme in SCHEMES:
        seen = duties(scheme, demands)
        added[scheme] = U * (np.mean(seen, axis=0) - 0.5)  # the demands sum to zero
        clamped = np.sum((seen < 1e-9) | (seen > 1 - 1e-9), axis=0)
        assert np.all(clamped >= scheme.startswith("clamped")) and (scheme.startswith("clamped") or not np.any(clamped))
        if scheme == "space vector":  # the zero vectors share what is left
            np.testing.assert_allclose(seen.max(axis=0) + seen.min(axis=0), 1, atol=1e-12)
        if scheme == "clamped 60":  # each phase rests a third of the turn, half of that at either rail
            rests = [np.mean(phase < 1e-9) for phase in seen] + [np.mean(phase > 1 - 1e-9) for phase in seen]
            np.testing.assert_allclose(rests, 1 / 6, atol=0.01)
        if scheme == "clamped low":
            np.testing.assert_allclose(seen.min(axis=0), 0, atol=1e-12)
    np.testing.assert_allclose(added["sine"], 0, atol=1e-9)
    np.testing.assert_allclose(added["third harmonic"], -amplitude / 6 * np.cos(3 * ONE_TURN), atol=1e-9 * U)
    spectrum = np.abs(np.fft.rfft(added["space vector"])) / 180
    assert spectrum[3] == pytest.approx(amplitude * 3 * math.sqrt(3) / (8 * math.pi), rel=1e-3)  # of min-max
    assert np.all(spectrum[[1, 2, 4, 5, 6, 7, 8]] < 1e-3 * amplitude)


def test_a_link_that_is_measured_sets_the_duties_and_one_that_is_gone_does_not():
    demands = {f"u_{n}": x for n, x in phases(100.0, ONE_TURN[:40]).items()}
    for link, counts in ((600.0, 600.0), (300.0, 300.0), (1.0, U), (0.0, U), (-5.0, U)):
        seen = outputs(
            "three_phase_modulator", ("d_a", "d_b"), demands | {"u_link": np.full(40, link)}, tick=1e-4, U_dc=f"{U} V"
        )
        np.testing.assert_allclose(counts * (seen["d_a"] - seen["d_b"]), demands["u_a"] - demands["u_b"], atol=1e-9 * U)


CAGE = {"L_m": "38 mH", "L_r": "1.5 mH", "R_r": "0.16 ohm", "p": "2"}
L_M, L_R, R_R = 38e-3, 1.5e-3, 0.16


def rotor_flux(times, current, speed):
    """The rotor's equation in the frame of the stator, T_r·dψ/dt = L_m·i − ψ + j·p·Ω·T_r·ψ, by SciPy."""
    T_r = (L_M + L_R) / R_R

    def slope(t, psi):
        change = (L_M * current(t) - (psi[0] + 1j * psi[1])) / T_r + 2j * speed(t) * (psi[0] + 1j * psi[1])
        return [change.real, change.imag]

    solved = scipy.integrate.solve_ivp(slope, (0, times[-1]), [0, 0], t_eval=times, rtol=1e-9, atol=1e-12)
    return solved.y[0] + 1j * solved.y[1]


def test_the_rotor_flux_model_comes_to_the_machines_flux_as_its_period_shortens():
    """Magnetised at rest, run up, loaded and reversed; the error goes with the period, as its sums are of order one."""
    speed = lambda t: 60 * np.sin(3 * t)  # noqa: E731
    current = lambda t: (8 + 0j + 6j * np.sin(5 * t)) * np.exp(1j * 40 * (1 - np.cos(3 * t)))  # noqa: E731
    errors = []
    for tick in (4e-4, 2e-4, 1e-4):
        times = np.arange(0, 0.6, tick)
        i = current(times)
        feeds = {name: (i * np.exp(1j * shift)).real for name, shift in zip(ABC, PHASES)}
        feeds["speed"] = speed(times)
        seen = outputs("rotor_flux_model", ("flux", "angle"), feeds, tick=tick, least="1 mWb", **CAGE)
        wanted = rotor_flux(times, current, speed)
        late = times > 0.1  # there is a flux
        model = (seen["flux"] * np.exp(1j * seen["angle"]))[: len(times)]
        errors.append(np.max(np.abs(model - wanted)[late]) / np.max(np.abs(wanted)))
    assert errors[-1] < 0.02
    np.testing.assert_allclose(np.array(errors[:-1]) / errors[1:], 2, rtol=0.15)


MACHINE = {"L_d": "0.9 mH", "L_q": "1.4 mH", "psi": "0.32 Wb"}


def test_two_regulators_have_one_circle_of_voltage_and_leave_it_at_once():
    """Random setpoints, currents, speeds and links: never above share·U/√3, d before q; and what a limit kept from the
    integrals does not keep the voltage there when the error turns."""
    rng, count = np.random.default_rng(4), 400
    link = rng.uniform(100, 600, count)
    feeds = {n: rng.uniform(-200, 200, count) for n in ("set_d", "set_q", "d", "q")}
    feeds |= {"speed": rng.uniform(-2000, 2000, count), "u_link": link}
    seen = outputs("dq_current_regulator", ("u_d", "u_q"), feeds, tick=1e-4, share="90 %", U_dc="560 V", **MACHINE)
    size, most = np.hypot(seen["u_d"], seen["u_q"]), 0.9 * link / math.sqrt(3)
    assert np.all(size <= most * (1 + 1e-12)) and np.mean(size > 0.999 * most) > 0.5
    at_end = np.abs(seen["u_d"]) > most * (1 - 1e-9)
    assert np.any(at_end) and np.all(np.abs(seen["u_q"][at_end]) < 1e-3 * most[at_end])
    # A second at the limit, then the error turns.
    error = np.where(np.arange(count) < 200, 500.0, -5.0)
    zeros = np.zeros(count)
    feeds = {"set_d": zeros, "set_q": error, "d": zeros, "q": zeros}
    seen = outputs("dq_current_regulator", ("u_q",), feeds, tick=5e-3, K_q="2.3", T_q="30 ms", U_dc="560 V", **MACHINE)
    limit = 0.98 * 560 / math.sqrt(3)
    assert np.all(seen["u_q"][1:200] > 0.999 * limit) and seen["u_q"][200] < limit - 0.9 * 2.3 * 5
    assert np.argmax(seen["u_q"] < 0) < 200 + 1.2 * limit / (2.3 * 5 * 5e-3 / 30e-3)


def test_decoupling_takes_out_what_the_other_axis_and_the_magnets_induce():
    speed, d, q = 700.0, -30.0, 80.0
    flat = {n: np.full(5, x) for n, x in (("set_d", d), ("set_q", q), ("d", d), ("q", q), ("speed", speed))}
    on = outputs("dq_current_regulator", ("u_d", "u_q"), flat, tick=1e-4, U_dc="5 kV", **MACHINE)
    off = outputs(
        "dq_current_regulator", ("u_d", "u_q"), flat, tick=1e-4, U_dc="5 kV", choices={"decoupling": "off"}, **MACHINE
    )
    assert on["u_d"][-1] == pytest.approx(-speed * 1.4e-3 * q) and on["u_q"][-1] == pytest.approx(
        speed * (0.9e-3 * d + 0.32)
    )
    assert off["u_d"][-1] == off["u_q"][-1] == 0


def test_the_selector_adds_the_references_of_its_mode():
    references = {"power": 3.0, "reactive": 20.0, "void": 100.0}
    for mode in range(8):
        feeds = {n: np.full(3, x) for n, x in references.items()} | {"mode": np.full(3, float(mode))}
        chosen = [x for bit, x in enumerate(references.values()) if mode >> bit & 1]
        assert outputs("reference_selector", ("out",), feeds, tick=1e-3)["out"][-1] == sum(chosen)


@pytest.mark.parametrize(("turns", "p", "lead"), [(3.0, 4, 1.5), (-3.0, 4, 0.0), (0.25, 1, 2.0)])
def test_the_electrical_angle_counts_pole_pairs_and_looks_ahead(turns, p, lead):
    """Of a shaft that turns evenly, whether its angle is given within one turn or counts on."""
    tick, omega, offset = 1e-4, 2 * math.pi * turns * 10, math.radians(20)
    shaft = omega * tick * np.arange(400)
    ports = ("angle", "ahead", "speed")
    values = {"p": str(p), "offset": "20 deg", "lead": str(lead)}
    for given in (shaft, np.mod(shaft, 2 * math.pi)):
        # A profile is straight between its corners: at a jump back, the sample is the corner's.
        seen = outputs("electrical_angle", ports, {"position": given}, tick=tick, **values)
        np.testing.assert_allclose(np.exp(1j * seen["angle"]), np.exp(1j * (p * shaft + offset)), atol=1e-9)
        expected = np.exp(1j * (p * (shaft + lead * omega * tick) + offset))
        np.testing.assert_allclose(np.exp(1j * seen["ahead"])[1:], expected[1:], atol=1e-6)
        np.testing.assert_allclose(seen["speed"][1:], p * omega, rtol=1e-6)


@pytest.mark.parametrize("law", ["and", "or", "either", "not", "not both", "neither"])
def test_logic_is_its_table(law):
    """By Python's own words; a signal counts as true from one half on."""
    tables = {
        "and": lambda a, b: a and b,
        "or": lambda a, b: a or b,
        "either": lambda a, b: a != b,
        "not": lambda a, b: not a,
        "not both": lambda a, b: not (a and b),
        "neither": lambda a, b: not (a or b),
    }
    pairs = list(itertools.product((0.0, 0.4, 0.6, 1.0, -1.0, 7.0), repeat=2))
    a, b = (np.array(column) for column in zip(*pairs))
    seen = outputs("logic", ("out",), {"a": a, "b": b}, tick=1e-3, choices={"law": law} if law != "and" else None)[
        "out"
    ]
    np.testing.assert_array_equal(seen, [float(tables[law](x > 0.5, y > 0.5)) for x, y in pairs])


def test_without_magnets_the_currents_for_a_torque_are_those_of_least_amperes():
    """ψ = 0: M = 3/2 p (L_d − L_q) i_d i_q is had with fewest amperes where |i_d| = |i_q| (Boldea: Reluctance
    Synchronous Machines and Drives; from memory); found within some ticks, whatever the torque was before."""
    d = pendel.Drive()
    d.set("tick", "0.1 ms")
    d.add("step", "Torque", before="8 N*m", after="-2 N*m", t_0="5 ms")
    d.add("torque_to_currents", "Currents", p="3", psi="0 Wb", L_d="2 mH", L_q="9 mH", I_max="40 A")
    d.connect("torque.out", "currents.torque")
    run = d.run("10 ms")
    for at, torque in ((4.9e-3, 8.0), (9.9e-3, -2.0)):
        i_d, i_q = (float(run[f"currents.{name}"].at(np.array([at]))[0]) for name in ("i_d", "i_q"))
        assert 1.5 * 3 * (2e-3 - 9e-3) * i_d * i_q == pytest.approx(torque, rel=1e-6)
        assert i_d == pytest.approx(-abs(i_q), rel=1e-6)
    d.set("torque.after", "0 N*m")
    assert all(abs(d.run("60 ms")[f"currents.{name}"].y[-1]) < 1e-3 for name in ("i_d", "i_q"))
    d.set("currents.L_q", "2 mH")
    assert "no current makes torque" in d.check()[0].sentence
    machine = pendel.Drive()
    machine.add("pmsm", "Machine", psi_f="0 Wb", L_d="2 mH", L_q="2 mH")
    assert any("neither magnets nor different inductances" in f.sentence for f in machine.check())
