"""What a process that may run C of a user can answer: plain numbers, texts, arrays, and records of known types, as a
JSON text and raw bytes. Nothing in an answer names code: a record has the number of its type, and each field must be of
what the type declares."""

from __future__ import annotations

import dataclasses
import json
import math
import struct
import types
import typing
from collections.abc import Mapping, Sequence
from enum import Enum
from functools import lru_cache
from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np

RECORDS = (
    "pendel.core.processes.worker:RunFinished",
    "pendel.core.processes.worker:RunFailed",
    "pendel.core.processes.worker:Answered",
    "pendel.core.firmware.ship:Checked",
    "pendel.core.firmware.ship:Compared",
    "pendel.core.firmware.processors:OnProcessor",
    "pendel.core.firmware.propose:ProposedFormats",
    "pendel.core.firmware.propose:Narrowed",
    "pendel.core.loops.judging.judgement:Judgement",
    "pendel.core.loops.judging.judgement:LoopRecord",
    "pendel.core.loops.judging.judgement:ProposedGains",
    "pendel.core.loops.models.points:WorkingPoint",
    "pendel.core.loops.models.linear_models:LinearModel",
    "pendel.core.loops.models.linear:LinearPlant",
    "pendel.core.loops.models.linear_models:LiftedModel",
    "pendel.core.loops.regulators.measured:Measured",
    "pendel.core.loops.regulators.measured:MeasuredPlant",
    "pendel.core.loops.models.turning:MovingPlant",
    "pendel.core.loops.models.turning:Rotation",
    "pendel.core.loops.mechanics.calming:By",
    "pendel.core.loops.mechanics.calming:Calming",
    "pendel.core.loops.judging.looked_at:LookedAt",
    "pendel.core.loops.mechanics.modes:Body",
    "pendel.core.loops.mechanics.modes:Chain",
    "pendel.core.loops.mechanics.modes:Mechanics",
    "pendel.core.loops.mechanics.modes:Mode",
    "pendel.core.loops.mechanics.modes:Spring",
    "pendel.core.loops.models.margins:Margins",
    "pendel.core.loops.models.realisation:LeftOut",
    "pendel.core.loops.models.realisation:Minimal",
    "pendel.core.loops.models.realisation:Pole",
    "pendel.core.loops.models.sweep:Swept",
    "pendel.core.loops.models.sweep:SweptPoint",
    "pendel.core.loops.tuning.tolerances:Sample",
    "pendel.core.loops.tuning.tolerances:Tolerated",
    "pendel.core.series.rows:Row",
    "pendel.core.heat.duty:Duty",
    "pendel.core.heat.duty:Stretch",
    "pendel.core.heat.held:Held",
    "pendel.core.heat.held:HeldCurve",
    "pendel.core.heat.over:HeatOver",
    "pendel.core.heat.over:Use",
    "pendel.core.envelope.fitted:Made",
    "pendel.core.envelope.points:Point",
    "pendel.core.envelope.report:EnvelopeReport",
    "pendel.core.loops.models.transfer:Ends",
    "pendel.core.loops.models.transfer:Transfer",
    "pendel.core.loops.tuning.tuning:LoopAnalysis",
    "pendel.core.controllers.symbolic:LinearBlock",
    "pendel.core.runs.record.measures:StepMeasures",
    "pendel.core.runs.found.flows:EnergyFlows",
    "pendel.core.runs.found.flows:Flow",
    "pendel.core.runs.found.flows:NodeEnergy",
    "pendel.core.runs.found.flows:SignalRange",
    "pendel.core.runs.found.trip_figures:TripFigures",
    "pendel.core.trips.best:BestSplit",
)
"""What an answer may be made of besides."""
ARRAYS = ("<f8", "<f4", "<c16", "<i8", "<i4", "<i2", "|i1", "<u8", "<u4", "<u2", "|u1", "|b1")
HEAD = struct.Struct("<Q")
LARGEST, LARGEST_HEAD = 2 << 30, 16 << 20
"""Bytes of an answer, and of its text, which takes longer to read than arrays."""
DEEPEST = 60


class NoAnswer(ValueError):
    """What came is none."""


NUMBERS = {name: number for number, name in enumerate(RECORDS)}


@lru_cache(maxsize=len(RECORDS))
def record_type(number: int) -> type:
    module, _, name = RECORDS[number].partition(":")
    kind = getattr(import_module(module), name)
    assert isinstance(kind, type)
    return kind


@lru_cache(maxsize=len(RECORDS))
def declared(number: int) -> dict[str, Any]:
    """Fields of a record, in their order, and what each may be."""
    kind = record_type(number)
    hints = typing.get_type_hints(kind)
    return {each.name: hints[each.name] for each in dataclasses.fields(kind)}


# writing ----------------------------------------------------------------------------------------------------------


def encoded(answer: Any) -> bytes:
    """Raises `TypeError` for what no answer can hold."""
    parts: list[bytes] = []
    head = json.dumps(_plain(answer, parts)).encode()
    return b"".join([HEAD.pack(len(head)), head, *parts])


