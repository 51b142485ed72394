"""From standstill to where an observer leads and back; what a dead time takes, and what gives it back."""

import numpy as np
import pytest

import pendel


def started(corners, **entries):
    """The synchronous machine without a shaft sensor, by a speed demand of its own."""
    d = pendel.new("synchronous", options={"sensor": "none"}, **entries)
    d.remove("speed_demand")
    d.add("profile", "Speed demand", profile=corners)
    d.connect("speed_demand.out", "speed_pi.setpoint")
    d.connect("speed_demand.out", "start.wanted")
    d.set("t_end", corners[-1][0])
    assert d.check() == []
    return d


def test_the_lead_goes_to_the_observer_and_back_in_both_directions_and_by_steps():
    ramp = [("0", "0"), ("0.1 s", "0"), ("1.1 s", "n_set"), ("1.5 s", "n_set"), ("3.5 s", "-n_set"), ("4 s", "-n_set")]
    run = started([*ramp, ("4.001 s", "0"), ("5 s", "0"), ("5.001 s", "n_set"), ("6 s", "n_set")], M_load="2").run()
    assert run.remarks == []
    for time, leads in ((0.05, 0), (1.2, 1), (2.5, 0), (3.8, 1), (4.9, 0), (5.9, 1)):
        assert run.at("start.leads", time) == leads
        if leads:
            wanted = run.at("speed_demand.out", time)
            assert run.at("machine.speed", time) == pytest.approx(wanted, rel=0.01)
            off = run.at("start.frame", time) - 5 * run.at("machine.angle", time)
            assert abs(np.angle(np.exp(1j * off))) < np.radians(10), "a tick at 200 Hz is 9°"
        else:
            assert abs(run.at("machine.speed", time)) < 8.0
    leads, vector = run["start.leads"].y, (run["start.i_d"].y + 1j * run["start.i_q"].y)
    changes = np.flatnonzero(np.diff(leads))
    jumps = np.abs(np.diff(vector * np.exp(1j * run["start.frame"].y)))[changes]
    assert len(changes) == 5 and np.max(jumps) < 0.06 * np.max(np.abs(vector)), "the vector goes on as it was"


def test_a_rotor_that_does_not_follow_is_told():
    """A load that the dragging current cannot hold: 1.5 p ψ I is the most that it gives."""
    d = started([("0", "0"), ("0.2 s", "0"), ("1.2 s", "n_set"), ("3 s", "n_set")])
    d.set("start.I_drag", "0.2 A")
    d.profile("load", [("0", "3 N*m"), ("100 s", "3 N*m")])
    (remark,) = [r for r in d.run().remarks if r.startswith("Start")]
    assert "does not agree" in remark and "200 mA" in remark


@pytest.mark.parametrize("level", ["averaged", "switching"])
def test_compensated_an_inverter_gives_the_voltage_that_is_demanded(level):
    """Into 1 Ω and 20 mH at 5 Hz: U/|Z| of Ohm's law. Dead time takes nearly t_d f_p U_dc from a phase while its
    current is beyond the ripple (Muñoz, Lipo 1999), a square wave whose fundamental is 4/π of that."""
    found = {}
    for compensated in (False, True):
        d = pendel.Drive("Bench")
        d.set("tick", "100 us")
        d.set("until", "1 s")
        d.set("level", level)
        d.add("dc_source", "Link", U_0="560 V", R_i="0 ohm")
        d.add("inverter", "Inverter", f_p="10 kHz", t_dead="2 us", V_0="0 V", V_d="0 V", R_on="0 ohm", R_d="1 uohm")
        d.add("star_load", "Coils", R="1 ohm", L="20 mH")
        d.add("three_phase_sine", "Demand", amplitude="30 V", f="5 Hz")
        d.add("three_phase_modulator", "Space vector", U_dc="560 V")
        d.connect("link.dc", "inverter.dc")
        d.connect("inverter.out", "coils.in")
        if compensated:
            d.add("dead_time_compensation", "Compensation", t_dead="2 us", f_p="10 kHz", U_dev="0 V", i_0="0.7 A")
        for n in "abc":
            d.connect(f"demand.{n}", f"space_vector.u_{n}")
            if compensated:
                d.add("current_sensor", f"Current {n}")
                d.connect(f"coils.current_{n}", f"current_{n}.measured")
                d.connect(f"current_{n}.value", f"compensation.{n}")
                d.connect(f"space_vector.d_{n}", f"compensation.d_{n}")
                d.connect(f"compensation.out_{n}", f"inverter.d_{n}")
            else:
                d.connect(f"space_vector.d_{n}", f"inverter.d_{n}")
        run = d.run()
        t = np.linspace(0.6, 1.0, 8000, endpoint=False)
        wave = np.exp(-2j * np.pi * 5 * t)
        found[compensated] = 2 * abs(np.mean(run.at("coils.current_a", t) * wave))
    impedance = abs(1 + 2j * np.pi * 5 * 20e-3)
    assert found[True] == pytest.approx(30 / impedance, rel=0.03)
    lost = 4 / np.pi * 2e-6 * 10e3 * 560
    assert found[False] == pytest.approx((30 - lost) / impedance, rel=0.05)
