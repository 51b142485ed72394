"""Values that belong together: expressions name values of cards, wherever they are, and follow whatever happens to
them."""

from __future__ import annotations

import math

import numpy as np
import pytest

import pendel
from pendel.core.catalogue.card_names import names_of
from pendel.core.catalogue.shelf import only_assembly
from pendel.core.check import examine
from pendel.core.drive import assemblies, clips, commands, file
from pendel.core.errors import DriveHasFindings
from pendel.core.quantities.units import unit

NAMED = {"K_d": "2*pi*400 Hz*haul_machine.L_d", "L_d": "haul_machine.L_d", "L_q": "haul_machine.L_q"}


@pytest.fixture
def tied():
    """The haul drive, its regulator in terms of its machine."""
    drive = pendel.open_example("haul_drive")
    for name, text in NAMED.items():
        drive.set(f"current_regulator.{name}", text)
    for name in ("L_d", "L_q", "p"):
        drive.set(f"torque_to_currents.{name}", f"haul_machine.{name}")
    return drive


def test_a_named_value_is_worth_what_its_field_has():
    drive = pendel.Drive()
    drive.add("brushed_dc", "Motor", R_a="0.46", L_a="0.61 mH", k_t="k*1.2", J_m="1.9 kg*cm^2")
    drive.define("k", "0.09 N*m/A")
    drive.add("ramp", "Speed", before="0 rpm", after="3000 rpm")
    drive.add("pi", "PI", K_p="2 V/A", low="-48 V", high="48 V")
    names = names_of(drive.document)
    for name, value, unit_text in (
        ("motor.R_a", 0.46, "ohm"),
        ("motor.L_a", 0.61e-3, "H"),
        ("motor.k_t", 0.108, "N*m/A"),
        ("motor.J_m", 1.9e-4, "kg*m^2"),
        ("speed.after", 100 * math.pi, "rad/s"),
        ("pi.high", 48.0, "V"),
    ):
        worth = names(name)
        assert worth.si == pytest.approx(value, rel=1e-15) and worth.dim == unit(unit_text)[1], name
    drive.define("T_e", "motor.L_a/motor.R_a")
    assert examine(drive.document).quantities["T_e"] == pytest.approx(0.61e-3 / 0.46)
    drive.define("n", "speed.after/2")
    assert examine(drive.document).quantities["n"] == pytest.approx(50 * math.pi)
    drive.add("ambient", "Air", T="40 °C")
    drive.add("heat_capacity", "Body", T_0="air.T")
    assert examine(drive.document).values["body"]["T_0"] == pytest.approx(40.0)
    assert not [f for f in drive.check() if f.card == "body" and f.field == "T_0"]


def test_runs_and_rows_follow_to_the_bit(tied):
    """A drive whose regulator names its machine runs as one that has the same written out, also where that varies."""
    for L_d in ("0.9 mH", "1.1 mH", "0.7 mH"):
        plain = pendel.open_example("haul_drive")
        plain.set("haul_machine.L_d", L_d)
        for card in ("current_regulator", "torque_to_currents"):
            plain.set(f"{card}.L_d", L_d)
        plain.set("current_regulator.K_d", f"2*pi*400 Hz*{L_d}")
        tied.set("haul_machine.L_d", L_d)
        one, other = plain.run(0.02), tied.run(0.02)
        assert np.array_equal(one["haul_machine.torque"].y, other["haul_machine.torque"].y), L_d
    series = tied.series(
        {"haul_machine.L_d": ["0.9 mH", "1.1 mH", "0.7 mH"]}, ["max(haul_machine.torque)", "rms(haul_machine.i_d)"]
    )
    for row in series.run():
        tied.set("haul_machine.L_d", row.values["haul_machine.L_d"])
        torque = tied.run()["haul_machine.torque"].y
        assert row.outcome == "done" or row.outcome, row.reason
        assert row.figures["max(haul_machine.torque)"] == pytest.approx(torque.max(), rel=1e-9)


def test_names_follow_a_card_that_is_called_otherwise(tied):
    tied.define("tau", "haul_machine.L_d/haul_machine.R_s")
    before = file.to_text(tied.document)
    key = tied.rename("haul_machine", "Winch motor")
    assert key == "winch_motor"
    assert tied.card("current_regulator").texts["K_d"] == "2*pi*400 Hz*winch_motor.L_d"
    assert tied.document.quantities["tau"].text == "winch_motor.L_d/winch_motor.R_s"
    tied.set("winch_motor.L_q", "winch_motor.L_d*1.5")
    tied.rename("winch_motor", "Second")
    assert tied.card("second").texts["L_q"] == "second.L_d*1.5"
    for _ in range(3):
        tied.undo()
    assert file.to_text(tied.document) == before


