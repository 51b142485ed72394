"""Trapezoidal machine, Hall sensors and block commutation, against closed forms and SciPy."""

import dataclasses
from pathlib import Path

import casadi as ca
import numpy as np
import pytest
import scipy.integrate

import pendel
from pendel.core.catalogue.control.sectors import FIRST_EDGE, HALLS, TABLE
from pendel.core.catalogue.machines.trapezoidal import shape
from pendel.core.drive import commands
from tests.core.energy import energy_gap

EXAMPLES = Path(pendel.__file__).parent / "examples"
K_E, R, L = 0.024, 0.18, 320e-6


def trapezoid(angle, flat=2 * np.pi / 3):
    """By points: up from −flank to flank, flat, down, flat."""
    flank = (np.pi - flat) / 2
    return np.interp(
        (angle + flank) % (2 * np.pi), [0, 2 * flank, np.pi, np.pi + 2 * flank, 2 * np.pi], [-1, 1, 1, -1, -1]
    )


def bench(*, speed: str = "1490 rpm", voltage: str = "12 V", until: str = "40 ms") -> pendel.Drive:
    """The machine held at a speed, its legs driven by the sectors with a constant voltage."""
    d = pendel.Drive("Bench")
    for name, text in (("tick", "10 us"), ("until", until), ("computing_delay", "0")):
        d.set(name, text)
    d.add("dc_source", "Supply", U_0="24", R_i="0")
    d.add("inverter", "Inverter", choices={"below": "opens"}, f_p="20", R_on="0.01", V_d="0.7", R_d="5")
    d.add("trapezoidal", "Machine", round="0.1", k_phase="24", R_s="180", L_s="320")
    d.add("imposed_speed", "Bench", profile=[("0", speed), ("9", speed)])
    d.add("hall_sensors", "Hall")
    d.add("hall_decoder", "Decoder")
    d.add("six_step", "Commutation")
    d.add("constant", "Voltage", value=voltage)
    for a, b in (
        ("supply.dc", "inverter.dc"),
        ("inverter.out", "machine.phases"),
        ("machine.shaft", "bench.a"),
        ("machine.angle", "hall.angle"),
        ("decoder.sector", "commutation.sector"),
        ("voltage.out", "commutation.voltage"),
    ):
        d.connect(a, b)
    for n in "abc":
        d.connect(f"hall.h_{n}", f"decoder.h_{n}")
        d.connect(f"commutation.d_{n}", f"inverter.d_{n}")
    return d


def test_the_emf_is_a_trapezoid_with_rounded_corners():
    angle = ca.SX.sym("angle")
    t = np.linspace(-7, 7, 1001)
    for flat in (120, 90, 150):
        sharp = ca.Function("f", [angle], [shape(angle, ca.SX(np.radians(flat)), ca.SX(0))])
        np.testing.assert_allclose(np.array(sharp(t)).ravel(), trapezoid(t, np.radians(flat)), atol=2e-3)
    soft = np.array(ca.Function("f", [angle], [shape(angle, ca.SX(2.0944), ca.SX(0.3))])(t)).ravel()
    assert np.max(np.abs(soft)) == pytest.approx(1, abs=1e-4)
    assert 0.05 < np.max(np.abs(soft - trapezoid(t))) < 0.2


def test_sectors_follow_each_other_and_drive_the_flat_of_the_emf():
    """Each sector of 60° drives the two phases whose EMF is flat over it; common practice, no source."""
    for sector, legs in TABLE.items():
        angles = FIRST_EDGE + np.radians(60) * (sector - 1) + np.radians(np.linspace(1, 59, 30))
        for n, leg in enumerate(legs):
            if leg:
                np.testing.assert_allclose(trapezoid(angles - n * 2 * np.pi / 3), leg, atol=1e-12)
        following = HALLS[sector % 6 + 1]
        assert sum(a != b for a, b in zip(HALLS[sector], following)) == 1


