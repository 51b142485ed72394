"""Wires that are obvious: drives that were made by hand get their own wires back, and nothing that was never meant."""

from __future__ import annotations

import pytest

import pendel
from pendel.core.catalogue.goals.goal import made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.catalogue.index import kinds
from pendel.core.check import examine
from pendel.core.drive import commands, file
from pendel.core.drive.document import Drive, End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.errors import DriveProblem
from pendel.core.vocabulary import Group, Link
from pendel.core.wiring.completing import add_into_wire, completing, through_ports
from pendel.core.wiring.obvious import agreeing, obvious, obvious_command

WAYS = [(goal, options) for goal in GOALS.values() for options in goal.ways()]


def joined(drive: Drive) -> set[frozenset[str]]:
    return {frozenset((str(w.a), str(w.b))) for w in drive.wires.values()}


def bare(drive: Drive) -> Drive:
    twin = drive.copy()
    twin.wires = {}
    return twin


@pytest.mark.parametrize(("goal", "options"), WAYS, ids=[f"{g.id}-{'-'.join(o.values())}" for g, o in WAYS])
def test_drives_of_goals_are_wired_again(goal, options):
    """All of their wires but those of single lines of circuits; nothing else; what is left is asked."""
    drive = made(goal, {}, options)
    without = bare(drive)
    found = obvious(without, list(without.cards))
    obvious_command(without, found).apply(without)
    wanted, got = joined(drive), joined(without)
    assert got <= wanted and not found.sensors
    asked = {str(question.target) for question in found.asked}
    known = {key: kinds()[card.kind] for key, card in drive.cards.items()}
    for pair in wanted - got:
        ends = [End.parse(end) for end in pair]
        port = known[ends[0].card].port(ends[0].port)
        circuit = port is not None and port.link is Link.LINE
        assert circuit or asked & pair, f"{pair} was neither wired nor asked"


def test_sensors_that_are_missing_are_added():
    drive = made(GOALS["synchronous"], {}, {"regulate": "torque"})
    sensors = [key for key, card in drive.cards.items() if kinds()[card.kind].group == Group.SENSOR]
    assert len(sensors) == 4
    commands.remove_cards(drive, sensors).apply(drive)
    drive.wires = {}
    found = obvious(drive, list(drive.cards))
    assert {str(each.source) for each in found.sensors} == {
        "machine.current_a",
        "machine.current_b",
        "machine.current_c",
        "machine.angle",
    }
    before = drive.copy()
    command = obvious_command(drive, found)
    command.apply(drive)
    assert not examine(drive).findings
    places = [(card.x, card.y) for card in drive.cards.values()]
    assert len(set(places)) == len(places)
    command.revert(drive)
    assert file.to_text(drive) == file.to_text(before), "one step of undo"


@pytest.mark.parametrize("path", sorted(EXAMPLES.glob("*.pendel")), ids=lambda p: p.stem)
def test_whatever_is_wired_fits_and_each_input_has_one_source(path):
    """Of each example without a third of its wires, those of every other card, and those of two cards alone."""
    drive = file.load(path)
    for gone in (list(drive.wires)[::3], list(drive.wires)[1::2]):
        some = drive.copy()
        commands.remove_wires(some, gone).apply(some)
        command = obvious_command(some, obvious(some, list(some.cards)))
        command.apply(some)
        signals = [str(w.b) for w in some.wires.values() if is_input(some, w.b)]
        assert len(signals) == len(set(signals))
        wires = [f.sentence for f in examine(some).findings if f.stops and "wire" in f.sentence.lower()]
        assert not wires
    pair = list(drive.cards)[:2]
    assert all({end.card for end in ends} <= set(pair) for ends in obvious(bare(drive), pair).sure)


def is_input(drive: Drive, end: End) -> bool:
    kind = kinds().get(drive.cards[end.card].kind)
    port = kind.port(end.port) if kind is not None else None
    return port is not None and port.link is Link.SIGNAL_IN


