"""What can be called from elsewhere: every public method of `pendel.Drive`, `pendel.Run` and a card, found by what they
declare. What cannot is named in `NOT_REMOTE`, with the reason; a test holds that there is nothing else."""

from __future__ import annotations

import base64
import inspect
import typing
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from pendel.core.drive.document import Drive as Document
from pendel.core.files.writing import write_atomically
from pendel.interface.api import Drive
from pendel.interface.card_view import CardView
from pendel.interface.drive_edits import EditedDrive
from pendel.interface.run_view import Run
from pendel.remote.here import HereDrive
from pendel.remote.messages import NO_METHOD, Letters, WrongCall
from pendel.remote.shapes import TEXT, Shape, list_of, one_of, shape_of, taken

NOT_REMOTE = {
    "drive.do": "takes a command as an object; `drive.set`, `drive.add` and others do the same",
    "drive.document": "is the document itself; `drive.text` gives it as its file would have it",
    "drive.sheet": "is drawn by a program of its own, which a confined process cannot start",
    "drive.live": "lasts from call to call in a process of its own",
    "drive.board": "lasts from call to call in a process of its own",
    "drive.card": "gives an object; `card.values` and others ask for one",
    "drive.together": "is a block of Python; each call is a step of undo",
    "drive.carry_envelope": "takes an object; `pendel envelope --keep` writes such a drive",
    "drive.add_envelope": "takes an object; `drive.add` takes the values that `drive.envelope` gives",
    "drive.unsent": "belongs to the copy that a program works on",
    "drive.send_changes": "belongs to the copy that a program works on",
    "drive.generation": "belongs to the copy that a program works on",
    "drive.in_detail": "gives a drive of its own; `pendel.connect()` has it",
    "drive.path": "belongs to the copy that a program works on",
    "drive.keep": "is `here.keep` of a program that works on a copy",
    "drive.close": "belongs to the copy that a program works on",
    "drive.picture": "takes a figure of Matplotlib",
    "run.plot": "gives a figure of Matplotlib; `run.trace` gives what is in it",
    "run.to_pandas": "gives an object; `run.trace` gives what is in it",
    "run.to_xarray": "gives an object; `run.trace` gives what is in it",
    "run.kept": "is the record itself; `run.trace` gives what is in it",
    "run.get": "is `run.trace`",
    "run.items": "is `run.trace` of `run.keys`",
    "run.values": "is `run.trace` of `run.keys`",
    "card.key": "is how the card is called already",
}
SIGNAL = "a signal of the run"
LOOKS = ("drive.find", "drive.get")
"""What reads the drive as it is: it changes nothing and runs nothing."""


@dataclass(frozen=True)
class Parameter:
    """``rest`` takes all that is given by place, or by further names."""

    name: str
    shape: Shape
    required: bool
    default: Any = None
    rest: str = ""


@dataclass(frozen=True)
class Method:
    """``does`` gets the object and the parameters by name. ``on`` is “drive”, “run” or “card”."""

    name: str
    on: str
    does: Callable[..., Any]
    parameters: tuple[Parameter, ...]
    text: str
    """Its docstring without examples."""
    changes: bool
    runs: bool
    """Whether what was made from the drive runs in it."""

    @property
    def sentence(self) -> str:
        return self.text.split("\n\n")[0].replace("\n", " ")

    def given(self, params: dict[str, Any] | list[Any]) -> tuple[list[Any], dict[str, Any]]:
        """Arguments of a call. Raises `WrongCall`."""
        rest = {p.rest: p for p in self.parameters if p.rest}
        plain = [p for p in self.parameters if not p.rest]
        if isinstance(params, list):
            if len(params) > len(plain) and "places" not in rest:
                raise WrongCall(f"{self.name} takes at most {len(plain)} parameters, not {len(params)}.")
            named: dict[str, Any] = {p.name: value for p, value in zip(plain, params)}
            if "places" in rest:
                named[rest["places"].name] = params[len(plain) :]
        else:
            named = dict(params)
        places: list[Any] = []
        if "places" in rest:
            one = rest["places"]
            places = taken(list_of(one.shape), one.name, named.pop(one.name, []))
        names: dict[str, Any] = {}
        if "names" in rest and isinstance(named.get(rest["names"].name), dict):
            more = named.pop(rest["names"].name)  # as one object, which languages without further names can say
            if both := more.keys() & named.keys():
                raise WrongCall(f"{self.name} is given “{sorted(both)[0][:40]}” twice.")
            named |= more
        for parameter in plain:
            if parameter.name in named:
                names[parameter.name] = taken(parameter.shape, parameter.name, named.pop(parameter.name))
            elif parameter.required:
                raise WrongCall(f"{self.name} needs “{parameter.name}”.")
        if named and "names" not in rest:
            known = ", ".join(p.name for p in self.parameters) or "none"
            raise WrongCall(f"{self.name} has no parameter “{next(iter(named))[:40]}”. It has: {known}.")
        for name, value in named.items():
            names[name] = taken(rest["names"].shape, name, value)
        return places, names


def plain_text(docstring: str | None) -> str:
    """A docstring without its examples."""
    lines = inspect.cleandoc(docstring or "").split("\n")
    first = next((k for k, line in enumerate(lines) if line.startswith(">>>")), len(lines))
    text = "\n".join(lines[:first]).strip()
    return text.split("\n\nExample\n")[0].strip()


def annotation_of(function: Callable[..., Any], text: Any) -> Any:
    """What an annotation names where the function stands."""
    if not isinstance(text, str):
        return text
    known = {**vars(typing), **function.__globals__, "ArrayLike": list[float] | float, "Run": str}
    return eval(text, known)  # noqa: S307  of our own source