def test_commutation_agrees_with_solve_ivp_and_shows_its_dips():
    """Phase currents from a hand-written script with its own diode logic; the staying phase dips when another opens,
    torque ripples six times an electrical turn, and the opening phase's terminal goes to a rail: common practice, no
    source."""
    run = bench().run()
    speed, pairs = 1490 / 60 * 2 * np.pi, 4
    w = pairs * speed
    drop = 0.7

    def wanted(sector):
        return [{1: 12.0, -1: 0.0, 0: None}[leg] for leg in TABLE[sector]]

    def slopes(t, i, poles):
        emf = K_E * speed * np.array([trapezoid(w * t - n * 2 * np.pi / 3) for n in range(3)])
        u = np.array([np.nan if p is None else p for p in poles])
        free = np.isnan(u)
        for n in np.flatnonzero(free):
            u[n] = 24 + drop - 0.005 * i[n] if i[n] < -1e-6 else (-drop - 0.005 * i[n] if i[n] > 1e-6 else np.nan)
        star = np.nanmean(u - R * i - emf)
        return np.where(np.isnan(u), 0.0, (u - R * i - emf - star) / L)

    i = np.zeros(3)
    grid, found = np.linspace(20e-3, 40e-3, 4001), []
    sectors = 1 + np.floor((w * grid[0] - FIRST_EDGE) / (np.pi / 3)) % 6
    assert run.at("decoder.sector", [grid[0]])[0] == sectors
    ticks = np.arange(0, 40e-3, 10e-6)
    for start in ticks:  # as the controller: the sector at a tick holds to the next
        sector = int(1 + np.floor((w * start - FIRST_EDGE) / (np.pi / 3)) % 6)
        poles = wanted(sector)
        i = scipy.integrate.solve_ivp(slopes, (start, start + 10e-6), i, args=(poles,), rtol=1e-6, atol=1e-8).y[:, -1]
        opened = [p is None and abs(x) < 1e-2 for p, x in zip(poles, i)]
        if any(opened):
            i[opened] = 0.0
            i[[not o for o in opened]] -= np.sum(i) / (3 - sum(opened))
        found.append(i.copy())
    found = np.array(found)
    ours = np.array([run.at(f"machine.current_{n}", ticks + 10e-6) for n in "abc"]).T
    late = ticks > 20e-3
    assert np.max(np.abs(ours[late] - found[late])) < 0.02 * np.max(np.abs(found))
    period = 2 * np.pi / w
    torque = run.spectrum("machine.torque", 40e-3 - 2 * period, 40e-3, fundamental=1 / period)
    assert torque.line(6 / period) > 5 * max(torque.line(k / period) for k in range(1, 6))
    edge = (np.ceil((w * 30e-3 - FIRST_EDGE) / (np.pi / 3)) * np.pi / 3 + FIRST_EDGE) / w
    sector = int(run.at("decoder.sector", [edge + 20e-6])[0])
    stays = next(n for n in range(3) if TABLE[sector][n] and TABLE[sector][n] == TABLE[(sector - 2) % 6 + 1][n])
    current = np.abs(run.at(f"machine.current_{'abc'[stays]}", edge + np.linspace(-20e-6, 300e-6, 200)))
    assert np.min(current) < 0.9 * current[0]
    opens = next(n for n in range(3) if not TABLE[sector][n])
    pole = run.at(f"inverter.pole_{'abc'[opens]}", edge + np.linspace(10e-6, 60e-6, 50))
    assert np.max(pole) > 24 + 0.6 or np.min(pole) < -0.6


def test_levels_agree_and_energy_closes():
    d = pendel.open_drive(EXAMPLES / "cabin_fan.pendel")
    speeds = {}
    for level in ("averaged", "switching", "device"):
        d.set("level", level)
        run = d.run(with_energy=True)
        assert not run.kept.remarks
        speeds[level] = np.mean(run.at("fan_motor.speed", np.linspace(0.7, 0.8, 200)))
        assert energy_gap(run) < 1e-5
    assert speeds["averaged"] == pytest.approx(1800 / 60 * 2 * np.pi, rel=5e-3)
    assert speeds["switching"] == pytest.approx(speeds["averaged"], rel=2e-3)
    steps = run["hall_decoder.speed"]
    assert len(np.unique(np.round(steps.y[-2000:], 6))) < 30  # a staircase: one value for each number of ticks


@pytest.mark.parametrize(
    "order, words", [("acb", "b and c are swapped"), ("bac", "a and b are swapped"), ("bca", "one line on")]
)
def test_swapped_hall_lines_are_named(order, words):
    d = pendel.open_drive(EXAMPLES / "cabin_fan.pendel")
    sensors = d.document.cards["hall_sensors"]
    d.document.cards["hall_sensors"] = dataclasses.replace(sensors, choices={"order": order})
    (remark,) = d.run(0.3).kept.remarks
    assert words in remark.sentence and remark.card == "hall_sensors"


def test_a_turned_angle_is_named():
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    key = next(k for k, c in d.document.cards.items() if c.kind == "electrical_angle")
    d.set(f"{key}.offset", "90 deg")
    (remark,) = d.run(0.03).kept.remarks
    assert "its angle is 90° ahead of the machine's" in remark.sentence


