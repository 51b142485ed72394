"""What is wrong with a drive, rule by rule: the part, the value, and a remedy that is one."""

import math
import re
from dataclasses import replace

import pytest

import pendel
from pendel.core.catalogue.declare import ANY
from pendel.core.catalogue.index import kinds
from pendel.core.check import examine
from pendel.core.check.differing import differing
from pendel.core.drive import commands
from pendel.core.drive.document import End, Quantity, Wire
from pendel.core.quantities.units import unit

BOUNDED = [
    (kind.id, value)
    for kind in kinds().values()
    for value in {v.name: v for v in kind.values}.values()
    if value.unit != ANY and (value.low is not None or value.high is not None or value.whole)
]


def findings_of(document, field=""):
    return [f for f in examine(document).findings if not field or f.field == field]


def in_field(number: float, unit_text: str) -> str:
    """A figure as it is typed into a field of this unit."""
    return f"{number / unit(unit_text)[0]!r} {unit_text}" if unit_text else repr(number)


@pytest.mark.parametrize(("kind", "value"), BOUNDED, ids=lambda x: getattr(x, "name", x))
def test_a_value_beyond_its_range_is_told_ends_that_its_field_takes(kind, value):
    """Whatever the sentence says is allowed is entered as it stands there, and is allowed."""
    d = pendel.Drive("Alone")
    key = d.add(kind, "It")
    low, high = value.low, value.high
    beyond = [] if low is None else [low - 1.0 - abs(low), low] if value.open_low else [low - 1.0 - abs(low)]
    beyond += [] if high is None else [high * 1.5 + 1.0]
    if value.whole:
        beyond.append(max(low or 0.0, 0.0) + 0.5)
    field = "" if value.unit in ("°C",) else value.unit
    for number in beyond:
        d.document.cards[key] = d.document.cards[key].with_value(value.name, in_field(number, field))
        told = [f for f in findings_of(d.document, value.name) if f.stops]
        if not told and value.name not in {v.name for v in kinds()[kind].values_in_force(d.document.cards[key])}:
            continue  # it does not count as the card stands
        assert len(told) == 1 and told[0].card == key, (number, [f.sentence for f in told])
        sentence = told[0].sentence
        assert sentence.startswith(f"It: {value.label} {value.name} is ")
        for words, end in re.findall(
            r"(above|at least|at most) (.+?)(?= and |\.$)", sentence.partition("it must be ")[2]
        ):
            plain = end.replace("\u2009", "").replace("−", "-")
            d.document.cards[key] = d.document.cards[key].with_value(value.name, plain)
            refused = [
                f
                for f in findings_of(d.document, value.name)
                if f.stops and f"{value.label} {value.name} is" in f.sentence
            ]
            assert bool(refused) == (words == "above"), f"{end} is said to be allowed"


@pytest.fixture
def filter_():
    """A source, a resistor and a capacitor, whose voltage a sensor gives to a regulator."""
    d = pendel.Drive("Filter")
    d.add("dc_source", "Supply", U_0="10 V", R_i="1 ohm")
    d.add("pair_opener", "Ends")
    d.add("resistor", "Coil", R="10 ohm")
    d.add("capacitor", "Bank", C="100 uF")
    for a, b in (
        ("supply.dc", "ends.pair"),
        ("ends.plus", "coil.a"),
        ("coil.b", "bank.a"),
        ("bank.b", "ends.minus"),
    ):
        d.connect(a, b)
    return d


def only(found):
    assert len(found) == 1, [f.sentence for f in found]
    return found[0]


@pytest.mark.parametrize(
    ("setting", "text", "words"),
    [
        ("until", "0 s", "Run length"),
        ("until", "-1 s", "Run length"),
        ("until", "10 V", "Run length"),
        ("tick", "nothing", "Sampling period"),
        ("step", "0", "Fixed step"),
        ("tolerance", "1", "between 1e-12 and 0.1"),
        ("tolerance", "1e-13", "between 1e-12 and 0.1"),
        ("computing_delay", "0.5", "0 or 1 tick"),
        ("level", "exact", "averaged"),
        ("method", "best", "auto"),
    ],
)
def test_a_setting_that_cannot_be_is_told_at_its_field(filter_, setting, text, words):
    filter_.document.settings[setting] = text
    found = only([f for f in findings_of(filter_.document, setting) if f.stops])
    assert words in found.sentence and (text in found.sentence or "nothing" in text)


