"""What is wired together, and what is written in a unit, is of one quantity."""

import math

import pytest

import pendel
from pendel.core.catalogue.own_block import EXAMPLES as OWN
from pendel.core.catalogue.own_block import LANGUAGE
from pendel.core.check.signal_units import signal_unit
from pendel.core.drive.document import End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.runs.preparing.simulate import signal_infos


def told(drive):
    return [f.sentence for f in drive.check()]


def unit(drive, end):
    return signal_unit(drive.document, End(*end.split(".")))


@pytest.mark.parametrize("path", sorted(EXAMPLES.glob("*.pendel")), ids=lambda p: p.stem)
def test_what_fits_is_not_told(path):
    assert not told(pendel.open(path))


@pytest.mark.parametrize(
    ("name", "text", "sentence"),
    [
        ("travel_plan.v_max", "2 A", "Travel plan: Speed at most is 2 A, but “Speed setpoint” is in m/s."),
        ("travel_plan.v_max", "2 Hz", "Travel plan: Speed at most is 2 Hz, but “Speed setpoint” is in m/s."),
        ("travel_plan.a_max", "4 m/s", "Write it in m/s per second, or correct the wiring."),
        ("speed_pi.high", "5 V", "Speed PI: Upper limit is 5 V, but “Output” is in A."),
        ("speed_pi.high", "2*v_max", "which is m/s, but “Output” is in A."),
        ("current_pi.K_p", "3 ohm/s", "Current PI: Gain is 3 ohm/s, which makes V/s of A, but the output goes to V."),
    ],
)
def test_a_value_of_another_quantity_is_told_once(name, text, sentence):
    d = pendel.open_example("car_door_drive")
    d.set(name, text)
    found = told(d)
    assert len(found) == 1 and sentence in found[0], found


@pytest.mark.parametrize(("name", "text"), [("travel_plan.v_max", "2.6 km/h"), ("speed_pi.high", "5")])
def test_other_units_of_the_quantity_and_plain_figures_fit(name, text):
    d = pendel.open_example("car_door_drive")
    d.set(name, text)
    assert not told(d)


def test_signals_of_unlike_quantities_are_told_where_they_are_compared():
    d = pendel.open_example("car_door_drive")
    d.remove("travel_plan")
    d.connect("current_sensor.value", "speed_pi.setpoint")
    both = "“Setpoint” is in A and “Actual value” in m/s. Wire signals of one quantity to both."
    assert told(d) == [f"Speed PI: {both}"]


def test_what_follows_from_one_wrong_wire_is_told_once():
    d = pendel.open_example("car_door_drive")
    d.document.plans.clear()  # a series reports what is removed here
    d.remove("travel_speed")
    d.connect("encoder.speed", "speed_pi.actual")  # turning, where the plan and the gain are for a way
    assert [words.partition(":")[0] for words in told(d)] == ["Travel plan"]
    for name, text in (("v_max", "20 rad/s"), ("a_max", "90 rad/s^2"), ("d_max", "90 rad/s^2")):
        d.set(f"travel_plan.{name}", text)
    both = "“Setpoint” is in A/m and “Actual value” in A. Wire signals of one quantity to both."
    assert told(d) == [f"Current PI: {both}"]  # amperes for metres a second


def test_cycles_become_radians_where_the_signal_turns():
    d = pendel.open_example("car_door_drive")
    d.add("step", "Turning", after="2 Hz")
    d.add("compare", "Off")
    d.connect("turning.out", "off.setpoint")
    d.connect("encoder.speed", "off.actual")
    assert d.card("turning").after == pytest.approx(4 * math.pi) and not told(d)


def test_a_value_goes_by_the_port_it_is_compared_at():
    """A level of a hysteresis is that of its input, a row of a table has its input's unit first."""
    d = pendel.open_example("car_door_drive")
    d.add("hysteresis", "Fast", on_at="2 Hz", off_at="1 rev/s")
    d.connect("encoder.speed", "fast.x")
    assert d.card("fast").on_at == pytest.approx(4 * math.pi) and d.card("fast").off_at == pytest.approx(2 * math.pi)
    assert not told(d)
    d.set("fast.on_at", "20 A")
    assert told(d) == ["Fast: On from is 20 A, but “Input” is in rad/s. Write it in rad/s, or correct the wiring."]


def test_units_follow_gains_integrals_and_what_states_them():
    d = pendel.Drive("Chain")
    d.add("step", "Wanted", after="5 A")
    d.add("integrator", "Charge", K_i="2 1/s")
    d.add("pt1", "Lag", K="2 V/A")
    d.add("pt2", "Smooth")
    d.add("curve", "Table")
    d.add(LANGUAGE, "Typed", own=OWN[LANGUAGE])
    d.add("travel_plan", "Turn", distance="3 rev", v_max="90 rpm", a_max="4 rad/s^2")
    for a, b in (("wanted", "charge"), ("charge", "lag"), ("lag", "smooth"), ("smooth", "table"), ("smooth", "typed")):
        d.connect(f"{a}.out", f"{b}.x")
    ends = ("wanted.out", "charge.out", "lag.out", "smooth.out", "table.out", "typed.y", "turn.speed", "turn.position")
    assert [unit(d, end) for end in ends] == ["A", "A", "V", "V", "", "", "rpm", "rev"]


def test_a_chain_of_a_thousand_blocks_is_followed_to_its_end():
    d = pendel.Drive("Long")
    d.add("step", "Wanted", after="5 A")
    d.add("gain", "None of it", K="2 1/A")
    d.connect("wanted.out", "none_of_it.x")
    last = "wanted.out"
    for k in range(1000):
        key = d.add("delay", f"Delay {k}")
        d.connect(last, f"{key}.x")
        last = f"{key}.out"
    assert not told(d)
    units = {key: info.unit for key, info in signal_infos(d.document).items()}
    assert units.pop("none_of_it.out") == "" and set(units.values()) == {"A"}


def test_a_plain_number_is_no_current_and_each_unit_of_a_profile_is_looked_at():
    d = pendel.open_example("car_door_drive")
    d.remove("current_sensor")
    d.add("current_sensor", "Sensor")
    d.connect("bridge.duty_ratio", "sensor.measured")
    assert told(d)[-1].startswith("Sensor: “Measured current” takes A, but is given the duty of Bridge, in 1.")
    d = pendel.open_example("car_door_drive")
    d.add("profile", "Wish", profile=[("0 s", "0"), ("1 s", "2 A"), ("2 s", "3 A"), ("3 s", "4 rad/s")])
    d.add("compare", "Off")
    d.connect("wish.out", "off.setpoint")
    d.connect("encoder.speed", "off.actual")
    assert told(d) == [
        "Wish: corner 2 of the profile is 2 A, but “Output” is in rad/s. Write it in rad/s, or correct the wiring."
    ]
