"""The drive as JSON text, and safe saving. See docs/format.md and drive.schema.json."""

from __future__ import annotations

import json
import os
import tempfile
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any

import jsonschema

from pendel.core.drive.document import (
    Card,
    Drive,
    End,
    Face,
    FaceItem,
    FluxTable,
    OwnEquations,
    Quantity,
    Wire,
)
from pendel.core.drive.inside import resolved
from pendel.core.errors import DriveProblem, FileProblem

FORMAT, VERSION = "pendel drive", 1
MAX_BYTES = 200_000_000
MANY_CORNERS = 200
"""From so many on, corners of a profile are written one a line."""


@lru_cache(maxsize=1)
def validator() -> jsonschema.Draft202012Validator:
    schema = json.loads(resources.files("pendel.core.drive").joinpath("drive.schema.json").read_text("utf-8"))
    return jsonschema.Draft202012Validator(schema)


def to_text(drive: Drive) -> str:
    """The drive as JSON text, one fact a line, keys in a fixed order."""
    record: dict[str, Any] = {
        "format": FORMAT,
        "version": VERSION,
        "settings": drive.settings,
        "quantities": {
            k: {"value": q.text, **({"note": q.note} if q.note else {})} for k, q in drive.quantities.items()
        },
        "cards": {key: card_record(card) for key, card in drive.cards.items()},
        "wires": [[str(w.a), str(w.b)] for w in drive.wires.values()],
        "taps": {name: str(end) for name, end in drive.taps.items()},
    }
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


def card_record(card: Card) -> dict[str, Any]:
    record: dict[str, Any] = {"kind": card.kind, "name": card.name, "at": [card.x, card.y]}
    for name in ("values", "choices", "starts", "proposed"):
        if getattr(card, name):
            record[name] = dict(getattr(card, name))
    if card.profile:
        record["profile"] = card.profile
    if card.rows:
        record["rows"] = [list(row) for row in card.rows]
    if card.own is not None:
        record["own"] = {name: list(getattr(card.own, name)) for name in OwnEquations.__dataclass_fields__}
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
        tuple(FaceItem(name, *where) for name, where in record.get(part, {}).items())
        for part in ("values", "ports")
    )
    return Face(record["design"], values, ports, record.get("follows", True))


def from_text(text: str, source: str = "The drive") -> Drive:
    """Read a drive.

    Raises
    ------
    FileProblem
        saying what is wrong and where; never anything else, whatever the text.
    """
    try:
        record = json.loads(text, parse_constant=refuse_constant)
    except (ValueError, RecursionError) as problem:
        where = f" in line {problem.lineno}" if isinstance(problem, json.JSONDecodeError) else ""
        raise FileProblem(
            source,
            f"this is not a readable drive file (damaged{where}). The autosave or the previous version (.bak) may help.",
        ) from problem
    if not isinstance(record, dict) or record.get("format") != FORMAT:
        raise FileProblem(source, "this is not a Pendel drive. Choose a file that ends in .pendel.")
    version = record.get("version")
    if isinstance(version, int) and version > VERSION:
        raise FileProblem(
            source,
            f"it was written by a newer Pendel (format {version}, this one reads up to {VERSION}). Update Pendel to open it.",
        )
    try:
        violation = next(iter(validator().iter_errors(shortened(record))), None)
    except RecursionError as deep:
        raise FileProblem(source, "it is nested too deeply to be a drive.") from deep
    if violation is not None:
        place = "/".join(str(p) for p in violation.absolute_path) or "the top level"
        raise FileProblem(source, f"at {place}: {violation.message[:200]}.")
    return from_record(record, source)


def shortened(record: dict[str, Any]) -> dict[str, Any]:
    """The record with only the first of many corners of a profile, all of which are pairs of texts: the schema's validator would
    take minutes over a measured one."""

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


def refuse_constant(name: str) -> float:
    raise ValueError(f"{name} is not a value a drive can hold")


