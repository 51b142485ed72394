"""``modelDescription.xml`` and ``buildDescription.xml`` of a unit: FMI 3.0, sections 2.4 and 2.5.2."""

from __future__ import annotations

import xml.etree.ElementTree as ElementTree
from collections.abc import Sequence
from datetime import UTC, datetime

from pendel import __version__
from pendel.core.fmu.variables import Kind, Unit, Variable
from pendel.core.quantities.units import TURNING, is_unit, si_unit, turn, unit

IDENTIFIER = "pendel_unit"
"""Name of the library."""


def printable(text: str) -> str:
    """The one way by which text of a drive comes into the files: XML has no characters that are not
    printed."""
    return "".join(c if c.isprintable() else " " for c in text)


def element(parent: ElementTree.Element, tag: str, /, **attributes: object) -> ElementTree.Element:
    """A child; attributes that are None are left out."""
    texts = {k: in_words(v) for k, v in attributes.items() if v is not None}
    return ElementTree.SubElement(parent, tag, texts)


def in_words(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    return repr(value) if isinstance(value, float) else printable(str(value))


def as_file(root: ElementTree.Element) -> bytes:
    ElementTree.indent(root)
    text: bytes = ElementTree.tostring(root, encoding="UTF-8", xml_declaration=True)
    return text + b"\n"


def description_of(exported: Unit, token: str) -> bytes:
    """Content of ``modelDescription.xml``."""
    title = printable(exported.drive.title).strip() or "Drive"
    root = ElementTree.Element(
        "fmiModelDescription",
        {
            "fmiVersion": "3.0",
            "modelName": title,
            "instantiationToken": token,
            "description": f"{title}: {exported.what.value}. All values are in SI; it goes in ticks of "
            f"{exported.tick:g} s.",
            "generationTool": f"Pendel {__version__}",
            "generationDateAndTime": datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
            "variableNamingConvention": "flat",
        },
    )
    element(
        root,
        "CoSimulation",
        modelIdentifier=IDENTIFIER,
        canBeInstantiatedOnlyOncePerProcess=False,
        canGetAndSetFMUState=True,
        canSerializeFMUState=True,
        canHandleVariableCommunicationStepSize=True,
        fixedInternalStepSize=exported.tick,
        maxOutputDerivativeOrder=0,
        hasEventMode=False,
    )
    add_units(root, exported.variables)
    categories = element(root, "LogCategories")
    element(categories, "Category", name="logStatusError", description="What cannot be done, and the remedy")
    settings = exported.prepared.examined.settings
    ticks = max(1, round(settings["until"] / 1000 / exported.tick))
    element(
        root,
        "DefaultExperiment",
        startTime=0.0,
        stopTime=float(settings["until"]),
        tolerance=float(settings["tolerance"]),
        stepSize=ticks * exported.tick,
    )
    add_variables(root, exported)
    return as_file(root)


def add_units(root: ElementTree.Element, variables: Sequence[Variable]) -> None:
    """Definitions of all units, each with those in which it is shown."""
    shown_in: dict[str, set[str]] = {}
    for variable in variables:
        if name := coherent(variable.unit):
            shown_in.setdefault(name, set()).update(displayed(variable.unit))
    if not shown_in:
        return
    definitions = element(root, "UnitDefinitions")
    for name, displays in sorted(shown_in.items()):
        entry = element(definitions, "Unit", name=name)
        factor, dimension = unit(name)
        length, mass, time, current, temperature = (int(e) if float(e).is_integer() else None for e in dimension)
        if None not in (length, mass, time, current, temperature):
            base = {
                "kg": mass,
                "m": length,
                "s": time,
                "A": current,
                "K": temperature,
                "rad": int(turn(name)[1]),
            }
            given = {k: v for k, v in base.items() if v}
            element(entry, "BaseUnit", **given, **({"factor": factor} if factor != 1.0 else {}))
        for other in sorted(displays):
            element(entry, "DisplayUnit", name=other, factor=factor / unit(other)[0])


def coherent(text: str) -> str:
    """The SI unit of a quantity that is shown in ``text``; nothing for a plain number."""
    if not text:
        return ""
    factor, dimension = unit(text)
    if factor == 1.0:
        return text
    if any(symbol in TURNING for symbol in (text, *text.replace("·", "/").split("/"))):
        plain = si_unit(dimension)
        return {"s^-1": "rad/s", "": "rad", "Hz": "rad/s", "s^-2": "rad/s²"}.get(plain, plain)
    return si_unit(dimension)


def displayed(text: str) -> list[str]:
    """Itself, where it is another unit than the coherent one."""
    return [text] if coherent(text) not in ("", text) and is_unit(text) and unit(text)[1][4] == 0 else []


def add_variables(root: ElementTree.Element, exported: Unit) -> None:
    variables, structure = element(root, "ModelVariables"), ElementTree.Element("ModelStructure")
    for reference, variable in enumerate(exported.variables):
        displays = displayed(variable.unit)
        element(
            variables,
            "Float64",
            name=variable.name,
            valueReference=reference,
            description=variable.description or None,
            **role(variable),
            unit=coherent(variable.unit) or None,
            displayUnit=displays[0] if displays else None,
            start=float(variable.start) if variable.is_input or variable.is_parameter else None,
        )
        if variable.is_result and not variable.inner:
            element(structure, "Output", valueReference=reference)
    for reference, variable in enumerate(exported.variables):
        if variable.is_result and not variable.inner:
            element(structure, "InitialUnknown", valueReference=reference)
    root.append(structure)


def role(variable: Variable) -> dict[str, str]:
    """Causality, variability and what is known at the beginning."""
    if variable.kind is Kind.TIME:
        return {"causality": "independent", "variability": "continuous"}
    if variable.is_parameter:
        return {"causality": "parameter", "variability": "tunable", "initial": "exact"}
    if variable.is_input:
        return {"causality": "input", "variability": "continuous"}
    sampled = variable.kind is not Kind.SIGNAL
    return {
        "causality": "local" if variable.inner else "output",
        "variability": "discrete" if sampled else "continuous",
        "initial": "calculated",
    }


def build_description(sources: Sequence[tuple[str, Sequence[str]]]) -> bytes:
    """Content of ``buildDescription.xml``: names of source files and the flags each is compiled with."""
    root = ElementTree.Element("fmiBuildDescription", {"fmiVersion": "3.0"})
    build = element(root, "BuildConfiguration", modelIdentifier=IDENTIFIER)
    for name, flags in sources:
        wanted = " ".join(f for f in flags if f not in ("-shared", "-fPIC"))
        files = element(build, "SourceFileSet", language="C11", compiler="gcc", compilerOptions=wanted)
        element(files, "SourceFile", name=name)
    element(build, "Library", name="m", external=True)
    return as_file(root)


__all__ = ["IDENTIFIER", "build_description", "description_of"]