def _plain(value: Any, parts: list[bytes]) -> Any:
    match value:
        case Enum():
            return ["e", NUMBERS[f"{type(value).__module__}:{type(value).__qualname__}"], value.value]
        case None | bool() | str():
            return value
        case np.generic():
            return _plain(value.item(), parts)
        case int() | float():
            return value
        case complex():
            return ["c", value.real, value.imag]
        case Path():
            return ["p", str(value)]
        case tuple():
            return ["t", *(_plain(each, parts) for each in value)]
        case list():
            return ["l", *(_plain(each, parts) for each in value)]
        case Mapping():
            return ["d", *([_plain(k, parts), _plain(v, parts)] for k, v in value.items())]
        case np.ndarray():
            kept = np.ascontiguousarray(value)
            kept = kept if kept.dtype.byteorder != ">" else kept.astype(kept.dtype.newbyteorder("<"))
            if kept.dtype.str not in ARRAYS:
                raise TypeError(f"an answer holds no array of {kept.dtype}")
            parts.append(kept.tobytes())
            return ["a", kept.dtype.str, list(value.shape)]
    kind = type(value)
    number = NUMBERS.get(f"{kind.__module__}:{kind.__qualname__}")
    if number is None:
        raise TypeError(f"an answer holds no {kind.__name__}")
    return ["r", number, *(_plain(getattr(value, name), parts) for name in declared(number))]


# reading ----------------------------------------------------------------------------------------------------------


def decoded(data: bytes) -> Any:
    """Raises `NoAnswer`."""
    try:
        (size,) = HEAD.unpack_from(data)
        if size > LARGEST_HEAD:
            raise NoAnswer("its text is too long")
        reader = _Reader(memoryview(data)[HEAD.size + size :])
        answer = reader.value(json.loads(data[HEAD.size : HEAD.size + size]), 0)
        if len(reader.left):
            raise NoAnswer("there is more than it says")
        return answer
    except NoAnswer:
        raise
    except (ValueError, TypeError, IndexError, KeyError, struct.error, RecursionError, OverflowError) as problem:
        raise NoAnswer(str(problem)) from problem


class _Reader:
    def __init__(self, left: memoryview):
        self.left = left
        """Bytes of arrays that were not read yet."""

    def value(self, plain: Any, depth: int) -> Any:
        if depth > DEEPEST:
            raise NoAnswer("it is nested too deeply")
        if plain is None or isinstance(plain, bool | int | float | str):
            return plain
        if not isinstance(plain, list) or not plain or not isinstance(plain[0], str):
            raise NoAnswer("a value of no kind")
        tag, *rest = plain
        match tag:
            case "c":
                real, imaginary = rest
                return complex(float(real), float(imaginary))
            case "p":
                (text,) = rest
                return Path(_text(text))
            case "t":
                return tuple(self.value(each, depth + 1) for each in rest)
            case "l":
                return [self.value(each, depth + 1) for each in rest]
            case "d":
                return {self.value(k, depth + 1): self.value(v, depth + 1) for k, v in rest}
            case "a":
                return self.array(*rest)
            case "e":
                number, chosen = rest
                if type(number) is not int or not 0 <= number < len(RECORDS) or isinstance(chosen, list):
                    raise NoAnswer("a word of no kind")
                kind = record_type(number)
                if not issubclass(kind, Enum):
                    raise NoAnswer("a word of no kind")
                return kind(chosen)
            case "r":
                return self.record(rest[0], rest[1:], depth)
        raise NoAnswer("a value of no kind")

    def array(self, dtype: str, shape: Sequence[int]) -> np.ndarray:
        if dtype not in ARRAYS or not all(type(n) is int and n >= 0 for n in shape) or len(shape) > 8:
            raise NoAnswer("an array of no kind")
        kind = np.dtype(dtype)
        size = math.prod(shape) * kind.itemsize
        if size > len(self.left):
            raise NoAnswer("an array of more than came")
        part, self.left = self.left[:size], self.left[size:]
        return np.frombuffer(part, kind).reshape(shape).copy()

    def record(self, number: int, values: Sequence[Any], depth: int) -> Any:
        if type(number) is not int or not 0 <= number < len(RECORDS):
            raise NoAnswer("a record of no kind")
        kind = record_type(number)
        if not dataclasses.is_dataclass(kind):
            raise NoAnswer("a record of no kind")
        fields = declared(number)
        if len(values) != len(fields):
            raise NoAnswer(f"{kind.__name__} with other fields")
        made: Any = object.__new__(kind)
        for (name, hint), plain in zip(fields.items(), values):
            value = self.value(plain, depth + 1)
            if not fits(value, hint):
                raise NoAnswer(f"{kind.__name__}.{name} is another kind of value")
            object.__setattr__(made, name, value)
        return made


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise NoAnswer("no text")
    return value


def fits(value: Any, hint: Any) -> bool:
    """Whether a value is what a field is declared to hold; a whole number is a number."""
    origin, of = typing.get_origin(hint), typing.get_args(hint)
    if hint is Any:
        return True
    if origin in (typing.Union, types.UnionType):
        return any(fits(value, each) for each in of)
    if hint is None or hint is type(None):
        return value is None
    if origin is not None and isinstance(origin, type) and issubclass(origin, np.ndarray):
        return isinstance(value, np.ndarray)
    if origin is tuple:
        if not isinstance(value, tuple):
            return False
        if len(of) == 2 and of[1] is Ellipsis:
            return all(fits(each, of[0]) for each in value)
        return len(value) == len(of) and all(map(fits, value, of))
    if origin is not None and isinstance(origin, type) and issubclass(origin, Mapping):
        return isinstance(value, dict) and all(fits(k, of[0]) and fits(v, of[1]) for k, v in value.items())
    if origin is not None and isinstance(origin, type) and issubclass(origin, Sequence):
        return isinstance(value, list | tuple) and all(fits(each, of[0]) for each in value)
    if hint is float:
        return isinstance(value, int | float) and not isinstance(value, bool)
    if hint is complex:
        return isinstance(value, int | float | complex) and not isinstance(value, bool)
    if hint is int:
        return isinstance(value, int) and not isinstance(value, bool)
    return isinstance(hint, type) and isinstance(value, hint)
