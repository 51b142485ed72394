"""Wheels that slip and vehicles on two axles: textbook limits, a terminal speed, SciPy, energy."""

import numpy as np
import pytest
import scipy.integrate

import pendel
from tests.core.energy import energy_gap

G = 9.80665


def cart(axles, torque, until="3 s", slope=None, **values):
    """The vehicle with wheels of 1.2 kg·m² on each driven axle, whose motors of 0.4 are pulled by the same torque from
    0.1 s on."""
    d = pendel.Drive("Cart")
    d.set("until", until)
    d.add("vehicle", "Cart", profile=[("0", slope), ("9", slope)] if slope else [], **values)
    for axle in axles:
        d.add(
            "imposed_torque",
            f"Pull {axle}",
            profile=[("0", "0"), ("0.1", "0"), ("0.4", torque), ("99", torque)],
        )
        d.add("inertia", f"Motor {axle}", J="0.4")
        d.connect(f"pull_{axle}.a", f"motor_{axle}.a")
        d.connect(f"motor_{axle}.b", f"cart.{axle}")
    return d


@pytest.mark.parametrize(("axles", "share"), [(("front",), 0.42), (("rear",), 0.42), (("front", "rear"), 0.42)])
def test_more_torque_than_grip_gives_the_textbooks_acceleration(axles, share):
    """μ·g·share/(1 ± μ·h/l), and μ·g with both axles; Gillespie, Fundamentals of Vehicle Dynamics, chapter 2 (from
    memory), less the rolling resistance. Beyond its peak the friction falls, and the wheels run away from the road."""
    d = cart(axles, "2500 N*m", c_wA="0", front=f"{100 * share} %", mu="0.8", h="0.5 m", l="2 m", J_w="0.01 kg*m^2")
    assert not d.check(), "a vehicle without a profile stands on the level"
    run = d.run()
    lever = 0.8 * 0.5 / 2
    wanted = {("front",): 0.8 * share / (1 + lever), ("rear",): 0.8 * (1 - share) / (1 - lever)}.get(axles, 0.8)
    acceleration, loads = run["cart.acceleration"], [run[f"cart.load_{a}"].y for a in ("front", "rear")]
    if len(axles) == 1:
        assert np.max(acceleration.y) == pytest.approx((wanted - 0.01) * G, rel=3e-3)
    else:  # under one torque the two do not reach their peaks at one time
        assert 0.85 * wanted * G < np.max(acceleration.y) < (wanted - 0.01) * G
    assert loads[0] + loads[1] == pytest.approx(640 * G)
    # All force moves load to the rear as it should: moments about the rear wheels' ground.
    driving = run["cart.force_front"].y + run["cart.force_rear"].y
    assert loads[0] == pytest.approx(640 * G * share - driving * 0.5 / 2, abs=1e-6)
    spun = run[f"motor_{axles[0]}.speed"].y[-1] * 0.28
    assert spun > 3 * run["cart.speed"].y[-1]
    assert energy_gap(d.run(with_energy=True)) < 1e-6


def test_a_cart_that_rolls_down_a_slope_ends_at_the_speed_of_its_resistance():
    """m·g·(sin α − c_r·cos α) = ½·ρ·c_wA·v²; free axles slip by what their own inertia takes only."""
    d = cart((), "0", until="400 s", slope="8 %")
    run = d.run()
    slope = np.arctan(0.08)
    wanted = np.sqrt(640 * G * (np.sin(slope) - 0.01 * np.cos(slope)) / (0.5 * 1.2 * 0.8))
    assert -run["cart.speed"].y[-1] == pytest.approx(wanted, rel=1e-4)
    assert np.max(np.abs(run["cart.slip_front"].y)) < 1e-3


def test_a_wheel_hands_on_what_scipy_says():
    """Torque on a wheel that drives a mass, through its peak and back: the friction curve written anew, `solve_ivp` at
    1e-10."""
    d = pendel.Drive("Trolley")
    d.add("imposed_torque", "Pull", profile=[("0", "0"), ("0.5", "900"), ("1", "-700"), ("2", "-700")])
    d.add("inertia", "Rim", J="0.5")
    d.add("wheel", "Wheel", J_w="0.3", N="2400", mu="0.7", kappa="10 %", slide="60 %", r="300 mm", v_s="0.4")
    d.add("mass", "Trolley", m="260")
    for a, b in (("pull.a", "rim.a"), ("rim.b", "wheel.axle"), ("wheel.road", "trolley.a")):
        d.connect(a, b)
    d.set("until", "2 s")
    run = d.run()
    c = 2 - 2 / np.pi * np.arcsin(0.6)
    stiffness = np.tan(np.pi / (2 * c)) / 0.1

    def f(t, x):
        slip = (0.3 * x[0] - x[1]) / np.hypot(x[1], 0.4)
        force = 2400 * 0.7 * np.sin(c * np.arctan(stiffness * slip))
        return [(np.interp(t, [0, 0.5, 1], [0, 900, -700]) - 0.3 * force) / 0.8, force / 260]

    exact = scipy.integrate.solve_ivp(f, (0, 2), [0, 0], method="Radau", rtol=1e-10, atol=1e-10, max_step=5e-3)
    t = np.linspace(0.05, 2, 60)
    for key, k in (("rim.speed", 0), ("trolley.speed", 1)):
        wanted = np.interp(t, exact.t, exact.y[k])
        assert run.at(key, t) == pytest.approx(wanted, abs=2e-4 * np.max(np.abs(exact.y[k])))
    assert np.max(run["wheel.force"].y) == pytest.approx(0.7 * 2400, rel=1e-3), "its peak is the greatest friction"
    assert energy_gap(d.run(with_energy=True)) < 1e-6


def test_a_vehicle_that_would_tip_over_is_told():
    (found,) = cart(("rear",), "500", h="2.4 m").check()
    assert "it tips over before its wheels slip" in str(found) and "2.4 m" in str(found)
