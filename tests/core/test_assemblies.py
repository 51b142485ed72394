"""Assemblies: folding changes nothing of what computes, one design is edited in one place, and nothing is lost."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import pendel
from pendel.core.catalogue import shelf
from pendel.core.catalogue.assembly import kind_in
from pendel.core.drive import assemblies, clips, commands, file
from pendel.core.drive.document import End
from pendel.core.drive.nesting import members, resolved, shown_end, wires_on
from pendel.core.errors import DriveProblem, FileProblem


def two_filters() -> pendel.Drive:
    """A source with two LC filters in a row, each of a coil and a bank, and a load."""
    d = pendel.Drive("Filters")
    d.set("until", "20 ms")
    d.define("R_coil", "20 mohm")
    d.add("dc_source", "Supply", U_0="48", R_i="10")
    d.add("inductor", "Coil", L="0.2", R_s="R_coil")
    d.add("capacitor", "Bank", C="100")
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R="8")
    for a, b in (
        ("supply.dc", "ends.pair"),
        ("ends.plus", "coil.a"),
        ("coil.b", "bank.a"),
        ("bank.b", "ends.minus"),
        ("load.a", "coil.b"),
        ("load.b", "ends.minus"),
    ):
        d.connect(a, b)
    return d


def test_folding_changes_no_trace_and_undo_takes_it_all_back():
    d = two_filters()
    plain, text = d.run(), file.to_text(d.document)
    filter_ = d.group(["coil", "bank"], "Filter", face={"L": "coil.L"})
    folded = d.run()
    for key in plain.keys():
        np.testing.assert_array_equal(plain[key].y, folded[key].y)
    kind = kind_in(d.document, filter_)
    assert [v.name for v in kind.values] == ["L"] and kind.values[0].unit == "mH"
    assert {resolved(d.document, End(filter_, p.name)) for p in kind.ports} == {
        End("coil", "a"),
        End("coil", "b"),
        End("bank", "b"),
    }
    shown = wires_on(d.document, "").values()
    assert len(shown) == 5 and all(e.card in ("supply", "ends", "load", filter_) for w in shown for e in (w.a, w.b))
    assert [str(w.a) for w in wires_on(d.document, filter_).values()] == ["coil.b"]
    again = file.from_text(file.to_text(d.document))
    assert again.cards == d.document.cards and again.wires == d.document.wires
    command = assemblies.dissolve(d.document, filter_)
    command.apply(d.document)
    assert wires_on(d.document, "") == d.document.wires and not any(c.inside for c in d.document.cards.values())
    command.revert(d.document)
    assert d.document.cards == again.cards
    assert file.to_text(two_filters().document) == text


def copied(d: pendel.Drive, assembly: str) -> str:
    command, new = clips.copy_cards(d.document, [assembly])
    d.do(command)
    return new[0]


def test_a_twin_follows_every_edit_but_its_face():
    d = two_filters()
    first = d.group(["coil", "bank"], "Filter", face={"L": "coil.L"})
    second = copied(d, first)
    twin = members(d.document, second)
    d.set(f"{second}.L", "0.5 mH")
    d.set("bank.C", "330")
    assert d.document.cards[twin["bank"]].values["C"] == "330"
    assert d.document.cards[twin["coil"]].values["L"] == "0.5 mH" and d.document.cards["coil"].values["L"] == "0.2"
    before = file.to_text(d.document)
    card = commands.add_card(d.document, "resistor", "Damper", inside=first)
    whole = assemblies.completed(d.document, card)
    whole.apply(d.document)
    assert set(members(d.document, second)) == {"coil", "bank", "damper"}
    d.connect("damper.a", "bank.a")
    other = members(d.document, second)["damper"]
    assert f"{other}.a -> {twin['bank']}.a" in d.document.wires
    d.do(commands.remove_wires(d.document, ["damper.a -> bank.a"]))
    assert f"{other}.a -> {twin['bank']}.a" not in d.document.wires
    whole.revert(d.document)
    assert file.to_text(d.document) == before
    d.do(assemblies.let_follow(d.document, second, False, first))
    d.set("bank.C", "47")
    assert d.document.cards[twin["bank"]].values["C"] == "330"
    d.do(assemblies.let_follow(d.document, second, True, first))
    assert d.document.cards[twin["bank"]].values["C"] == "47" and d.document.cards[twin["coil"]].values["L"] == "0.5 mH"
    d.do(commands.remove_cards(d.document, [second]))
    assert not any(k in d.document.cards for k in (second, *twin.values()))


def test_a_port_that_goes_with_a_twin_goes_from_the_faces_around_it_too():
    d = two_filters()
    first = d.group(["coil", "bank"], "Filter")
    second = copied(d, first)
    outer = d.group([first], "Front end")
    ports = [port.name for port in d.document.cards[outer].face.ports]
    assert ports and all(resolved(d.document, End(outer, port)).card in ("coil", "bank") for port in ports)
    d.do(commands.remove_cards(d.document, [members(d.document, second)["coil"]]))  # which takes away the first one's
    left = [port.name for port in d.document.cards[outer].face.ports]
    assert "coil" not in d.document.cards and left != ports
    assert all(resolved(d.document, End(outer, port)).card == "bank" for port in left)


def test_assemblies_that_hold_one_of_their_own_design_are_dissolved_in_any_order():
    """Making the outer ones alike takes the inner ones away."""
    d = pendel.open_example("haul_drive_tables").document
    inner = next(key for key, card in d.cards.items() if card.inside == "field_orientation")
    assemblies.completed(d, assemblies.insert(d, clips.clip(d, ["field_orientation"]))[0]).apply(d)
    assemblies.completed(d, clips.copy_cards(d, [inner, "field_orientation"])[0]).apply(d)
    before, held = file.to_text(d), [key for key, card in d.cards.items() if card.face is not None]
    assert len(held) == 4
    for key in held:
        command = assemblies.completed(d, assemblies.dissolve(d, key))
        command.apply(d)
        assert key not in d.cards and all(w.a.card in d.cards and w.b.card in d.cards for w in d.wires.values())
        command.revert(d)
        assert file.to_text(d) == before


def test_an_assembly_becomes_like_one_of_its_own_design_alone():
    d = two_filters()
    first = d.group(["coil", "bank"], "Filter")
    second, other = copied(d, first), d.group(["ends"], "Ends")
    before = file.to_text(d.document)
    for model, words in ((other, "no assembly of its design"), ("gone", "There is no card gone")):
        with pytest.raises(DriveProblem, match=words):
            assemblies.let_follow(d.document, second, True, model)
    holder = d.group([first], "Holder")
    d.document.cards[holder] = replace(
        d.document.cards[holder], face=replace(d.document.cards[holder].face, design="Filter")
    )
    with pytest.raises(DriveProblem, match="lies in the other"):
        assemblies.let_follow(d.document, first, True, holder)
    assert before != file.to_text(d.document) and "coil" in d.document.cards


def test_assemblies_within_assemblies():
    d = two_filters()
    inner = d.group(["coil", "bank"], "Filter", face={"L": "coil.L"})
    outer = d.group([inner, "ends"], "Front end", face={"L_f": f"{inner}.L"})
    assert resolved(d.document, End(outer, "L_f")) == End("coil", "L")
    assert shown_end(d.document, End("coil", "b"), "").card == outer
    twin = copied(d, outer)
    deep = members(d.document, twin)
    d.set(f"{twin}.L_f", "0.9 mH")
    d.set("bank.C", "22")
    assert d.document.cards[deep[f"{inner}/bank"]].values["C"] == "22"
    assert d.document.cards[deep[f"{inner}/coil"]].values["L"] == "0.9 mH"
    d.do(commands.rename_card(d.document, outer, "Entry"))
    assert d.document.cards[inner].inside == "entry" and d.run().at("load.voltage", [0.02])[0] == pytest.approx(
        48 * 8 / 8.03, rel=2e-3
    )


def test_the_shelf_brings_quantities_along_and_keeps_designs_apart(tmp_path, monkeypatch):
    monkeypatch.setattr(shelf, "folder", lambda: tmp_path / "shelf")
    d = two_filters()
    filter_ = d.group(["coil", "bank"], "Filter", face={"L": "coil.L"})
    path = shelf.put_on_shelf(d.document, filter_)
    other = pendel.Drive("Elsewhere")
    command, new, differing = shelf.take_from_shelf(other.document, path)
    other.do(command)
    assert other.document.quantities["R_coil"].text == "20 mohm" and not differing
    assert set(members(other.document, new)) == {"coil", "bank"}
    other.set("R_coil", "1 ohm")
    other.set("bank.C", "1")
    command, second, differing = shelf.take_from_shelf(other.document, path)
    other.do(command)
    assert differing == ["R_coil"]
    assert other.document.cards[second].face.design != other.document.cards[new].face.design
    assert other.document.cards["bank"].values["C"] == "1"
    assert [name for name, _ in shelf.on_shelf()] == ["Filter"]


def test_what_cannot_be_is_refused_with_a_sentence():
    d = two_filters()
    filter_ = d.group(["coil", "bank"], "Filter")
    with pytest.raises(DriveProblem, match="different sheets"):
        assemblies.group(d.document, ["coil", "load"], "Mixed")
    with pytest.raises(DriveProblem, match="no assembly"):
        assemblies.dissolve(d.document, "load")
    with pytest.raises(DriveProblem, match="not inside Filter"):
        assemblies.show_value(d.document, filter_, End("load", "R"), True)
    text = file.to_text(d.document)
    for bad, sentence in (
        (text.replace('"inside": "filter"', '"inside": "load"'), "no assembly"),
        (text.replace('"role": "bank"', '"role": "coil"'), "both have the role"),
        (
            text.replace(
                '"design": "Filter"',
                '"design": "Filter"\n      },\n      "inside": "filter",\n'
                '      "role": "x",\n      "face": {"design": "x"',
                1,
            ),
            "inside itself",
        ),
    ):
        with pytest.raises(FileProblem, match=sentence):
            file.from_text(bad)


def test_a_damaged_shelf_loses_nothing_and_says_what_is_wrong(tmp_path, monkeypatch):
    place = tmp_path / "shelf"
    monkeypatch.setattr(shelf, "folder", lambda: place)
    d = two_filters()
    before = file.to_text(d.document)
    with pytest.raises(DriveProblem):
        shelf.put_on_shelf(d.document, "coil")
    place.write_text("a file where the folder should be")
    filter_ = d.group(["coil", "bank"], "Filter", face={})
    with pytest.raises(FileProblem, match="the shelf cannot be made"):
        shelf.put_on_shelf(d.document, filter_)
    place.unlink()
    path = shelf.put_on_shelf(d.document, filter_)
    (place / "broken.pendel").write_text(path.read_text()[:-40])
    (place / "notes.txt").write_text("mine")
    assert [name for name, _ in shelf.on_shelf()] == ["Filter"]  # what cannot be read is no entry, and stays
    plain = pendel.Drive("Plain")
    plain.add("resistor", "Load")
    file.save(plain.document, place / "plain.pendel")
    for wrong, words in (
        (place / "broken.pendel", "broken.pendel"),
        (place / "plain.pendel", "holds no assembly"),
    ):
        with pytest.raises((FileProblem, DriveProblem), match=words):
            shelf.take_from_shelf(d.document, wrong)
    assert (place / "broken.pendel").exists() and file.to_text(d.document) != before


def test_faces_of_nested_assemblies_reach_to_the_bottom():
    """A value twice on a face is one text; set from outside it reaches the card inside, in the file, in names and in a
    run."""
    d = two_filters()
    inner = d.group(["coil", "bank"], "Filter", face={"L": "coil.L", "C": "bank.C"})
    outer = d.group([inner], "Stage", face={"L_stage": f"{inner}.L"})
    d.set(f"{outer}.L_stage", "3 mH")
    assert d.document.cards["coil"].values["L"] == "3 mH"
    again = pendel.Drive(document=file.from_text(file.to_text(d.document)))
    assert [i.name for i in again.document.cards[outer].face.values] == ["L_stage"]
    again.set(f"{outer}.L_stage", "0.3 mH")
    plain = two_filters()
    plain.set("coil.L", "0.3 mH")
    t = np.linspace(0, again.run().kept.end, 300)
    np.testing.assert_array_equal(again.run().at("coil.current", t), plain.run().at("coil.current", t))
    with pytest.raises(DriveProblem):
        again.set(f"{outer}.C", "1 uF")  # on the inner face only