def test_more_ticks_than_can_be_are_told_before_they_are_run(filter_):
    filter_.add("step", "Demand")
    filter_.document.settings |= {"until": "1 h", "tick": "10 us"}
    assert (
        "360 million are"
        not in (found := only([f for f in findings_of(filter_.document, "until") if f.stops])).sentence
    )
    assert "50 million" in found.sentence and "Shorten" in found.sentence
    filter_.document.settings["until"] = "8 min"
    assert not [f for f in findings_of(filter_.document, "until") if f.stops]
    filter_.document.settings |= {"until": "1 ms", "tick": "2 ms"}
    assert "runs once" in only(findings_of(filter_.document, "tick")).sentence


def test_quantities_that_go_round_or_are_unknown_are_told_by_name(filter_):
    for name, text in (("a", "2*b"), ("b", "a + 1"), ("c", "3*nobody")):
        filter_.document.quantities[name] = Quantity(text)
    found = {f.field: f.sentence for f in findings_of(filter_.document) if f.stops}
    assert set(found) == {"a", "b", "c"} and "nobody" in found["c"]
    filter_.document.quantities["b"] = Quantity("1")
    assert {f.field for f in findings_of(filter_.document) if f.stops} == {"c"}


def joined(document, a, b):
    """A wire that no edit would make, as a file may have it."""
    wire = Wire(End(*a.split(".")), End(*b.split(".")))
    document.wires[wire.key] = wire


@pytest.mark.parametrize(
    ("a", "b", "words"),
    [
        ("coil.a", "nobody.b", "nobody.b, which does not exist"),
        ("coil.nothing", "bank.a", "coil.nothing, which does not exist"),
        ("coil.a", "demand.out", "joins a line port with a signal out port"),
        ("demand.out", "other.out", "joins a signal out port with a signal out port"),
        ("bank.voltage", "gate.on", "leads from part to part"),
    ],
)
def test_a_wire_that_joins_what_does_not_fit_is_told_and_deleted(filter_, a, b, words):
    filter_.add("step", "Demand")
    filter_.add("step", "Other")
    filter_.add("transistor", "Gate")
    joined(filter_.document, a, b)
    found = only([f for f in findings_of(filter_.document) if f.stops])
    assert words in found.sentence and found.fix is not None
    found.fix.apply(filter_.document)
    assert not [f for f in findings_of(filter_.document) if f.stops]


def test_a_pair_on_a_single_line_is_told_which_of_its_lines_that_is():
    """The minus line, as a tie of the potential wants it; a resistor there carries no current, and gets a sentence."""
    drive = pendel.Drive("Coil")
    drive.add("dc_source", "Feed")
    drive.add("ground", "Earth")
    drive.add("resistor", "R")
    drive.connect("feed.dc", "earth.line")
    assert not [f for f in drive.check() if "minus line" in f.sentence]
    drive.connect("feed.dc", "r.a")
    drive.connect("r.b", "earth.line")
    told = only([f for f in drive.check() if "minus line" in f.sentence])
    assert told.sentence.startswith("R: the wire to feed.dc joins the minus line of Feed") and not told.stops
    assert (told.card, told.field) == ("r", "a")
    assert not any(drive.run(1e-3)["r.current"].y)


def test_a_signal_that_comes_twice_is_told_from_where_and_one_is_taken_off(filter_):
    for name in ("Demand", "Other"):
        filter_.add("step", name)
    filter_.add("pt1", "Lag")
    joined(filter_.document, "demand.out", "lag.x")
    joined(filter_.document, "other.out", "lag.x")
    found = only([f for f in findings_of(filter_.document) if f.stops])
    assert "lag.x is fed twice, by demand.out and by other.out" in found.sentence
    found.fix.apply(filter_.document)
    assert [str(w.a) for w in filter_.document.wires.values() if str(w.b) == "lag.x"] == ["demand.out"]


def test_a_thousand_wrong_wires_are_told_once_and_deleted_at_once(filter_):
    for k in range(1000):
        joined(filter_.document, "coil.a", f"nobody_{k}.b")
    found = [f for f in findings_of(filter_.document) if f.stops]
    assert len(found) == 101 and "900 more wires" in found[-1].sentence
    found[-1].fix.apply(filter_.document)
    assert len([f for f in findings_of(filter_.document) if f.stops]) == 100


def test_what_is_not_connected_is_told_as_what_it_then_is(filter_):
    filter_.add("pt1", "Lag")
    filter_.add("resistor", "Spare")
    filter_.add("transistor", "Gate")
    told = {(f.card, f.field): f for f in findings_of(filter_.document)}
    assert "reads 0" in told["lag", "x"].sentence and not told["lag", "x"].stops
    assert "is not connected" in told["spare", "a"].sentence
    assert "stays 0. Wire a block" in told["gate", "on"].sentence
    assert ("coil", "a") not in told


