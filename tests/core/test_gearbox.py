"""A gearbox with steps and what chooses its gear."""

import numpy as np
import pytest

import pendel

RATIOS = (3.6, 2.1, 1.4, -3.0)
J_1, J_2 = 0.2, 2.0


def two_wheels(gears, until, **box):
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.set("until", until)
    d.add("inertia", "Motor", J=f"{J_1} kg*m^2")
    d.add("stepped_gearbox", "Box", rows=[(f"{i}",) for i in RATIOS], **box)
    d.add("inertia", "Load", J=f"{J_2} kg*m^2")
    d.connect("motor.b", "box.a")
    d.connect("box.b", "load.a")
    d.add("profile", "Gear", profile=gears)
    d.connect("gear.out", "box.gear")
    return d


def changed(w_1, w_2, i):
    """Speeds when the clutch has closed: J₁ dω₁ = −M dt and J₂ dω₂ = i M dt until ω₁ = i ω₂."""
    impulse = (w_1 - i * w_2) / (1 / J_1 + i * i / J_2)
    return w_1 - impulse / J_1, w_2 + i * impulse / J_2


@pytest.mark.parametrize("gear", [2, 3, 4])
def test_a_change_leaves_what_the_laws_of_momentum_leave_and_loses_the_rest(gear):
    """Also backwards; before it in first, where both turn as the ratio says, and in neutral each by itself."""
    d = two_wheels(
        [("0 s", "1"), ("1 s", "1"), ("1 s", "0"), ("1.5 s", "0"), ("1.5 s", str(gear)), ("9 s", str(gear))], "9 s"
    )
    d.start("motor", omega="100 rad/s")
    d.start("load", omega=f"{100 / 3.6} rad/s")
    d.start("box", ratio="3.6")
    run = d.run()
    at = {name: run[f"{name}.speed"] for name in ("motor", "load")}
    assert at["motor"].at(np.array([1.4]))[0] == pytest.approx(100, rel=1e-6)
    w_1, w_2 = changed(100, 100 / 3.6, RATIOS[gear - 1])
    # The clutch begins to close while the ratio is up to 0.1 % from its end.
    assert at["motor"].y[-1] == pytest.approx(w_1, abs=0.1) and at["load"].y[-1] == pytest.approx(w_2, abs=0.05)
    assert run["box.slip"].y[-1] == pytest.approx(0, abs=1e-6)
    energy = 0.5 * J_1 * (100**2 - w_1**2) + 0.5 * J_2 * ((100 / 3.6) ** 2 - w_2**2)
    lost = sum(part.energy for part in run.balance(0, 9).losses)
    assert lost == pytest.approx(energy, abs=0.5)


def test_a_clutch_that_slips_gives_its_torque_by_the_ratio_and_no_more_than_the_clutch_holds():
    d = two_wheels([("0 s", "2"), ("5 s", "2")], "5 s", M_max="50 N*m", sticks="1")
    d.start("motor", omega="210 rad/s")
    d.start("load", omega="10 rad/s")
    d.start("box", ratio="2.1")
    run = d.run()
    torque, t = run["box.torque"].y, run["box.torque"].t
    assert torque.max() <= 50 * (1 + 1e-6)
    assert run["box.output_torque"].y == pytest.approx(run["box.ratio"].y * torque)
    ends = 0.01 + (210 - 21) / 50 / (1 / J_1 + 2.1**2 / J_2)  # constant torque until both turn as one
    assert t[np.flatnonzero(torque > 49)[-1]] == pytest.approx(ends, abs=0.02)


def chosen(profile, until, demand=None, **values):
    d = pendel.Drive()
    d.set("tick", "10 ms")
    d.set("until", until)
    d.add("profile", "Speed", profile=profile)
    d.add("gear_choice", "Choice", **values)
    d.connect("speed.out", "choice.speed")
    if demand:
        d.add("constant", "Demand", value=demand)
        d.connect("demand.out", "choice.demand")
    run = d.run()
    gear, speed = run["choice.gear"], run["speed.out"]
    changes = np.flatnonzero(np.diff(gear.y)) + 1
    return [(gear.y[k], 3.6 * speed.at(gear.t[k : k + 1])[0]) for k in changes], gear.t[changes]


UP_AND_DOWN = [("0 s", "0 m/s"), ("15 s", "15 m/s"), ("20 s", "15 m/s"), ("35 s", "0 m/s")]


def test_gears_go_up_and_down_at_their_speeds_later_under_load_and_not_too_often():
    ups, downs = (12, 24, 36), (27, 18, 9)
    found, _ = chosen(UP_AND_DOWN, "36 s")
    assert [gear for gear, _ in found] == [2, 3, 4, 3, 2, 1]
    assert [v for _, v in found] == pytest.approx([*ups, *downs], abs=0.05)
    found, _ = chosen(UP_AND_DOWN, "36 s", demand="1")
    assert [v for _, v in found] == pytest.approx([1.4 * v for v in (*ups, *downs)], abs=0.05)
    found, times = chosen([("0 s", "0 m/s"), ("1 s", "20 m/s"), ("9 s", "20 m/s")], "9 s", T_wait="2 s")
    assert [gear for gear, _ in found] == [2, 3, 4] and np.diff(times) == pytest.approx([2, 2], abs=0.011)
    found, _ = chosen(UP_AND_DOWN, "36 s", v_open="3 km/h")
    assert [gear for gear, _ in found] == [1, 2, 3, 4, 3, 2, 1, 0]


def test_gears_that_cannot_be_get_a_sentence():
    d = pendel.Drive()
    d.add("stepped_gearbox", "Box", rows=[("3",), ("0",)])
    d.add("gear_choice", "Choice", rows=[("20 km/h",), ("10 km/h",)])
    sentences = " ".join(finding.sentence for finding in d.check())
    assert "Gear 2 has a ratio of zero" in sentences and "From gear 2 it goes up at no higher speed" in sentences