def test_what_could_be_meant_in_two_ways_is_asked():
    drive = pendel.Drive()
    drive.add("pi", "First", K_p="2 V/A", low="-10 V", high="10 V")
    drive.add("pi", "Second", K_p="3 V/A", low="-10 V", high="10 V")
    drive.add("pulse_stage", "Pulse stage")
    assert drive.connect_obvious() == {"pulse_stage.u": ["first.out", "second.out"]}
    assert not drive.document.wires
    drive.set("second.low", "-10 A")
    drive.set("second.high", "10 A")
    drive.set("second.K_p", "3 A*s/rad")
    asked = drive.connect_obvious()
    assert "first.out -> pulse_stage.u" in drive.document.wires, "amperes do not go there"
    assert "second.out -> first.setpoint" in drive.document.wires and "second.setpoint" not in asked
    with pytest.raises(DriveProblem, match="nobody"):
        drive.connect_obvious("nobody")
    assert pendel.Drive().connect_obvious() == {}


def test_what_is_obvious_decides_about_what_could_be_meant_in_two_ways():
    """Either could be the setpoint of the inner one, until the other has a reader."""
    drive = pendel.Drive()
    drive.add("pi", "Inner", K_p="2 V/A", low="-10 V", high="10 V")
    drive.add("pi", "Outer", K_p="3 A*s/rad", low="-10 A", high="10 A")
    drive.add("step", "Wish")
    drive.add("pulse_stage", "Pulse stage")
    assert drive.connect_obvious() == {"inner.actual": ["wish.out"]}, "a wish is rarely what is measured"
    assert set(drive.document.wires) == {
        "wish.out -> outer.setpoint",
        "outer.out -> inner.setpoint",
        "inner.out -> pulse_stage.u",
    }


def test_a_signal_goes_unasked_only_where_its_unit_is_known_to_fit():
    drive = pendel.Drive()
    for kind in ("pi", "electrical_angle", "current_sensor", "encoder", "gain"):
        drive.add(kind, kind.title())
    position, measured = End("electrical_angle", "position"), End("current_sensor", "measured")
    assert agreeing(drive.document, position, "pi") == ["out"]
    assert agreeing(drive.document, position, "pi", surely=True) == []
    assert agreeing(drive.document, measured, "encoder") == []
    assert agreeing(drive.document, End("encoder", "speed"), "gain", surely=True) == ["x"]


def test_one_signal_is_not_taken_for_two_machines():
    """In the hybrid, *split* gives a speed to the generator; without its wires that could be for either machine."""
    drive = pendel.open_example("day_of_trips").document
    found = obvious(bare(drive), list(drive.cards))
    assert not [pair for pair in found.sure if str(pair[0]) == "split.generator"]
    assert {str(q.target) for q in found.asked if q.sources == (End("split", "generator"),)} == {
        "generator.speed",
        "traction.speed",
    }


def test_a_part_has_what_is_asked_of_it_under_one_name_and_both_can_be_wired():
    """A machine by its envelope is asked for a torque, and makes one."""
    drive = pendel.open_example("works_car")
    drive.add("speed_sensor", "Turning")
    drive.connect("traction.speed", "turning.measured")
    assert not [f.sentence for f in drive.check() if "wire" in f.sentence.lower()]
    run = drive.run("20 s")
    assert run.at("turning.value", [15.0]) == pytest.approx(run.at("traction.speed", [15.0]), rel=1e-3)
    assert run.at("turning.value", [15.0]) > 10.0


def test_what_lies_between_two_pairs_is_never_shorted_by_a_wire_that_seems_obvious():
    """A load that lies across the supply already is none of the converter's output."""
    drive = pendel.Drive()
    for kind in ("step_down", "dc_source", "resistive_load"):
        drive.add(kind, kind.title())
    drive.connect("dc_source.dc", "step_down.dc")
    drive.connect("dc_source.dc", "resistive_load.dc")
    before = set(drive.document.wires)
    drive.connect_obvious()
    assert set(drive.document.wires) == before
    drive.disconnect("dc_source", "resistive_load")
    drive.connect_obvious()
    assert "step_down.out -> resistive_load.dc" in drive.document.wires


