"""What the terminal prints: texts of a file act on nothing, and figures are those of the JSON."""

import json
import math
import re
import unicodedata

import pytest

import pendel
from pendel.cli.lines import visible, visible_json
from pendel.cli.main import main
from pendel.core.drive.file import from_text, save, to_text

EVIL = "A\x1b[2J\tB\nfault: drive: forged\u202e\x9b1m\u2028x\udc80"
VERBS = {
    "check": ("car_door_drive", ()),
    "signals": ("car_door_drive", ()),
    "loops": ("car_door_drive", ()),
    "measure": ("car_door_drive", ("--until", "0.2 s", "--signals", "door_motor.speed,speed_pi.out")),
    "modes": ("haul_drive_rope", ()),
    "linear": ("car_door_drive", ("--from", "speed_pi.out", "--to", "door_motor.speed")),
    "fmu": ("car_door_drive", ("--what", "plant")),
    "firmware": ("car_door_drive", ()),
    "tune": ("car_door_drive", ("--loop", "current_pi")),
    "calm": ("haul_drive_rope", ()),
    "formats": ("car_door_drive", ()),
}


def acting(text):
    return {c for c in text if c != "\n" and c != "\t" and unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp")}


def answered(capsys, verb, drive, path, *more):
    save(drive, path)
    code = main([verb, str(path), *VERBS[verb][1], *more])
    said = capsys.readouterr()
    return code, said.out, said.err


def shape(text):
    """Columns of each line."""
    return [line.count("\t") for line in text.split("\n")]


def renamed(document, name):
    """The drive with this name for every card, title and note."""
    data = json.loads(to_text(document))
    for n, card in enumerate(data["cards"].values()):
        card["name"] = f"{n} {name}"
    data["settings"]["title"] = name
    for quantity in data["quantities"].values():
        quantity["note"] = name
    return from_text(json.dumps(data))


@pytest.mark.parametrize("verb", VERBS)
def test_names_of_a_drive_make_no_lines_no_columns_and_no_moves(verb, tmp_path, capsys):
    document = pendel.open_example(VERBS[verb][0]).document
    code, plain, _ = answered(capsys, verb, renamed(document, "A"), tmp_path / "plain.pendel")
    again, out, err = answered(capsys, verb, renamed(document, EVIL[:-1]), tmp_path / "evil.pendel")
    assert again == code and shape(out) == shape(plain)
    assert not acting(out) and not acting(err) and "\nfault: drive" not in "\n" + out + err
    code, out, err = answered(capsys, verb, renamed(document, EVIL[:-1]), tmp_path / "evil.pendel", "--json")
    assert not acting(out) and not acting(err)
    json.loads(out)


def test_faults_tell_the_text_that_is_wrong_in_one_line(tmp_path, capsys):
    data = json.loads(to_text(pendel.open_example("car_door_drive").document))
    data["cards"]["door_motor"]["values"]["U_n"] = EVIL[:-1]
    (tmp_path / "d.pendel").write_text(json.dumps(data))
    for verb in ("check", "run", "loops"):
        assert main([verb, str(tmp_path / "d.pendel")]) == 1
        said = capsys.readouterr()
        lines = (said.out + said.err).splitlines()
        assert lines and all(line.split(": ")[1].startswith("door_motor") for line in lines), lines
        assert not acting(said.out + said.err)
    data["cards"][EVIL[:-1]] = data["cards"].pop("door_motor")
    (tmp_path / "d.pendel").write_text(json.dumps(data))
    assert main(["check", str(tmp_path / "d.pendel")]) == 2
    assert len(capsys.readouterr().err.splitlines()) == 1


def test_what_acts_is_shown_and_what_words_need_stays():
    assert visible("Türöffner · µ²\u202fΩ نمی\u200cخواهم") == "Türöffner · µ²\u202fΩ نمی\u200cخواهم"
    assert visible(EVIL) == r"A\x1b[2J\tB\nfault: drive: forged\u202e\x9b1m\u2028x\udc80"
    for code in range(0x3000):
        letter = chr(code)
        category = unicodedata.category(letter)
        harmless = (
            letter in "\u00ad\u200c\u200d" or 0x600 <= code <= 0x605 or code in (0x6DD, 0x70F, 0x890, 0x891, 0x8E2)
        )
        if category in ("Cc", "Cf", "Zl", "Zp") and not harmless:  # the others are signs that are seen (Unicode, ch. 9)
            assert visible(letter) != letter, hex(code)
    document = json.dumps({"name": EVIL[:-1], "n": [1, 2]}, ensure_ascii=False, indent=2)
    assert json.loads(visible_json(document)) == json.loads(document) and not acting(visible_json(document))


NUMBER = re.compile(r"(?<![\w.])-?\d+(?:\.\d+)?(?:e[+-]?\d+)?(?![\w.])")


def numbers_in(thing):
    if isinstance(thing, bool) or thing is None:
        return []
    if isinstance(thing, (int, float)):
        return [float(thing)]
    if isinstance(thing, dict):
        return [x for key, each in thing.items() for x in [*texts(key), *numbers_in(each)]]
    return texts(thing) if isinstance(thing, str) else [x for each in thing for x in numbers_in(each)]


def texts(text):
    return [float(x) for x in NUMBER.findall(text)]


@pytest.mark.parametrize("verb", ["loops", "measure", "modes", "linear", "firmware", "tune", "calm"])
def test_figures_of_a_text_are_those_of_the_json(verb, tmp_path, capsys):
    document = pendel.open_example(VERBS[verb][0]).document
    code, out, _ = answered(capsys, verb, document, tmp_path / "d.pendel")
    again, answer, _ = answered(capsys, verb, document, tmp_path / "d.pendel", "--json")
    known = numbers_in(json.loads(answer))
    told = NUMBER.findall(out)
    assert code == again == 0 and len(told) > 2
    for word in told:
        digits = max(1, len(re.sub(r"e.*|[-.]", "", word).lstrip("0")))
        value = float(word)
        # As printed, in parts of a hundred, or a share of it.
        near = [
            x for x in known for f in (1, 100, 0.01) if math.isclose(f * x, value, rel_tol=0.6 * 10 ** (1 - digits))
        ]
        assert near or value == 0.0 and 0.0 in known, f"{word} of {verb} is nowhere in the JSON"
