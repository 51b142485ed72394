"""The drive as JSON text, and safe saving. See docs/format.md and drive.schema.json."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from importlib import resources
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import jsonschema
    import jsonschema_rs

from pendel.core.drive.document import (
    BESIDE_TABLES,
    Card,
    Drive,
    End,
    Face,
    FaceItem,
    FluxTable,
    KeptTransfer,
    OwnEquations,
    PanelControl,
    Quantity,
    Wire,
)
from pendel.core.drive.duties import duty_from, duty_record
from pendel.core.drive.file_text import MOST_ENTRIES, LeaveOut, parsed, text_of
from pendel.core.drive.limits import DEEPEST, MOST, MOST_CORNERS, problem_of
from pendel.core.drive.nesting import resolved
from pendel.core.drive.plans import plan_from, plan_record
from pendel.core.drive.scripts import script_from, script_lines
from pendel.core.drive.usual import kept_as_it_was, usual_record
from pendel.core.drive.views import note_from, note_record, text_from, text_lines, view_from, view_record
from pendel.core.errors import DriveProblem, FileProblem, shorten
from pendel.core.files.writing import write_atomically

FORMAT, VERSION = "pendel drive", 1
MOST_LEFT_OUT, MOST_ROUNDS = 2000, 4
"""Places of a damaged file that are left out, and how often it is looked at again."""
MANY_CORNERS = 200
"""From so many on, corners of a profile are written one a line."""


def schema() -> dict[str, Any]:
    text = resources.files("pendel.core.drive").joinpath("drive.schema.json").read_text("utf-8")
    return dict(json.loads(text))


@lru_cache(maxsize=1)
def quick_validator() -> jsonschema_rs.Validator:
    import jsonschema_rs  # slow to load, and not needed without a file

    return jsonschema_rs.validator_for(schema())


@lru_cache(maxsize=1)
def validator() -> jsonschema.Draft202012Validator:
    import jsonschema  # slow to load, and not needed but for what is wrong

    return jsonschema.Draft202012Validator(schema())


def fits_schema(record: Any) -> bool:
    """Whether a record is surely a drive, at a hundredth of what `validator` takes, which judges what this one
    cannot take, such as halves of surrogate pairs."""
    try:
        return quick_validator().is_valid(record)
    except ValueError:
        return False


def to_record(drive: Drive) -> dict[str, Any]:
    """The drive as plain lists, groups, texts and numbers, keys in a fixed order."""
    record: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION,
        "settings": drive.settings,
        "quantities": {
            k: {"value": q.text, **({"note": q.note} if q.note else {})} for k, q in drive.quantities.items()
        },
        "cards": {key: card_record(card) for key, card in drive.cards.items()},
        "wires": [[str(w.a), str(w.b), *([NAMED] if w.named else [])] for w in drive.wires.values()],
        "taps": {name: str(end) for name, end in drive.taps.items()},
    }
    if usual := usual_record(drive):
        record["usual"] = usual
    if drive.panel:
        record["panel"] = {key: control_record(control) for key, control in drive.panel.items()}
    if drive.transfers:
        record["transfers"] = {name: transfer_record(kept) for name, kept in drive.transfers.items()}
    if drive.plans:
        record["plans"] = {name: plan_record(plan) for name, plan in drive.plans.items()}
    if drive.scripts:
        record["scripts"] = {name: script_lines(script) for name, script in drive.scripts.items()}
    if drive.duties:
        record["duties"] = {name: duty_record(duty) for name, duty in drive.duties.items()}
    if drive.texts:
        record["texts"] = {name: text_lines(text) for name, text in drive.texts.items()}
    if drive.notes:
        record["notes"] = {name: note_record(note) for name, note in drive.notes.items()}
    if drive.views:
        record["views"] = {name: view_record(view) for name, view in drive.views.items()}
    return record


def to_text(drive: Drive) -> str:
    """The drive as JSON text, one fact a line."""
    record = to_record(drive)
    long = {}
    for key, card in record["cards"].items():
        if len(card.get("profile", ())) >= MANY_CORNERS:
            long[f"profile of {key}"], card["profile"] = card["profile"], f"profile of {key}"
    text = json.dumps(record, indent=2, ensure_ascii=False) + "\n"
    for mark, corners in long.items():
        lines = json.dumps(corners, ensure_ascii=False)[1:-1].replace(
            '"], ["', '"],\n        ["'
        )  # within a text, quotes are escaped
        text = text.replace(f'"profile": "{mark}"', f'"profile": [\n        {lines}\n      ]', 1)
    return text


def transfer_record(kept: KeptTransfer) -> dict[str, Any]:
    record: dict[str, Any] = {"from": kept.source, "to": kept.target}
    if kept.opened:
        record["opened"] = list(kept.opened)
    if kept.at:
        record["at"] = kept.at
    return record


def transfer_from(record: dict[str, Any]) -> KeptTransfer:
    return KeptTransfer(record["from"], record["to"], tuple(record.get("opened", ())), record.get("at", ""))


def control_record(control: PanelControl) -> dict[str, Any]:
    record: dict[str, Any] = {"form": control.form, "target": control.target, "title": control.title}
    record["at"] = [control.x, control.y, control.w, control.h]
    for name in ("low", "high"):
        if getattr(control, name):
            record[name] = getattr(control, name)
    if control.names:
        record["names"] = [list(pair) for pair in control.names]
    return record


def control_from(record: dict[str, Any]) -> PanelControl:
    x, y, w, h = record["at"]
    names = tuple((number, words) for number, words in record.get("names", []))
    texts = (record.get("low", ""), record.get("high", ""))
    return PanelControl(record["form"], record["target"], record.get("title", ""), x, y, w, h, *texts, names)


def card_record(card: Card) -> dict[str, Any]:
    record: dict[str, Any] = {"kind": card.kind, "name": card.name, "at": [card.x, card.y]}
    for name in (
        "values",
        "choices",
        "starts",
        "proposed",
        "seen",
        "steps",
        "digits",
        "bases",
        "tuned_on",
        "made_from",
        "envelope",
    ):
        if getattr(card, name):
            record[name] = dict(getattr(card, name))
    for name in ("number_format", "phase", "pinned_key", "outside"):
        if getattr(card, name):
            record[name] = getattr(card, name)
    for name in ("ranges", "live"):
        if getattr(card, name):
            record[name] = {item: list(ends) for item, ends in getattr(card, name).items()}
    if card.profile:
        record["profile"] = card.profile
    if card.rows:
        record["rows"] = [list(row) for row in card.rows]
    if card.own is not None:
        lines = {name: list(getattr(card.own, name)) for name in OwnEquations.__dataclass_fields__}
        record["own"] = {n: v for n, v in lines.items() if v or n not in ("convert", "words")}
    if card.flux is not None:
        record["flux"] = {
            "i_d": list(card.flux.i_d),
            "i_q": list(card.flux.i_q),
            "psi_d": [list(row) for row in card.flux.psi_d],
            "psi_q": [list(row) for row in card.flux.psi_q],
            "source": card.flux.source,
        }
    if card.inside:
        record["inside"], record["role"] = card.inside, card.role
    if card.face is not None:
        record["face"] = face_record(card.face)
    return record


def face_record(face: Face) -> dict[str, Any]:
    record: dict[str, Any] = {"design": face.design}
    for name in ("values", "ports"):
        if getattr(face, name):
            record[name] = {i.name: [i.path, i.item] for i in getattr(face, name)}
    if not face.follows:
        record["follows"] = False
    return record


def face_from_record(record: dict[str, Any]) -> Face:
    values, ports = (
        tuple(FaceItem(name, *where) for name, where in record.get(part, {}).items()) for part in ("values", "ports")
    )
    return Face(record["design"], values, ports, record.get("follows", True))


def from_text(text: str, source: str = "The drive") -> Drive:
    """Read a drive, all of it.

    Raises
    ------
    FileProblem
        saying what is wrong and where; never anything else, whatever the text.
    """

    def refuse(sentence: str) -> None:
        raise FileProblem(source, sentence)

    return _read(text, source, refuse)


def as_far_as_it_goes(text: str, source: str = "The drive") -> tuple[Drive, list[str]]:
    """Read of a damaged or newer file what can be read, and sentences on what was left out.

    Raises
    ------
    FileProblem
        when nothing can be, or the file is no drive at all.
    """
    left_out: list[str] = []
    drive = _read(text, source, left_out.append)
    if left_out and not (drive.cards or drive.quantities):
        raise FileProblem(source, left_out[0])
    return drive, left_out


def _read(text: str, source: str, leave_out: LeaveOut) -> Drive:
    if text.count(",") > MOST_ENTRIES:  # before it takes memory and time
        raise FileProblem(source, f"it has more than {MOST_ENTRIES // 10**6} million entries; no drive has so many.")
    record = parsed(text, source, leave_out)
    if not isinstance(record, dict) or record.get("format") != FORMAT:
        raise FileProblem(source, "this is not a Pendel drive. Choose a file that ends in .pendel.")
    version = record.get("version")
    if isinstance(version, int) and version > VERSION:
        leave_out(
            f"it was written by a newer Pendel (format {version}, this one reads up to {VERSION}). Update "
            "Pendel to open it."
        )
    keep_within(record, leave_out)
    for _ in range(MOST_ROUNDS):  # what is taken out may show more
        try:
            if fits_schema(record):
                return from_record(record, source, leave_out)
            short = shortened(record)
            violations = list(islice(validator().iter_errors(short), MOST_LEFT_OUT + 1))
        except RecursionError as deep:
            raise FileProblem(source, "it is nested too deeply to be a drive.") from deep
        if not violations:
            return from_record(record, source, leave_out)
        if len(violations) > MOST_LEFT_OUT:
            raise FileProblem(source, f"more than {MOST_LEFT_OUT} places of it cannot be read.")
        # From the last on, so that places in lists stay what they are.
        for violation in sorted(violations, key=lambda v: [(str(p).rjust(9)) for p in v.absolute_path], reverse=True):
            place = "/".join(excerpt(str(p)) for p in violation.absolute_path) or "the top level"
            leave_out(f"at {place}: {what_is_wrong(violation)}.")
            take_out(record, list(violation.absolute_path), str(violation.validator))
    raise FileProblem(source, "its parts do not fit together.")


def keep_within(record: dict[str, Any], leave_out: LeaveOut) -> None:
    """Cut tables and profiles that are longer than a drive can hold, before their entries are looked at."""
    for name, maximum in MOST.items():
        table = record.get(name)
        if isinstance(table, list | dict) and len(table) > maximum:
            leave_out(f"it has {len(table)} {name}; there is room for {maximum}.")
            record[name] = table[:maximum] if isinstance(table, list) else dict(islice(table.items(), maximum))
    cards = record.get("cards")
    for key, card in cards.items() if isinstance(cards, dict) else ():
        profile = card.get("profile") if isinstance(card, dict) else None
        if isinstance(profile, list) and len(profile) > MOST_CORNERS:
            leave_out(
                f"the profile of {excerpt(str(key))} has {len(profile)} corners; there is room for {MOST_CORNERS}."
            )
            card["profile"] = profile[:MOST_CORNERS]


IN_WORDS = {
    "string": "a text",
    "object": "a group of named facts",
    "array": "a list",
    "integer": "a whole number",
    "number": "a number",
    "boolean": "true or false",
}


def what_is_wrong(violation: jsonschema.ValidationError) -> str:
    """A violation of the schema in words."""
    rule, wanted, instance = violation.validator, violation.validator_value, violation.instance
    if isinstance(instance, dict | list):
        value = "a list" if isinstance(instance, list) else "a group of facts"
    else:
        value = excerpt(json.dumps(instance, ensure_ascii=False))
    if rule == "type":
        return f"there is {value}, where {IN_WORDS.get(str(wanted), str(wanted))} belongs"
    if rule == "required":
        return f"{', '.join(n for n in wanted if n not in instance)} is missing"
    if rule == "additionalProperties":
        known = violation.schema.get("properties", {})
        return f"{', '.join(excerpt(n) for n in instance if n not in known)} is not known here"
    if rule in ("minItems", "maxItems", "minLength"):
        return f"{value} is too {'long' if rule == 'maxItems' else 'short'}"
    return f"{value} cannot stand here"


def excerpt(text: str) -> str:
    """The beginning of a text from a file, with what is no letter as a question mark."""
    return shorten(text[:200].encode("utf-8", "replace").decode(), 40)


PLAIN_TABLES = ("settings", "quantities", "taps", "usual", *BESIDE_TABLES)
"""Those whose records are left out whole."""


NAMED = "named"
"""Third in the record of a wire that is drawn as two ends with a name."""


def take_out(record: dict[str, Any], path: list[Any], why: str) -> None:
    """Remove from a record what breaks the schema at ``path``: the smallest thing a drive can do without."""
    known = {"format", "version", "wires", "cards", *PLAIN_TABLES}
    table = path[0] if path else None
    if table is None or (len(path) == 1 and why in ("type", "minimum", "const")):
        tables = ("cards", *PLAIN_TABLES)
        for name, empty in (("wires", list[Any]()), *((name, dict[str, Any]()) for name in tables)):
            if not isinstance(record.get(name, empty), type(empty)) or (table is None and name not in record):
                record[name] = empty
        record["version"] = VERSION
        for name in record.keys() - known:
            del record[name]
    elif table == "wires" and len(path) == 3 and path[2] == 2:
        remove(record[table][path[1]], 2)  # how it is drawn
    elif table == "wires" or (table in PLAIN_TABLES and len(path) > 1):
        remove(record[table], path[1])
    elif table == "cards" and len(path) > 1:
        card = record["cards"].get(path[1])
        if len(path) > 3 and path[2] in (
            "values",
            "choices",
            "starts",
            "proposed",
            "ranges",
            "seen",
            "live",
            "steps",
            "digits",
            "bases",
            "tuned_on",
            "made_from",
            "envelope",
        ):
            remove(card[path[2]], path[3])
        elif len(path) > 2 and path[2] not in ("kind", "name") and isinstance(card, dict):
            remove(card, path[2])
        elif len(path) == 2 and why == "additionalProperties" and isinstance(card, dict):
            for name in card.keys() - set(CARD_FIELDS):
                del card[name]
        else:
            remove(record["cards"], path[1])


def remove(table: Any, place: Any) -> None:
    with contextlib.suppress(LookupError, TypeError):  # another violation at the same place took it out
        del table[place]


def shortened(record: dict[str, Any]) -> dict[str, Any]:
    """The record with only the first of many corners of a profile, all of which are pairs of texts: the
    schema's validator would take minutes over a measured one."""

    def pair(point: object) -> bool:
        return type(point) is list and len(point) == 2 and type(point[0]) is str and type(point[1]) is str

    cards = record.get("cards")
    if not isinstance(cards, dict):
        return record
    kept = {}
    for key, card in cards.items():
        kept[key] = card
        profile = card.get("profile") if isinstance(card, dict) else None
        if isinstance(profile, list) and len(profile) >= MANY_CORNERS and all(map(pair, profile)):
            kept[key] = {**card, "profile": profile[:1]}
    return {**record, "cards": kept}