def test_a_tap_on_what_is_gone_is_taken_off(filter_):
    commands.add_tap(filter_.document, "u_bank", End("bank", "voltage")).apply(filter_.document)
    assert not [f for f in findings_of(filter_.document) if f.stops]
    del filter_.document.cards["bank"]
    found = next(f for f in findings_of(filter_.document) if f.field == "u_bank")
    found.fix.apply(filter_.document)
    assert not filter_.document.taps


def test_a_card_of_an_unknown_kind_and_a_choice_that_is_none_are_told(filter_):
    cards = filter_.document.cards
    cards["coil"] = replace(cards["coil"], kind="flux_capacitor")
    assert any(f.card == "coil" and "flux_capacitor" in f.sentence for f in findings_of(filter_.document) if f.stops)
    filter_.add("inverter", "Bridge")
    cards["bridge"] = replace(cards["bridge"], choices={"device": "tube"})
    found = next(f for f in findings_of(filter_.document, "device"))
    assert "cannot be “tube”" in found.sentence and "igbt" in found.sentence


def test_corners_of_a_profile_are_told_by_their_number(filter_):
    filter_.add("profile", "Demand")
    for corners, number, words in (
        ((("0", "1"), ("2 s", "1"), ("1 s", "2")), 2, "lies before the corner at 2 s"),
        ((("0", "1"), ("2 V", "1")), 1, "profile corner 2"),
        ((("0", "one"),), 0, "profile corner 1"),
    ):
        filter_.document.cards["demand"] = replace(filter_.document.cards["demand"], profile=corners)
        found = only([f for f in findings_of(filter_.document) if f.stops])
        assert found.field == f"profile:{number}" and words in found.sentence
    filter_.document.cards["demand"] = replace(filter_.document.cards["demand"], profile=())
    assert "gives 0. Add corners" in next(f for f in findings_of(filter_.document, "profile")).sentence


def test_a_value_that_leads_to_no_numbers_is_no_crash():
    """Every kind with all its values very large, very small, and equal."""
    for kind in kinds().values():
        d = pendel.Drive("Alone")
        key = d.add(kind.id, "It")
        for size in (1e-300, 1e-30, 1.0, 1e30, 1e300):
            card = d.document.cards[key]
            for value in kind.values:
                card = card.with_value(value.name, in_field(size, "" if value.unit in (ANY, "°C") else value.unit))
            d.document.cards[key] = card
            result = examine(d.document)
            assert all(f.sentence.endswith((".", "?")) for f in result.findings)
            assert all(isinstance(v, float) or math.isnan(v) for v in result.values[key].values())


def test_each_of_two_cards_of_one_name_has_its_line_among_the_losses(filter_):
    """No edit gives two cards one name, but a file may."""
    filter_.document.cards["bank"] = replace(
        filter_.document.cards["bank"], kind="resistor", values={"R": "20"}, name="Coil"
    )
    filter_.set("until", "1 ms")
    balance = filter_.run().balance(0.0, 1e-3)
    # 10 V over 1, 10 and 20 ohm.
    current = 10 / 31
    found = sorted((each.what, each.power) for each in balance.losses)
    assert [what for what, _ in found] == ["Coil", "Coil", "Supply"]
    assert [power for _, power in found] == pytest.approx([10 * current**2, 20 * current**2, current**2], rel=1e-3)
    assert sum(each.energy for each in balance.losses) == pytest.approx(balance.heat, rel=1e-9)


def test_numbers_in_which_drives_differ_are_told_where_all_have_one():
    drives = [pendel.open_example("car_door_drive").document for _ in range(3)]
    for mass, drive in zip(("60 kg", "0.07 t", "80 kg"), drives):
        drive.settings["seed"] = mass[:1]
        commands.set_quantity(drive, "m_leaf", mass).apply(drive)
    (found,) = differing(drives)
    assert found.name == "m_leaf" and found.values == pytest.approx((60, 70, 80)) and found.unit == "kg"
    commands.set_value(drives[2], "door_motor", "L_a", "").apply(drives[2])
    assert [each.name for each in differing(drives)] == ["m_leaf"], "an empty field has no size"
    commands.remove_cards(drives[1], ["gear"]).apply(drives[1])
    assert [each.name for each in differing(drives)] == ["m_leaf"] and differing(drives[:1]) == []
