"""What a drive says of itself and how it is looked at: kept in its file, followed by renames, whole at its limits."""

from __future__ import annotations

import json
import re

import pytest

import pendel
from pendel.core.catalogue.assembly import kind_in
from pendel.core.drive import commands, file
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.view_edits import view_of_runs
from pendel.core.drive.views import RUNS, View, ViewStrip
from pendel.core.errors import DriveProblem
from pendel.core.runs.preparing.simulate import signal_infos

ALL = sorted(EXAMPLES.glob("*.pendel"))


@pytest.mark.parametrize("path", ALL, ids=lambda path: path.stem)
def test_examples_say_what_they_are_and_name_what_there_is(path):
    drive = pendel.open(path)
    assert len(drive.about.split("\n\n")[0]) > 40
    document = drive.document
    values = {v.name for key in document.cards for v in getattr(kind_in(document, key), "values", ())}
    known = {*document.quantities, *values, *signal_infos(document)}
    for quoted in re.findall(r"`([^`]+)`", drive.about):
        for name in re.findall(r"[A-Za-z_][A-Za-z_0-9.]*", quoted):
            assert name in known, f"{path.stem} names {name}"
    titles = {card.name.lower() for card in document.cards.values()}
    others = {file.load(each).title.split("·")[-1].strip().lower() for each in ALL}
    places = {"loops", "series", "firmware", "bench", "live", "switching", "device", "spectrum", "sectors", "modes"}
    places |= {"proposed", "what swings", "rotor diagram", "tables", "energy flow …", "heat over a duty …"}
    places |= {"run, heat over a duty …", "run, make envelope …", "run, in detail …"}
    places |= {name.lower() for name in (*document.plans, *document.scripts, *document.duties)}
    for name in re.findall(r"(?<!\*)\*([^*\n]+)\*(?!\*)", drive.about):
        assert name.lower() in titles | others | places, f"{path.stem} names {name}"
    shown = [signal for strip in view_of_runs(document).strips for signal in strip.signals]
    assert set(shown) <= set(signal_infos(document))


def test_text_and_view_come_back_from_the_file_and_follow_names(tmp_path):
    drive = pendel.open_example("car_door_drive")
    drive.describe("# Door\r\n\r\n`m_leaf` …\n")
    drive.lay_out([["travel_speed.out", "travel_plan.speed"], ["i_door"]], ("200 ms", "1 s"), [2.5])
    drive.rename("travel_plan", "Way")
    path = tmp_path / "door.pendel"
    drive.save(path)
    again = pendel.open(path)
    assert again.about == "# Door\n\n`m_leaf` …"
    assert view_of_runs(again.document) == View(
        (
            ViewStrip(("travel_speed.out", "way.speed"), ("way.speed",), 2.5),
            ViewStrip(("door_motor.current",)),
        ),
        (0.2, 1.0),
    )
    assert drive.undo() and "travel_plan.speed" in view_of_runs(drive.document).strips[0].signals
    drive.lay_out([])
    assert drive.document.views == {}
    drive.describe("  \n ")
    assert drive.about == "" and drive.document.texts == {}


def test_what_no_drive_can_hold_is_said_by_its_place():
    drive = pendel.open_example("car_door_drive")
    for call, words in (
        (lambda: drive.lay_out([["door_motor.curent"]]), "Is it door_motor.current"),
        (lambda: drive.lay_out([["door_motor.current"]], heights=[9]), "height of 9. Take 0.25 to 8"),
        (lambda: drive.lay_out([["door_motor.current"]], heights=[1, 1]), "2 heights for 1 strips"),
        (lambda: drive.lay_out([["door_motor.current"]], cursors=("1 V", "2 s")), "V"),
        (lambda: drive.lay_out([["door_motor.current"]] * 41), "room for 40"),
        (lambda: drive.describe("x" * 20_001), "room for 20000"),
        (lambda: drive.describe("a\0b"), "letter of value 0"),
    ):
        with pytest.raises(DriveProblem, match=re.escape(words)):
            call()
    record = file.to_record(drive.document)
    for view in (
        {"strips": [{"signals": ["a.b"], "axis": [2, 1]}]},
        {"strips": [], "span": [1, 1]},
        {"strips": [], "cursors": [1]},
        {"strips": [{"signals": ["a.b"], "height": 1e308}]},
        {"strips": [{"signals": [7]}]},
        {"strips": [], "panels": [[]]},
    ):
        text = json.dumps({**record, "views": {RUNS: view}})
        read, left_out = file.as_far_as_it_goes(text)
        assert read.views == {} and len(left_out) == 1 and len(read.cards) == 15


def test_a_view_is_no_edit_of_what_runs():
    """Runs, series and sweeps of a drive that is only looked at otherwise stay those of this drive."""
    from pendel.core.drive.document import KeptTransfer
    from pendel.core.loops.models.kept_sweeps import key_of
    from pendel.core.series.running import text_of

    drive = pendel.open_example("car_door_drive")
    way = KeptTransfer("i_set", "i_door")
    before = text_of(drive.document), key_of(drive.document, way)
    drive.lay_out([["i_door"]])
    drive.describe("other words")
    assert (text_of(drive.document), key_of(drive.document, way)) == before
    commands.set_quantity(drive.document, "m_leaf", "39 kg").apply(drive.document)
    assert text_of(drive.document) != before[0]