REST: dict[Any, str] = {inspect.Parameter.VAR_POSITIONAL: "places", inspect.Parameter.VAR_KEYWORD: "names"}


def parameters_of(function: Callable[..., Any]) -> tuple[Parameter, ...]:
    found = []
    for name, parameter in list(inspect.signature(function).parameters.items())[1:]:
        shape = shape_of(annotation_of(function, parameter.annotation))
        rest = REST.get(parameter.kind, "")
        needed = parameter.default is parameter.empty and not rest
        default = None if needed or rest else parameter.default
        found.append(Parameter(name, shape, needed, default, rest))
    return tuple(found)


OBJECTS = (("drive", Drive), ("drive", HereDrive), ("run", Run), ("card", CardView))


def public(owner: type) -> Iterator[tuple[str, Any]]:
    for name in dir(owner):
        if not name.startswith("_"):
            yield name, inspect.getattr_static(owner, name)


@lru_cache(maxsize=1)
def methods() -> dict[str, Method]:
    """All of them, by name."""
    found: dict[str, Method] = {}
    for on, owner in OBJECTS:
        for name, each in public(owner):
            full = f"{on}.{name}"
            if full in NOT_REMOTE or full in found:
                continue
            if isinstance(each, property):
                assert each.fget is not None
                found[full] = Method(full, on, each.fget, (), plain_text(each.__doc__), False, False)
                continue
            if not inspect.isfunction(each):
                continue
            edits = hasattr(EditedDrive, name) or getattr(each, "changes_drive", False)
            runs = on == "drive" and not hasattr(EditedDrive, name) and owner is Drive and full not in LOOKS
            changes = on == "drive" and edits and full not in LOOKS
            text = plain_text(each.__doc__)
            found[full] = Method(full, on, each, parameters_of(each), text, changes, runs)
    for extra in extras():
        found[extra.name] = extra
    return dict(sorted(found.items()))


def extras() -> Iterator[Method]:
    """What Python says by brackets, or an object by itself."""

    def trace(run: Run, signal: str, form: str = "numbers", path: str = "") -> Any:
        return trace_as(run, signal, form, path)

    def text(drive: Drive) -> str:
        from pendel.core.drive.file import to_text

        return to_text(drive.document)

    def load(drive: Drive, text: str) -> None:
        from pendel.core.drive import commands, file

        new: Document = file.from_text(text, "The text")
        drive.do(commands.as_in(drive.document, new, "Take another drive", whole=True))

    def set_card(card: CardView, name: str, value: str | float) -> None:
        card[name] = value

    yield Method(
        "run.trace",
        "run",
        trace,
        (
            Parameter("signal", TEXT, True),
            Parameter("form", TEXT, False, "numbers"),
            Parameter("path", TEXT, False, ""),
        ),
        "A signal's times (s) and values (SI). ``form`` is ``numbers``, ``arrow`` for an Arrow IPC stream as a text of "
        "base 64, or with ``path`` in that file, which is five times as fast for a million points, or ``file`` for the "
        "file ``path``, by its ending as `Run.save` has it: .h5, .csv, .mat or .mf4.",
        False,
        False,
    )
    yield Method("drive.text", "drive", text, (), "The drive as its file would have it.", False, False)
    yield Method(
        "drive.load",
        "drive",
        load,
        (Parameter("text", TEXT, True),),
        "Make of the drive what the text of a ``.pendel`` file says, as one step.",
        True,
        False,
    )
    yield Method(
        "card.set",
        "card",
        set_card,
        (Parameter("name", TEXT, True), Parameter("value", one_of([TEXT, shape_of(float)]), True)),
        "Set a value of the card, as text with a unit or a number in the value's own unit.",
        True,
        False,
    )


def trace_as(run: Run, signal: str, form: str, path: str = "") -> Any:
    """A trace for another process. Raises `WrongCall`, and `FileProblem` where its file cannot be written."""
    trace = run[signal]
    facts = {"signal": signal, "label": trace.label, "unit": trace.unit, "sampled": bool(trace.sampled)}
    if form == "numbers":
        return {**facts, "t": trace.t, "y": trace.y}
    if form == "file":
        if not path:
            raise WrongCall("A trace in a file needs “path”, such as current.h5.")
        run.save(path, [signal])
        return {**facts, "path": str(Path(path).resolve())}
    if form != "arrow":
        raise WrongCall(f"“form” is “{form[:20]}”; it must be numbers, arrow or file.")
    try:
        import pyarrow
    except ImportError as problem:
        raise WrongCall("Arrow needs pyarrow beside Pendel: pip install pyarrow. Or take form=numbers.") from problem
    table = pyarrow.table({"t": trace.t, "y": trace.y}).replace_schema_metadata({"signal": signal, "unit": trace.unit})
    sink = pyarrow.BufferOutputStream()
    with pyarrow.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    if path:
        write_atomically(Path(path), sink.getvalue().to_pybytes())
        return {**facts, "path": str(Path(path).resolve())}
    return {**facts, "arrow": Letters(base64.b64encode(sink.getvalue()).decode("ascii"))}


def method_called(name: str) -> Method:
    """Raises `WrongCall` with the reason where there is none."""
    if name in methods():
        return methods()[name]
    if name in NOT_REMOTE:
        raise WrongCall(f"{name} cannot be called from elsewhere: it {NOT_REMOTE[name]}.", NO_METHOD)
    sentence = f"There is no method “{name[:60]}”. “rpc.discover” describes all that there are."
    raise WrongCall(sentence, NO_METHOD)