def spun(winding, **values):
    """The machine spun with open lines, after its windings have settled."""
    d = pendel.Drive("Spun")
    d.set("until", "60 ms")
    d.set("tolerance", "1e-8")
    d.add(
        "trapezoidal",
        "Machine",
        choices={"winding": winding},
        round="1 %",
        k_phase="24",
        R_s="180",
        L_s="320",
        **values,
    )
    d.add("star_load", "Leaks", R="10 kohm", L="10 mH")
    d.add("imposed_speed", "Bench", profile=[("0", "1490 rpm"), ("9", "1490 rpm")])
    d.connect("machine.phases", "leaks.in")
    d.connect("machine.shaft", "bench.a")
    return d


def test_a_delta_carries_what_its_emfs_do_not_cancel():
    """Spun with open lines, the orders 3, 9, 15 … of the three EMFs add up around the delta and drive E_h/(R + j·h·ω·L)
    through every winding (Krishnan, Permanent Magnet Synchronous and Brushless DC Motor Drives, chapter 10, from
    memory, says why such machines are wound in star); a star carries nothing. Hot windings have more resistance, iron
    brakes."""
    run = spun("delta", T_w="80", P_fe="3 W", n_fe="1490 rpm").run(with_energy=True)
    w = 4 * 1490 * 2 * np.pi / 60
    t = np.linspace(0.06 - 2 * np.pi / w, 0.06, 4001)[:-1]
    orders = np.arange(3, 100, 6)
    emf = 2 * np.abs(np.fft.rfft(run.at("machine.emf_a", t)))[orders] / len(t)
    warm = 0.18 * (1 + 0.00393 * 60)
    around = emf / np.abs(warm + 1j * orders * w * L)
    assert np.mean(run.at("machine.copper_loss", t)) == pytest.approx(1.5 * warm * np.sum(around**2), rel=2e-3)
    assert np.max(np.abs(run.at("machine.current_a", t))) < 1e-3 * np.max(around)
    assert np.mean(run.at("machine.iron_loss", t)) == pytest.approx(3.0, rel=1e-9) and energy_gap(run) < 1e-6
    assert np.max(spun("star").run().at("machine.copper_loss", t)) < 1e-6


@pytest.mark.parametrize("rounding", ["0", "5 %", "40 %"])
@pytest.mark.parametrize("winding", ["star", "delta"])
def test_a_sheet_gives_the_same_machine_between_lines(winding, rounding):
    """R, L and EMF between two lines are those of the sheet however it is wound, and the EMF between lines has one
    angle."""
    d = spun(winding)
    d.set("machine.round", rounding)
    commands.set_choice(d.document, "machine", "entry", "sheet").apply(d.document)
    for name, text in (("R_ll", "0.36 ohm"), ("L_ll", "0.64 mH"), ("K_E", "5 V")):
        d.set(f"machine.{name}", text)
    run, w = d.run(), 4 * 1490 * 2 * np.pi / 60
    t = np.linspace(0.06 - 2 * np.pi / w, 0.06, 4001)[:-1]
    line = run.at("machine.voltage_a", t) - run.at("machine.voltage_b", t)
    assert np.max(line) == pytest.approx(5 * 1.49, rel=1e-3)
    first = np.angle(np.sum(line * np.exp(-1j * (run.at("machine.angle_e", t)))))
    assert first == pytest.approx(-np.pi / 2 + np.pi / 6, abs=0.01)


def test_the_chosen_legs_pulse_and_the_machine_hardly_notices():
    """Of two driven legs the one at plus, the one at minus or both pulse (common practice, no source); between them
    lies the voltage that was asked for in each case, and the mean torque is the same but for what ripple does at the
    commutations."""
    torques = []
    for pulsed, moving in (("upper", {1}), ("lower", {-1}), ("both", {1, -1})):
        d = bench(until="30 ms")
        d.set("level", "switching")
        commands.set_choice(d.document, "commutation", "pulsed", pulsed).apply(d.document)
        run = d.run()
        t = np.arange(0.02, 0.0299, 2e-5)
        sector = run.at("decoder.sector", t).round().astype(int)
        duties = np.array([run.at(f"commutation.d_{n}", t) for n in "abc"])
        rows = np.array([TABLE[s] for s in sector]).T
        for way, still in ((1, 1.0), (-1, 0.0)):
            driven = duties[rows == way]
            assert np.all((driven > 0.05) & (driven < 0.95)) if way in moving else np.all(driven == still)
        assert (duties.T[rows.T == 1] - duties.T[rows.T == -1]) == pytest.approx(12 / 24)
        assert np.all(duties[rows == 0] == -1)
        torques.append(np.mean(run.at("machine.torque", np.linspace(0.02, 0.03, 5001))))
    assert torques == pytest.approx([torques[0]] * 3, rel=0.02)
