"""Results of verbs on the terminal: as text with columns apart by tabs, or as JSON."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Mapping, Sequence
from dataclasses import fields, is_dataclass
from functools import singledispatch
from pathlib import Path
from typing import Any

import numpy as np

from pendel.core.verbs.asking import FindingReport, LoopReport, SignalReport
from pendel.core.verbs.running import Measured, Ran


def as_json(result: Any) -> str:
    """A result as one JSON document, in plain figures; what is not a number is null (RFC 8259 has no NaN)."""
    return json.dumps(plain(result), ensure_ascii=False, indent=2)


def plain(thing: Any) -> Any:
    """The same of lists, dictionaries, texts and numbers alone."""
    if isinstance(thing, Ran):
        traces = {key: thing.run.trace(key) for key in thing.signals}
        return {
            key: {"unit": t.unit, "time": plain(t.t.tolist()), "values": plain(t.y_in().tolist())}
            for key, t in traces.items()
        }
    if isinstance(thing, np.generic):
        thing = thing.item()
    if isinstance(thing, float):
        return thing if math.isfinite(thing) else None
    if isinstance(thing, Path):
        return str(thing)
    if is_dataclass(thing) and not isinstance(thing, type):
        return {f.name: plain(getattr(thing, f.name)) for f in fields(thing) if f.name != "run"}
    if isinstance(thing, Mapping):
        return {str(k): plain(v) for k, v in thing.items()}
    if isinstance(thing, Sequence) and not isinstance(thing, str):
        return [plain(each) for each in thing]
    return thing


@singledispatch
def show(result: Any, verb: str) -> None:
    """Print a result as text."""
    raise TypeError(f"no way to print {type(result).__name__}")


@show.register
def _(result: Ran, verb: str) -> None:
    from pendel.core.formats.traces import columns
    from pendel.core.formats.traces_as.csv_text import write_to

    write_to(columns([result.run], result.signals), sys.stdout)


@show.register
def _(result: Mapping, verb: str) -> None:
    for name, reason in result.items():
        print(f"left as it is: {name}: {reason}", file=sys.stderr)


@show.register
def _(result: list, verb: str) -> None:
    nothing = {"check": "no findings", "signals": "no signals", "loops": "no closed loop"}
    for each in result:
        print(line_of(each))
    if not result:
        print(nothing[verb])


@show.register
def _(result: Measured, verb: str) -> None:
    titles = list(result.signals[0].values) if result.signals else []
    print("signal", "unit", *titles, sep="\t")
    for each in result.signals:
        print(each.signal, each.unit, *(f"{x:.6g}" for x in each.values.values()), sep="\t")
    if result.responses:
        print("\nresponse", "to", *result.responses[0].values, sep="\t")
    for answer in result.responses:
        print(answer.signal, answer.setpoint, *answer.values.values(), sep="\t")
    print("\nlost by", "mean power W", "energy J", sep="\t")
    for row in (*result.lost, *result.sums):
        print(row.what, f"{row.power:.6g}", f"{row.energy:.6g}", sep="\t")


@singledispatch
def line_of(each: Any) -> str:
    return str(each)


@line_of.register
def _(each: FindingReport) -> str:
    return f"{each.severity}: {each.where}: {each.sentence}"


@line_of.register
def _(each: SignalReport) -> str:
    return "\t".join((each.key, each.unit, f"{each.card}: {each.label}"))


@line_of.register
def _(each: LoopReport) -> str:
    if each.problem:
        return "\t".join((each.name, each.regulator, each.problem))
    figures = (
        f"crossover {each.crossover:.4g} Hz",
        f"phase margin {each.phase_margin:.3g}°",
        f"gain margin {each.gain_margin:.3g} dB",
        f"Ms {each.ms:.3g}",
        "stable" if each.stable else "unstable",
    )
    return "\t".join((each.name, each.regulator, *figures))