def from_record(record: dict[str, Any], source: str) -> Drive:
    drive = Drive()
    drive.settings.update(record.get("settings", {}))
    drive.quantities = {
        k: Quantity(q["value"], q.get("note", "")) for k, q in record.get("quantities", {}).items()
    }
    drive.cards = {key: card_from_record(c) for key, c in record["cards"].items()}
    check_inside(drive, source)
    try:
        for a, b in record["wires"]:
            wire = Wire(resolved(drive, End.parse(a)), resolved(drive, End.parse(b)))
            drive.wires[wire.key] = wire
        drive.taps = {name: End.parse(end) for name, end in record.get("taps", {}).items()}
    except DriveProblem as problem:
        raise FileProblem(source, str(problem)) from problem
    return drive


def check_inside(drive: Drive, source: str) -> None:
    """Raises `FileProblem` where a card lies inside something that is no assembly, or inside itself, or not alone in its role."""
    roles: dict[tuple[str, str], str] = {}
    for key, card in drive.cards.items():
        seen, at = {key}, card.inside
        while at:
            if at in seen:
                raise FileProblem(source, f"{card.name} lies inside itself.")
            if at not in drive.cards or drive.cards[at].face is None:
                raise FileProblem(
                    source, f"{card.name} lies inside “{at}”, which is no assembly of this drive."
                )
            seen.add(at)
            at = drive.cards[at].inside
        if card.inside:
            twin = roles.setdefault((card.inside, card.role), key)
            if twin != key:
                raise FileProblem(
                    source,
                    f"{card.name} and {drive.cards[twin].name} both have the role “{card.role}” in {drive.cards[card.inside].name}.",
                )


def card_from_record(record: dict[str, Any]) -> Card:
    """The inverse of `card_record`."""
    x, y = record.get("at", (0, 0))
    own = OwnEquations(**{k: tuple(v) for k, v in record["own"].items()}) if "own" in record else None
    profile = tuple((t, v) for t, v in record.get("profile", ()))
    values, choices, starts = record.get("values", {}), record.get("choices", {}), record.get("starts", {})
    face = face_from_record(record["face"]) if "face" in record else None
    inside, role = record.get("inside", ""), record.get("role", "")
    rows = tuple(tuple(row) for row in record.get("rows", ()))
    flux = flux_from_record(record["flux"]) if "flux" in record else None
    return Card(
        record["kind"], record["name"], x, y, values, choices, starts, profile, own, inside, role, face, rows, flux, record.get("proposed", {})
    )  # fmt: skip


def flux_from_record(record: dict[str, Any]) -> FluxTable:
    i_d, i_q = (tuple(map(float, record[n])) for n in ("i_d", "i_q"))
    psi_d, psi_q = (tuple(tuple(map(float, row)) for row in record[n]) for n in ("psi_d", "psi_q"))
    return FluxTable(i_d, i_q, psi_d, psi_q, record.get("source", ""))


def load(path: Path) -> Drive:
    try:
        if path.stat().st_size > MAX_BYTES:
            raise FileProblem(
                str(path),
                f"the file has {path.stat().st_size / 1e6:.0f} MB; a drive has at most {MAX_BYTES // 1_000_000} MB. This is probably another kind of file.",
            )
        data = path.read_bytes()
    except OSError as problem:
        raise FileProblem(str(path), f"it cannot be read: {problem.strerror or problem}.") from problem
    try:
        return from_text(data.decode("utf-8"), str(path))
    except UnicodeDecodeError as problem:
        raise FileProblem(str(path), "this is not a text file, so not a Pendel drive.") from problem


def save(drive: Drive, path: Path) -> None:
    """Write atomically; what stood there before is kept as ``NAME.pendel.bak``.

    Raises
    ------
    FileProblem
        when the disk is full or the folder is read-only; the old file is then untouched.
    """
    write_atomically(path, to_text(drive), keep_previous=True)


def write_atomically(path: Path, text: str, *, keep_previous: bool = False) -> None:
    temporary = None
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        with os.fdopen(handle, "w", encoding="utf-8") as stream:
            stream.write(text)
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o644)
        if keep_previous and path.exists():
            os.replace(path, path.with_name(path.name + ".bak"))
        os.replace(temporary, path)
    except OSError as problem:
        if temporary is not None and os.path.exists(temporary):
            os.unlink(temporary)
        raise FileProblem(
            str(path),
            f"it cannot be saved: {problem.strerror or problem}. Choose another folder; nothing was lost.",
        ) from problem
