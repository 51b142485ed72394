"""All that can be called, as an OpenRPC document (https://spec.open-rpc.org, 1.3) and as a page of docs: made from the
table of methods."""

from __future__ import annotations

import inspect
from typing import Any

from pendel import __version__
from pendel.core.verbs.plain import plain
from pendel.remote.answers import Answers, given_by
from pendel.remote.desk import Desk
from pendel.remote.messages import FINDINGS, INVALID_PARAMETERS, PROBLEM
from pendel.remote.methods import NOT_REMOTE, Method, Parameter, methods

BESIDE: dict[str, tuple[str, dict[str, Any], tuple[str, ...]]] = {
    "ticket.begin": (
        "_begin",
        {"method": {"type": "string"}, "params": {"anyOf": [{"type": "object"}, {"type": "array", "items": {}}]}},
        ("method",),
    ),
    "ticket.look": ("_look", {"ticket": {"type": "string"}, "wait": {"type": "number"}}, ("ticket",)),
    "ticket.stop": ("_stop", {"ticket": {"type": "string"}}, ("ticket",)),
    "events.since": ("_since", {"cursor": {"type": "integer"}, "wait": {"type": "number"}}, ()),
    "runs.list": ("_list", {}, ()),
    "runs.forget": ("_forget", {"run": {"type": "string"}}, ("run",)),
}
"""What the desk has besides: where it is said, its parameters and those that are needed."""
SENTENCES = {
    "runs.list": "Runs that are at hand, by the names that calls take.",
    "runs.forget": "Let go of a run.",
}


def parameter_described(parameter: Parameter) -> dict[str, Any]:
    described: dict[str, Any] = {"name": parameter.name, "schema": parameter.shape.schema}
    if parameter.rest == "places":
        described["schema"] = {"type": "array", "items": parameter.shape.schema}
    elif parameter.rest == "names":
        described["schema"] = {"type": "object", "additionalProperties": parameter.shape.schema}
        described["description"] = "Also as further parameters by their names."
    if parameter.required:
        described["required"] = True
    elif not parameter.rest:
        described["schema"] = {**described["schema"], "default": plain(parameter.default)}
    return described


ERRORS = [
    {"code": PROBLEM, "message": "Something cannot be done; the message is a sentence that says what and why."},
    {"code": FINDINGS, "message": "The drive has faults, which are in data."},
    {"code": INVALID_PARAMETERS, "message": "A parameter is not what belongs there."},
]
"""Besides those of JSON-RPC itself."""


def method_described(method: Method, answers: Answers) -> dict[str, Any]:
    object_ = [{"name": method.on, "required": True, "schema": {"type": "string"}}] if method.on != "drive" else []
    parameters = [parameter_described(parameter) for parameter in method.parameters]
    parameters.sort(key=lambda each: not each.get("required", False))  # the specification has those needed first
    return {
        "name": method.name,
        "summary": method.sentence,
        "description": method.text,
        "params": [*object_, *parameters],
        "paramStructure": "by-name" if object_ or any(p.rest for p in method.parameters) else "either",
        "result": {"name": "result", "schema": answers.of(given_by(method.does))},
        "errors": ERRORS,
        "tags": [
            {"name": "changes the drive" if method.changes else "reads"},
            *([{"name": "runs code made from the drive"}] if method.runs else []),
        ],
    }


def document() -> dict[str, Any]:
    """The OpenRPC document of what this Pendel answers."""
    answers = Answers()
    described = [method_described(method, answers) for method in methods().values()]
    for name, (where, schemas, needed) in BESIDE.items():
        sentence = SENTENCES.get(name) or inspect.cleandoc(getattr(Desk, where).__doc__ or "")
        described.append(
            {
                "name": name,
                "summary": sentence.split("\n")[0],
                "params": [
                    {"name": each, "schema": schema, **({"required": True} if each in needed else {})}
                    for each, schema in schemas.items()
                ],
                "paramStructure": "by-name",
                "result": {"name": "result", "schema": {}},
            }
        )
    return {
        "openrpc": "1.3.2",
        "info": {"title": "A drive in Pendel", "version": __version__, "description": "See docs/remote.md."},
        "methods": described,
        "components": {"schemas": answers.records},
    }


def page() -> str:
    """The list in docs/remote.md."""
    lines = ["| call | parameters | |", "|---|---|---|"]
    for each in document()["methods"]:
        parameters = ", ".join(f"`{p['name']}`" + ("" if p.get("required") else "?") for p in each["params"])
        lines.append(f"| `{each['name']}` | {parameters} | {each['summary'].replace('|', '/')} |")
    lines += ["", "Not from elsewhere, and why:", ""]
    lines += [f"* `{name}` {reason}" for name, reason in NOT_REMOTE.items()]
    return "\n".join(lines) + "\n"
