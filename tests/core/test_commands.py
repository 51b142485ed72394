"""Edits of any kind in any order, on any example: each is taken back exactly, and a drive stays a whole drive."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pendel.core.catalogue.assembly import resolved
from pendel.core.catalogue.index import kind_of, kinds
from pendel.core.check import examine
from pendel.core.drive import assemblies, clips, commands, file
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import TABLES, End
from pendel.core.drive.examples import EXAMPLES
from pendel.core.drive.limits import check_changes
from pendel.core.errors import DriveProblem

PATHS = sorted(EXAMPLES.glob("*.pendel"))
NAMES = ("Motor", "New card", "a < b & c", "Träger Ω", "i_d")
TEXTS = ("1", "0", "-3 A", "U_link", "2*K_p", "1 kg*m^2", "nonsense +", "", "5 ms  # a remark")


def chosen(draw, names, least=1, most=4):
    names = list(names)
    if len(names) < least:
        raise DriveProblem("There is none to choose.")
    return draw(st.lists(st.sampled_from(names), min_size=least, max_size=most, unique=True))


def one(draw, names):
    return chosen(draw, names, 1, 1)[0]


def on_one_sheet(draw, d):
    sheet = d.cards[one(draw, d.cards)].inside
    return chosen(draw, [k for k, c in d.cards.items() if c.inside == sheet])


def an_end(draw, d):
    key = one(draw, [k for k, c in d.cards.items() if c.face is None])
    kind = kind_of(d.cards[key])
    return End(key, one(draw, [*(p.name for p in kind.ports), *(s.name for s in getattr(kind, "signals", ()))]))


def a_value(draw, d):
    key = one(draw, [k for k, c in d.cards.items() if c.face is None and kind_of(c).values])
    return key, one(draw, [v.name for v in kind_of(d.cards[key]).values])


def an_assembly(draw, d):
    return one(draw, [k for k, c in d.cards.items() if c.face is not None])


def text(draw):
    return draw(st.sampled_from(TEXTS))


def name(draw):
    return draw(st.sampled_from(NAMES))


EDITS = {
    "add": lambda draw, d: commands.add_card(d, one(draw, sorted(kinds())), name(draw), 3, 4),
    "remove": lambda draw, d: commands.remove_cards(d, chosen(draw, d.cards)),
    "move": lambda draw, d: commands.move_cards(d, {one(draw, d.cards): (draw(st.integers(-40, 40)), 7)}),
    "rename": lambda draw, d: commands.rename_card(d, one(draw, d.cards), name(draw)),
    "value": lambda draw, d: commands.set_value(d, *a_value(draw, d), text(draw)),
    "wire": lambda draw, d: commands.add_wire(d, an_end(draw, d), an_end(draw, d)),
    "unwire": lambda draw, d: commands.remove_wires(d, chosen(draw, d.wires)),
    "tap": lambda draw, d: commands.add_tap(d, draw(st.sampled_from(("here", "x", "U_link"))), an_end(draw, d)),
    "untap": lambda draw, d: commands.remove_tap(d, one(draw, d.taps)),
    "quantity": lambda draw, d: commands.set_quantity(d, draw(st.sampled_from(("K_p", "new", "x"))), text(draw)),
    "rename quantity": lambda draw, d: commands.rename_quantity(
        d, one(draw, d.quantities), one(draw, ("q", "U_b", "x"))
    ),
    "remove quantity": lambda draw, d: commands.remove_quantity(d, one(draw, d.quantities)),
    "copy": lambda draw, d: clips.copy_cards(d, chosen(draw, d.cards))[0],
    "group": lambda draw, d: assemblies.group(d, on_one_sheet(draw, d), name(draw)),
    "dissolve": lambda draw, d: assemblies.dissolve(d, an_assembly(draw, d)),
    "twin": lambda draw, d: assemblies.insert(d, clips.clip(d, [an_assembly(draw, d)]))[0],
    "apart": lambda draw, d: assemblies.let_follow(d, an_assembly(draw, d), draw(st.booleans()), an_assembly(draw, d)),
    "show value": lambda draw, d: assemblies.show_value(
        d, an_assembly(draw, d), End(*a_value(draw, d)), draw(st.booleans())
    ),
    "show port": lambda draw, d: assemblies.show_port(d, an_assembly(draw, d), an_end(draw, d), draw(st.booleans())),
    "setting": lambda draw, d: commands.set_setting(d, one(draw, d.settings), text(draw)),
}


def check_whole(d):
    """What holds for any drive: ends of wires and names exist, sheets are those of assemblies, and its text gives it
    back."""
    for wire in d.wires.values():
        assert wire.a.card in d.cards and wire.b.card in d.cards, wire
    for end in d.taps.values():
        assert end.card in d.cards
    for key, card in d.cards.items():
        above, seen = card.inside, {key}
        while above:
            assert above in d.cards and d.cards[above].face is not None, f"{key} lies in {above}"
            assert above not in seen, "no assembly lies in itself"
            seen.add(above)
            above = d.cards[above].inside
        for item in (*card.face.values, *card.face.ports) if card.face is not None else ():
            assert resolved(d, End(key, item.name)).card != key, f"{item.name} on the face of {key} leads nowhere"
    told = [f.sentence for f in examine(d).findings]
    again = file.from_text(file.to_text(d))
    assert {t: getattr(again, t) for t in TABLES} == {t: getattr(d, t) for t in TABLES}
    assert file.to_text(again) == file.to_text(d)
    assert [f.sentence for f in examine(again).findings] == told


@pytest.mark.parametrize("path", PATHS, ids=lambda path: path.stem)
@settings(max_examples=10, deadline=None)
@given(data=st.data())
def test_any_edits_leave_a_whole_drive_and_are_taken_back_exactly(path, data):
    d = file.load(path)
    history = []
    for _ in range(data.draw(st.integers(2, 8))):
        edit = data.draw(st.sampled_from(sorted(EDITS)))
        before = file.to_text(d)
        try:
            command = completed(d, EDITS[edit](data.draw, d))
            check_changes(d, command.changes)
        except DriveProblem:
            assert file.to_text(d) == before
            continue
        assert file.to_text(d) == before, f"{edit}: making a command must not change the drive"
        command.apply(d)
        check_whole(d)
        history.append((command, before, file.to_text(d)))
    for command, before, _ in reversed(history):
        command.revert(d)
        assert file.to_text(d) == before
    for command, _, after in history:
        command.apply(d)
        assert file.to_text(d) == after


def test_a_face_shows_nothing_that_went_from_a_twin_deeper_inside():
    """One command that takes a card of a twin and a card beside the assembly that holds the other twin, which is looked
    at before that is made alike."""
    d = file.load(EXAMPLES / "haul_drive_tables.pendel")
    for make in (
        lambda: assemblies.group(d, ["current_regulator", "torque_to_currents"], "Motor"),
        lambda: assemblies.insert(d, clips.clip(d, ["motor"]))[0],
    ):
        completed(d, make()).apply(d)
    assert "torque" in [item.name for item in d.cards["field_orientation"].face.ports]
    beside = commands.remove_cards(d, ["inverter"])  # what it touches is looked at first
    completed(d, beside.then(commands.remove_cards(d, ["torque_to_currents_2"]))).apply(d)
    assert "torque_to_currents" not in d.cards
    assert "torque" not in [item.name for item in d.cards["field_orientation"].face.ports]
    check_whole(d)
