"""What comes back from a call, as a JSON Schema: from what a method says it gives, as `pendel.core.verbs.plain` makes
JSON of it."""

from __future__ import annotations

import ast
import collections.abc
import inspect
import sys
import types
import typing
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from enum import Enum
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.catalogue.declare import Kind
from pendel.core.drive.findings import Finding
from pendel.core.verbs.plain import LEFT_OUT
from pendel.interface.card_view import CardView
from pendel.interface.drive_series import SeriesView
from pendel.interface.run_view import Run

Schema = dict[str, Any]
TEXT: Schema = {"type": "string"}
NUMBER: Schema = {"anyOf": [{"type": "number"}, {"type": "null"}], "description": "null where it has no value"}
ANYTHING: Schema = {}


def record(**entries: Schema) -> Schema:
    return {"type": "object", "properties": entries, "required": list(entries)}


def list_of(item: Schema) -> Schema:
    return {"type": "array", "items": item}


PLAIN: dict[Any, Schema] = {
    str: TEXT,
    Path: TEXT,
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: NUMBER,
    complex: {"type": "array", "items": NUMBER, "minItems": 2, "maxItems": 2, "description": "real, imaginary"},
    types.NoneType: {"type": "null"},
    np.ndarray: {"type": "array", "items": {}},
    CardView: TEXT,
    Kind: record(id=TEXT, title=TEXT),
    Finding: record(card={"anyOf": [TEXT, {"type": "null"}]}, field={"anyOf": [TEXT, {"type": "null"}]}, sentence=TEXT),
    Run: record(run=TEXT, end=NUMBER, level=TEXT, signals={"type": "integer"}, remarks=list_of(TEXT)),
    SeriesView: list_of({"type": "object"}),
}
CARDS: Schema = {"type": "object", "additionalProperties": record(name=TEXT, kind=TEXT)}


@cache
def names_in(module: types.ModuleType) -> dict[str, Any]:
    """What annotations in it may name, what it imports for checking types alone included."""
    known = {**vars(typing), **vars(module)}
    for statement in ast.parse(inspect.getsource(module)).body:
        if isinstance(statement, ast.If) and ast.unparse(statement.test) == "TYPE_CHECKING":
            block = ast.Module(statement.body, [])
            exec(compile(block, module.__name__, "exec"), known)  # noqa: S102  of our own source
    return known


def given_by(function: Callable[..., Any]) -> Any:
    """What a function declares to give."""
    return typing.get_type_hints(function, names_in(sys.modules[function.__module__])).get("return", Any)


class Answers:
    """Schemas of results. Records are told once, in ``records``, by their names."""

    def __init__(self) -> None:
        self.records: dict[str, Schema] = {}

    def of(self, annotation: Any) -> Schema:
        """What JSON has for it; what is not known is anything."""
        if isinstance(annotation, typing.TypeVar | str) or annotation is Any:
            return ANYTHING
        if annotation in PLAIN:
            return PLAIN[annotation]
        if isinstance(annotation, typing.NewType):
            return self.of(annotation.__supertype__)
        origin, parts = typing.get_origin(annotation), typing.get_args(annotation)
        if origin is typing.Literal:
            return {"enum": list(parts)}
        if origin is typing.Annotated:
            return self.of(parts[0])
        if origin in (typing.Union, types.UnionType):
            return {"anyOf": [self.of(part) for part in parts]}
        if origin is not None:
            return self._made_of(origin, parts)
        if isinstance(annotation, type) and issubclass(annotation, Enum):
            return {"enum": [each.value for each in annotation]}
        if is_dataclass(annotation):
            return self._record(annotation)
        return ANYTHING

    def _made_of(self, origin: Any, parts: tuple[Any, ...]) -> Schema:
        if not isinstance(origin, type):
            return ANYTHING
        if issubclass(origin, np.ndarray):
            return PLAIN[np.ndarray]
        if issubclass(origin, collections.abc.Mapping):
            return CARDS if parts[1] is CardView else {"type": "object", "additionalProperties": self.of(parts[1])}
        if issubclass(origin, tuple) and Ellipsis not in parts:
            several = [self.of(part) for part in parts]
            one = several[0] if all(each == several[0] for each in several) else {"anyOf": several}
            return {**list_of(one), "minItems": len(parts), "maxItems": len(parts)}
        if issubclass(origin, collections.abc.Iterable):
            return list_of(self.of(parts[0]))
        return ANYTHING

    def _record(self, kind: Any) -> Schema:
        name = kind.__name__
        if name not in self.records:
            self.records[name] = ANYTHING  # one may hold others of itself
            known = typing.get_type_hints(kind, names_in(sys.modules[kind.__module__]))
            entries = {f.name: self.of(known.get(f.name, Any)) for f in fields(kind) if f.name not in LEFT_OUT}
            self.records[name] = record(**entries)
        return {"$ref": f"#/components/schemas/{name}"}