def test_copies_name_the_copies_and_groups_and_the_shelf_lose_nothing(tied):
    document = tied.document
    command, new = clips.copy_cards(document, ["haul_machine", "field_orientation"])
    command.apply(document)
    machine = next(key for key in new if document.cards[key].kind == document.cards["haul_machine"].kind)
    regulator = next(
        c for k, c in document.cards.items() if c.kind == document.cards["current_regulator"].kind and c.inside in new
    )
    assert regulator.values["L_d"] == f"{machine}.L_d"
    command.revert(document)

    kept = only_assembly(document, "field_orientation")
    assert not [f for f in examine(kept).findings if f.stops and "has no value" in f.sentence]
    worth = examine(kept).values["current_regulator"]["L_d"]
    assert worth == pytest.approx(0.9e-3) and "haul_machine_L_d" in kept.quantities

    grouped = document.copy()
    assemblies.group(grouped, ["haul_machine", "test_bench"], "Machine set", []).apply(grouped)
    assert not [f for f in examine(grouped).findings if f.stops]


def test_a_part_of_a_drive_stands_by_itself():
    """Heat over a duty runs the electric part and the bodies apart, each of which may name what the other has."""
    drive = pendel.open_example("warm_haul_drive")

    def peaks():
        load = {"torque_demand.after": ["400 N*m", "0 N*m"]}
        return [place.warmest for place in drive.heat_over(load, kind="S3", time="20 s", share="40 %").places]

    before = peaks()
    drive.set("housing.C", "26 kJ/K*haul_machine.p/4")
    drive.set("haul_machine.R_s", "R_ph*housing.C/(26 kJ/K)")
    assert peaks() == pytest.approx(before, rel=1e-9)
    drive.set("haul_machine.p", "4")
    drive.set("housing.C", "13 kJ/K*haul_machine.p/4")
    assert peaks() != pytest.approx(before, rel=1e-3)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("haul_machine.L_d", "nobody.L", "there is no card nobody"),
        ("haul_machine.L_d", "haul_machin.L_q", "Is it haul_machine?"),
        ("haul_machine.L_d", "haul_machine.L_x", "L_x is none of it. It has"),
        ("haul_machine.L_d", "haul_machine.R_s", "is in"),
        ("haul_machine.L_d", "haul_machine.L_d", "is defined by itself"),
        ("haul_machine.L_d", "current_regulator.K_d/(2*pi*400 Hz)", "is defined by itself"),
    ],
)
def test_what_names_nothing_or_itself_is_a_finding(tied, name, text, words):
    tied.set(name, text)
    found = [str(f) for f in tied.check() if f.stops]
    assert any(words in sentence for sentence in found), found
    with pytest.raises(DriveHasFindings):
        tied.run(0.001)


def test_assemblies_of_one_design_are_not_named_inside(tied):
    document = tied.document
    command, _ = clips.copy_cards(document, ["field_orientation"])
    command.apply(document)
    tied.set("haul_machine.L_d", "current_regulator.L_q")
    assert any("several assemblies of one design" in str(f) for f in tied.check())


def test_a_controller_for_another_machine_is_a_finding_with_the_way_to_tie_it():
    drive = pendel.open_example("haul_drive")
    assert not drive.check()
    drive.set("haul_machine.L_q", "1.405 mH")
    assert not drive.check(), "as a sheet rounds"
    drive.set("haul_machine.L_q", "2 mH")
    drive.set("haul_machine.p", "5")
    found = [f for f in drive.check() if f.fix_label == "Tie them"]
    assert {f.card for f in found} == {"torque_to_currents", "electrical_angle", "current_regulator"}
    assert "Pole pairs p is 4, but Haul machine has 5" in str(found[0])
    for finding in found:
        finding = next(f for f in drive.check() if f.card == finding.card and f.fix_label == "Tie them")
        drive.do(finding.fix)
    assert not [f for f in drive.check() if f.fix_label == "Tie them"]
    texts = drive.card("torque_to_currents").texts
    assert (texts["p"], texts["L_q"]) == ("haul_machine.p", "haul_machine.L_q"), "all at once"
    commands.add_card(drive.document, drive.document.cards["haul_machine"].kind, "Other").apply(drive.document)
    drive.set("current_regulator.L_q", "9 mH")
    assert not [f for f in drive.check() if f.fix_label == "Tie them"], "of two machines it may be either"


def test_what_a_face_varies_is_followed_by_what_names_a_card_inside():
    """The analogue regulator's face has R_in; the sampled one names the resistor inside, and the face."""
    drive = pendel.open_example("analogue_controller")
    drive.set("sampled_pi.K_p", "R_2/input_resistor.R")
    rows = drive.series({"analogue_pi.R_in": ["10 kohm", "20 kohm", "5 kohm"]}, ["min(sampled_pi.out)"]).run()
    outs = [row.figures["min(sampled_pi.out)"] for row in rows]
    for row, out in zip(rows, outs):
        drive.set("analogue_pi.R_in", row.values["analogue_pi.R_in"])
        assert out == pytest.approx(drive.run()["sampled_pi.out"].y.min(), rel=1e-9)
    assert len(set(outs)) == 3
    drive.set("sampled_pi.K_p", "R_2/analogue_pi.R_in")
    assert drive.run()["sampled_pi.out"].y.min() == pytest.approx(outs[2], rel=1e-9), "by its face"