def from_record(record: dict[str, Any], source: str, leave_out: LeaveOut) -> Drive:
    drive = Drive()

    def put(table: str, key: str, make: Callable[..., Any], *facts: Any) -> None:
        """One record, unless it cannot be made or kept."""
        try:
            record = make(*facts)
        except (DriveProblem, OverflowError, ValueError) as problem:
            leave_out(f"{key}: {problem}")
            return
        if sentence := problem_of(table, key, record):
            leave_out(sentence)
        else:
            drive.table(table)[record.key if isinstance(record, Wire) else key] = record

    def wire(a: str, b: str, *named: str) -> Wire:
        return Wire(resolved(drive, End.parse(a)), resolved(drive, End.parse(b)), NAMED in named)

    for name, text in record.get("settings", {}).items():
        put("settings", name, str, text)
    for name, q in record.get("quantities", {}).items():
        put("quantities", name, Quantity, q["value"], q.get("note", ""))
    for key, card in record["cards"].items():
        put("cards", key, card_from_record, kept_as_it_was(card, record.get("usual", {})))
    check_inside(drive, leave_out)
    for a, b, *named in record["wires"]:
        put("wires", f"the wire {a} to {b}", wire, a, b, *named)
    for name, end in record.get("taps", {}).items():
        put("taps", name, End.parse, end)
    for key, control in record.get("panel", {}).items():
        put("panel", key, control_from, control)
    for name, kept in record.get("transfers", {}).items():
        put("transfers", name, transfer_from, kept)
    for name, plan in record.get("plans", {}).items():
        put("plans", name, plan_from, plan)
    for name, lines in record.get("scripts", {}).items():
        put("scripts", name, script_from, lines)
    for name, duty in record.get("duties", {}).items():
        put("duties", name, duty_from, duty)
    for name, lines in record.get("texts", {}).items():
        put("texts", name, text_from, lines)
    for name, note in record.get("notes", {}).items():
        put("notes", name, note_from, note)
    for name, view in record.get("views", {}).items():
        put("views", name, view_from, view)
    for table, maximum in MOST.items():
        if len(drive.table(table)) > maximum:
            raise FileProblem(source, f"it has {len(drive.table(table))} {table}; a drive has at most {maximum}.")
    return drive


