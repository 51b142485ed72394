"""Calls between processes as JSON-RPC 2.0 (https://www.jsonrpc.org/specification), one message a line.

Numbers that are none (NaN, infinities) are no JSON (RFC 8259); what has no value is null."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pendel.core.errors import DriveHasFindings, DriveProblem, PendelError, shorten

PARSE_ERROR, INVALID_REQUEST, NO_METHOD, INVALID_PARAMETERS, INTERNAL = -32700, -32600, -32601, -32602, -32603
"""Of the specification, section 5.1."""
PROBLEM, FINDINGS = -32000, -32001
"""Ours: something went wrong, with a sentence; the drive has faults, which are in ``data``."""
LONGEST_BATCH = 1000
"""Calls in one batch."""


class RemoteProblem(DriveProblem):
    """What was asked of another process went wrong there."""

    def __init__(self, sentence: str, code: int = PROBLEM):
        super().__init__(sentence)
        self.code = code


class WrongCall(PendelError):
    """A call that does not fit the method."""

    def __init__(self, sentence: str, code: int = INVALID_PARAMETERS):
        super().__init__(sentence)
        self.code = code


@dataclass(frozen=True)
class Call:
    """``params`` by name or by place. ``key`` is what the answer is to carry; a notification has none."""

    method: str
    params: dict[str, Any] | list[Any]
    key: str | int | float | None = None
    notification: bool = False


def _refuse_constant(name: str) -> Any:
    raise ValueError(f"{name} is no JSON")


def parsed(text: str | bytes) -> Any:
    """Raises `WrongCall`."""
    try:
        return json.loads(text, parse_constant=_refuse_constant)
    except (ValueError, RecursionError) as problem:
        raise WrongCall(f"This is no JSON: {shorten(str(problem), 80)}.", PARSE_ERROR) from problem


def call_of(message: Any) -> Call:
    """Raises `WrongCall`."""
    if not isinstance(message, dict) or message.get("jsonrpc") != "2.0" or not isinstance(message.get("method"), str):
        raise WrongCall("This is no request of JSON-RPC 2.0.", INVALID_REQUEST)
    params, key = message.get("params", {}), message.get("id")
    if not isinstance(params, dict | list):
        raise WrongCall("Parameters are a list or an object.", INVALID_REQUEST)
    if isinstance(key, bool) or not isinstance(key, str | int | float | None):
        raise WrongCall("An id is a text or a number.", INVALID_REQUEST)
    return Call(message["method"], params, key, "id" not in message)


def key_of(message: Any) -> str | int | float | None:
    """The id of a message that may be wrong otherwise; null where it cannot be determined (section 5)."""
    key = message.get("id") if isinstance(message, dict) else None
    return key if isinstance(key, str | int | float) and not isinstance(key, bool) else None


def failure(key: str | int | float | None, problem: Exception) -> dict[str, Any]:
    """The answer to a call that failed."""
    if isinstance(problem, DriveHasFindings):
        places = [{"card": f.card, "field": f.field, "sentence": f.sentence} for f in problem.findings]
        error: dict[str, Any] = {"code": FINDINGS, "message": str(problem), "data": {"findings": places}}
    elif isinstance(problem, WrongCall | RemoteProblem):
        error = {"code": problem.code, "message": str(problem)}
    elif isinstance(problem, PendelError):
        error = {"code": PROBLEM, "message": str(problem), "data": {"type": type(problem).__name__}}
    else:
        error = {"code": INTERNAL, "message": f"This failed inside Pendel: {shorten(str(problem), 200)}."}
    return {"jsonrpc": "2.0", "error": error, "id": key}


def one_answer(message: Any, do: Callable[[Call], Any]) -> dict[str, Any] | None:
    """The answer to one message; none to a notification."""
    try:
        call = call_of(message)
    except WrongCall as problem:
        return failure(key_of(message), problem)
    try:
        answer: dict[str, Any] = {"jsonrpc": "2.0", "result": do(call), "id": call.key}
    except Exception as problem:  # noqa: BLE001  the call's boundary
        answer = failure(call.key, problem)
    return None if call.notification else answer


def answer_to(text: str | bytes, do: Callable[[Call], Any]) -> str:
    """The answer to a text with one call or a batch of them, as text without line feeds; empty where none is due."""
    try:
        message = parsed(text)
    except WrongCall as problem:
        return as_line(failure(None, problem))
    if not isinstance(message, list):
        answer = one_answer(message, do)
        return as_line(answer) if answer is not None else ""
    if not message or len(message) > LONGEST_BATCH:
        words = f"A batch has 1 to {LONGEST_BATCH} calls; this one has {len(message)}."
        return as_line(failure(None, WrongCall(words, INVALID_REQUEST)))
    answers = [answer for each in message if (answer := one_answer(each, do)) is not None]
    return as_line(answers) if answers else ""


class Letters(str):
    """A long text of base 64, so of letters, figures, +, / and = alone: JSON takes it as it stands."""


def as_line(message: Any) -> str:
    """Raises `ValueError` where something in it is no JSON."""
    texts: list[str] = []
    mark = secrets.token_hex(8)

    def put_aside(thing: Any) -> Any:
        if isinstance(thing, Letters):
            texts.append(thing)
            return mark
        if isinstance(thing, dict) and any(isinstance(each, dict | Letters) for each in thing.values()):
            return {name: put_aside(each) for name, each in thing.items()}
        return thing

    line = json.dumps(put_aside(message), ensure_ascii=True, allow_nan=False, separators=(",", ":"))
    if not texts:
        return line
    parts = line.split(mark)  # looking through tens of megabytes for what is to be escaped takes longer than the rest
    return "".join(part for pair in zip(parts, [*texts, ""]) for part in pair)


def request(method: str, params: dict[str, Any], key: int) -> str:
    return as_line({"jsonrpc": "2.0", "method": method, "params": params, "id": key})


def result_of(text: str | bytes, key: int) -> Any:
    """What an answer carries. Raises `RemoteProblem` for an error, or what is no answer."""
    try:
        message = parsed(text)
    except WrongCall as problem:
        raise RemoteProblem(f"The answer cannot be read. {problem}") from problem
    if not isinstance(message, dict) or message.get("id") not in (key, None):
        raise RemoteProblem("This is no answer to what was asked.")
    if "error" in message:
        error = message["error"] if isinstance(message["error"], dict) else {}
        sentence, code = error.get("message"), error.get("code")
        raise RemoteProblem(str(sentence or "The call failed."), code if isinstance(code, int) else PROBLEM)
    return message.get("result")