def test_a_resistive_load_takes_what_its_resistance_says_warm_or_not():
    """By Ohm's law; with its heat port wired its resistance follows its temperature."""
    drive = pendel.Drive()
    drive.set("until", "10 ms")
    drive.add("dc_source", "Supply", U_0="50 V", R_i="1 ohm")
    drive.add("resistive_load", "Load", R="9 ohm", alpha="1 %/K")
    drive.connect("supply", "load")
    assert drive.run()["load.power"].y[-1] == pytest.approx(9.0 * 5.0**2)
    drive.add("ambient", "Room", T="70 °C")
    drive.connect("load.heat", "room.a")
    warm = drive.run()
    assert warm["load.current"].y[-1] == pytest.approx(50.0 / (1.0 + 9.0 * 1.5))
    assert warm.balance(0.0, 0.01).supplied == pytest.approx(warm.balance(0.0, 0.01).heat, rel=1e-6)


def test_circuits_are_left_alone():
    drive = pendel.Drive()
    for kind in ("resistor", "capacitor", "inductor"):
        drive.add(kind, kind.title())
    assert drive.connect_obvious() == {} and not drive.document.wires


def test_a_card_asks_for_what_completes_it():
    drive = pendel.Drive()
    drive.add(next(k for k in kinds() if "synchronous" in kinds()[k].title.lower()), "Machine")
    asked = completing(drive.document, "machine")
    best = sorted(asked, key=asked.get, reverse=True)
    assert best[0] == "inverter" and Group.MACHINE not in {kinds()[k].group for k in best}
    assert {kinds()[k].group for k in best} & {Group.LOAD, Group.MECHANICS}
    drive.add("inverter", "Inverter")
    drive.connect("inverter.out", "machine.phases")
    assert "inverter" not in completing(drive.document, "machine"), "it has one"


def test_a_card_goes_into_a_wire():
    drive = pendel.open_example("car_door_drive").document
    before = joined(drive)
    wire = drive.wires["speed_pi.out -> current_pi.setpoint"]
    ports = through_ports(kinds()["limiter"], Link.SIGNAL_OUT)
    added = commands.add_card(drive, "limiter", "Limiter")
    add_into_wire(drive, added, "limiter", ports, wire).apply(drive)
    new = {frozenset(("speed_pi.out", "limiter.x")), frozenset(("limiter.out", "current_pi.setpoint"))}
    assert joined(drive) == before - {frozenset(("speed_pi.out", "current_pi.setpoint"))} | new
    assert through_ports(kinds()["gear"], Link.SHAFT) == ("a", "b")
    for kind, link in (("sum", Link.SIGNAL_OUT), ("planetary_gear", Link.SHAFT), ("gear", Link.DC)):
        assert kind not in kinds() or through_ports(kinds()[kind], link) is None


def test_a_sensor_of_three_phases_is_wired_on_both_sides():
    d = pendel.open_example("haul_drive")
    for key in ("current_a", "current_b", "current_c"):
        d.remove(key)
    d.add("three_phase_current_sensor", "Currents")
    found = obvious(d.document, ["haul_machine", "currents", "measured_currents"])
    pairs = {(str(a), str(b)) for a, b in found.sure}
    assert {(f"haul_machine.current_{n}", f"currents.i_{n}") for n in "abc"} <= pairs
    assert {(f"currents.{n}", f"measured_currents.{n}") for n in "abc"} <= pairs and not found.sensors
    fan = pendel.open_example("cabin_fan")
    for key in ("commutation", "hall_decoder", "speed_regulator"):
        fan.remove(key)
    switched = obvious(fan.document, ["hall_sensors", "inverter"])
    assert not switched.sure, "lines of sensors are no duties, though both are a, b and c"