def check_inside(drive: Drive, leave_out: LeaveOut) -> None:
    """See to it that every card inside something lies in an assembly, not in itself, and alone in its role;
    else it comes out."""
    roles: dict[tuple[str, str], str] = {}

    def out(key: str, sentence: str) -> None:
        leave_out(sentence)
        drive.cards[key] = replace(drive.cards[key], inside="", role="")

    for key, card in list(drive.cards.items()):
        seen, at = {key}, card.inside
        while at:
            if at in seen or len(seen) > DEEPEST:
                why = "inside itself" if at in seen else f"in more than {DEEPEST} assemblies within each other"
                out(key, f"{card.name} lies {why}.")
                break
            if at not in drive.cards or drive.cards[at].face is None:
                out(key, f"{card.name} lies inside “{at}”, which is no assembly of this drive.")
                break
            seen.add(at)
            at = drive.cards[at].inside
        if inside := drive.cards[key].inside:
            twin = roles.setdefault((inside, card.role), key)
            if twin != key:
                out(
                    key,
                    f"{card.name} and {drive.cards[twin].name} both have the role “{card.role}” in "
                    f"{drive.cards[inside].name}.",
                )


CARD_FIELDS = (
    "kind",
    "name",
    "at",
    "values",
    "choices",
    "starts",
    "proposed",
    "profile",
    "rows",
    "flux",
    "inside",
    "role",
    "face",
    "own",
    "number_format",
    "ranges",
    "seen",
    "live",
    "steps",
    "digits",
    "bases",
    "phase",
    "pinned_key",
    "tuned_on",
    "outside",
    "made_from",
    "envelope",
)


