"""A drive keeps every value that it ran with, whatever the catalogue says later."""

from __future__ import annotations

import json
from dataclasses import replace

import pendel
from pendel.core.catalogue import index
from pendel.core.drive import file


def test_a_changed_default_changes_no_saved_drive_and_comes_to_new_cards(tmp_path, monkeypatch):
    d = pendel.Drive("Then")
    for key, more in (("left", {}), ("typed", {"b_m": "1e-4 N*m*s"})):
        d.add("brushed_dc", key, **more)
    path = tmp_path / "then.pendel"
    d.save(path)
    record = json.loads(path.read_text())
    motor, was = index.kinds()["brushed_dc"], d.card("left").b_m
    assert record["usual"]["brushed_dc"]["values"]["b_m"] == motor.value("b_m").default
    assert "b_m" not in record["cards"]["left"].get("values", {}), "what was not typed is still not the user's own"
    assert file.to_text(file.load(path)) == path.read_text()

    later = replace(
        motor, values=tuple(replace(v, default="0.5 N*m*s") if v.name == "b_m" else v for v in motor.values)
    )
    monkeypatch.setitem(index.kinds(), "brushed_dc", later)
    index.usual_texts.cache_clear()
    again = pendel.open(path)
    again.add("brushed_dc", "New")
    told = {key: again.card(key).b_m for key in ("left", "typed", "new")}
    assert told == {"left": was, "typed": 1e-4, "new": 0.5}
    monkeypatch.undo()
    index.usual_texts.cache_clear()


def test_what_is_usual_in_a_file_adds_nothing_to_kinds_it_does_not_fit():
    d = pendel.Drive("Odd")
    d.add("gear", "Gear", ratio="3")
    record = json.loads(file.to_text(d.document))
    record["usual"] = {"gear": {"values": {"ratio": "5", "long_gone": "7"}}, "no_such_kind": {"choices": {"a": "b"}}}
    read = file.from_text(json.dumps(record))
    assert dict(read.cards["gear"].values)["ratio"] == "3"
    record["usual"]["gear"]["values"] = {"ratio": 5}
    drive, left_out = file.as_far_as_it_goes(json.dumps(record))
    assert len(left_out) == 1 and drive.cards
