"""What a parameter may be, from its annotation: as a JSON Schema (draft 7, which OpenRPC takes), and how a value that
came as JSON becomes it."""

from __future__ import annotations

import collections.abc
import types
import typing
from collections.abc import Callable
from dataclasses import MISSING, dataclass, fields, is_dataclass
from pathlib import Path
from typing import Any

from pendel.core.errors import shorten
from pendel.remote.messages import WrongCall


@dataclass(frozen=True)
class Shape:
    """``take`` gives the value or raises `ValueError` with what belongs there instead."""

    schema: dict[str, Any]
    take: Callable[[Any], Any]
    words: str


def simple(kind: str, words: str, *types_: type) -> Shape:
    def take(value: Any) -> Any:
        if not isinstance(value, types_) or (isinstance(value, bool) and bool not in types_):
            raise ValueError(words)
        return value

    return Shape({"type": kind}, take, words)


TEXT = simple("string", "a text", str)
NUMBER = simple("number", "a number", int, float)
PLAIN = {
    str: TEXT,
    float: NUMBER,
    int: simple("integer", "a whole number", int),
    bool: simple("boolean", "true or false", bool),
    types.NoneType: simple("null", "null", types.NoneType),
}
ANYTHING = Shape({}, lambda value: value, "anything")


def shape_of(annotation: Any) -> Shape:
    """Raises `TypeError` for what no caller from elsewhere can give."""
    if annotation in PLAIN:
        return PLAIN[annotation]
    if annotation is Any:
        return ANYTHING
    if annotation is Path:
        return Shape(TEXT.schema, lambda value: Path(TEXT.take(value)), "a text")
    if is_dataclass(annotation):
        return record_of(annotation)
    origin, parts = typing.get_origin(annotation), typing.get_args(annotation)
    if origin in (typing.Union, types.UnionType):
        return one_of([shape_of(part) for part in parts])
    if origin in (collections.abc.Mapping, dict):
        return group_of(shape_of(parts[1]))
    if origin is tuple and Ellipsis not in parts:
        return row_of([shape_of(part) for part in parts])
    if origin in (tuple, list, collections.abc.Sequence, collections.abc.Iterable):
        return list_of(shape_of(parts[0]))
    raise TypeError(f"{annotation} has no form in JSON")


def one_of(shapes: list[Shape]) -> Shape:
    words = " or ".join(shape.words for shape in shapes)

    def take(value: Any) -> Any:
        for shape in shapes:
            try:
                return shape.take(value)
            except ValueError:
                continue
        raise ValueError(words)

    return Shape({"anyOf": [shape.schema for shape in shapes]}, take, words)


def list_of(item: Shape) -> Shape:
    words = f"a list, each {item.words}"

    def take(value: Any) -> Any:
        if not isinstance(value, list):
            raise ValueError(words)
        return [item.take(each) for each in value]

    return Shape({"type": "array", "items": item.schema}, take, words)


def row_of(items: list[Shape]) -> Shape:
    words = "a list of " + ", ".join(item.words for item in items)

    def take(value: Any) -> Any:
        if not isinstance(value, list) or len(value) != len(items):
            raise ValueError(words)
        return tuple(item.take(each) for item, each in zip(items, value))

    # What stands at which place is said in the words: drafts of JSON Schema differ in how they say it.
    schemas = [item.schema for k, item in enumerate(items) if item.schema not in [i.schema for i in items[:k]]]
    one = schemas[0] if len(schemas) == 1 else {"anyOf": schemas}
    length = {"minItems": len(items), "maxItems": len(items)}
    return Shape({"type": "array", "items": one, **length, "description": words}, take, words)


def group_of(item: Shape) -> Shape:
    words = f"an object whose entries are each {item.words}"

    def take(value: Any) -> Any:
        if not isinstance(value, dict):
            raise ValueError(words)
        return {key: item.take(each) for key, each in value.items()}

    return Shape({"type": "object", "additionalProperties": item.schema}, take, words)


def record_of(record: Any) -> Shape:
    """A record of Pendel's own, by the names of its fields."""
    known = typing.get_type_hints(record)
    shapes = {each.name: shape_of(known[each.name]) for each in fields(record)}
    needed = [f.name for f in fields(record) if f.default is MISSING and f.default_factory is MISSING]
    words = f"an object with {', '.join(shapes)}"

    def take(value: Any) -> Any:
        if not isinstance(value, dict) or value.keys() - shapes.keys() or set(needed) - value.keys():
            raise ValueError(words)
        given = {name: shapes[name].take(each) for name, each in value.items()}
        return record(**{n: tuple(v) if isinstance(v, list) else v for n, v in given.items()})

    schema = {"type": "object", "properties": {n: s.schema for n, s in shapes.items()}, "additionalProperties": False}
    return Shape(schema | ({"required": needed} if needed else {}), take, words)


def taken(shape: Shape, name: str, value: Any) -> Any:
    """Raises `WrongCall`, which names the parameter and what belongs there."""
    try:
        return shape.take(value)
    except ValueError as problem:
        raise WrongCall(f"“{name}” is {shorten(repr(value), 40)}; it must be {problem}.") from problem