def card_from_record(record: dict[str, Any]) -> Card:
    """The inverse of `card_record`."""
    x, y = map(int, record.get("at", (0, 0)))
    own = OwnEquations(**{k: tuple(v) for k, v in record["own"].items()}) if "own" in record else None
    profile = tuple((t, v) for t, v in record.get("profile", ()))
    values, choices, starts = record.get("values", {}), record.get("choices", {}), record.get("starts", {})
    face = face_from_record(record["face"]) if "face" in record else None
    inside, role = record.get("inside", ""), record.get("role", "")
    rows = tuple(tuple(row) for row in record.get("rows", ()))
    flux = flux_from_record(record["flux"]) if "flux" in record else None
    return Card(
        record["kind"],
        record["name"],
        x,
        y,
        values,
        choices,
        starts,
        profile,
        own,
        inside,
        role,
        face,
        rows,
        flux,
        record.get("proposed", {}),
        record.get("number_format", ""),
        {name: (low, high) for name, (low, high) in record.get("ranges", {}).items()},
        {name: float(size) for name, size in record.get("seen", {}).items()},
        {name: (low, high) for name, (low, high) in record.get("live", {}).items()},
        record.get("steps", {}),
        record.get("digits", {}),
        record.get("bases", {}),
        record.get("phase", ""),
        record.get("pinned_key", ""),
        {name: float(gain) for name, gain in record.get("tuned_on", {}).items()},
        record.get("outside", ""),
        record.get("made_from", {}),
        record.get("envelope", {}),
    )


def flux_from_record(record: dict[str, Any]) -> FluxTable:
    i_d, i_q = (tuple(map(float, record[n])) for n in ("i_d", "i_q"))
    psi_d, psi_q = (tuple(tuple(map(float, row)) for row in record[n]) for n in ("psi_d", "psi_q"))
    return FluxTable(i_d, i_q, psi_d, psi_q, record.get("source", ""))


def load(path: Path) -> Drive:
    """Read a file, all of it. Raises `FileProblem`."""
    return from_text(text_of(path), str(path))


def load_as_far_as_it_goes(path: Path) -> tuple[Drive, list[str]]:
    """What can be read of a file, and what was left out. Raises `FileProblem` where that is nothing."""
    return as_far_as_it_goes(text_of(path), str(path))


def save(drive: Drive, path: Path) -> None:
    """Write atomically; what stood there before is kept as ``NAME.pendel.bak``. What is written is read back
    first.

    Raises
    ------
    FileProblem
        when the disk is full or the folder is read-only; the old file is then untouched.
    """
    text = to_text(drive)
    from_text(text, str(path))
    write_atomically(path, text, keep_previous=True)
