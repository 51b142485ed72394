"""The numbers of a unit as C: what ``c/unit.h`` calls tables.

Text of a drive comes into them by `literal` alone."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from pendel.core.controllers.c_names import literal
from pendel.core.fmu.variables import Kind, Unit, Variable
from pendel.core.plant.methods import number_of
from pendel.core.plant.simulator import CARRIERS, SAMPLINGS, test_numbers

QUESTIONS = {"zero": "IS_ZERO", "positive": "IS_POSITIVE", "given": "IS_GIVEN"}


def number(value: float) -> str:
    """A number as C takes it, to the bit."""
    if math.isnan(value):
        return "NAN"
    if math.isinf(value):
        return "INFINITY" if value > 0 else "-INFINITY"
    return float(value).hex()


def array(kind: str, name: str, entries: Iterable[str]) -> str:
    """A table; C has none without entries."""
    texts = list(entries)
    body = ",\n    ".join(", ".join(texts[n : n + 8]) for n in range(0, len(texts), 8)) or "0"
    return f"static {kind} {name}[] = {{\n    {body}\n}};\n"


def doubles(name: str, values: Iterable[float]) -> str:
    return array("const double", name, (number(v) for v in values))


def ints(name: str, values: Iterable[int]) -> str:
    return array("const int", name, (str(int(v)) for v in values))


def names(name: str, texts: Iterable[str]) -> str:
    return array("const char *const", name, (literal(t) for t in texts))


def sizes(unit: Unit) -> str:
    """What the shared head of a unit must know first."""
    structure, inputs = unit.prepared.structure, unit.inputs
    plant = unit.has_plant
    counts = {
        "N_VARIABLES": len(unit.variables),
        "N_PARAMETERS": len(inputs.parameters) if plant else 0,
        "N_CONTROLS": len(inputs.controls) if unit.has_controller else 0,
        "N_PROFILE_VALUES": len(profile_values(unit)),
        "N_COMMANDS": len(structure.commands),
        "N_MEASURED": 0 if plant else len(unit.prepared.deck.measured),
        "N_SIGNALS": len(structure.signals) if plant else 0,
        "N_BLOCKS": len(unit.program.control_signals) if unit.has_controller else 0,
        "N_ANSWERS": len(answers(unit)),
    }
    listed = ", ".join(f"{name} = {count}" for name, count in counts.items())
    asked = {"HAS_CONTROLLER": unit.has_controller, "BOOKS_ENERGIES": plant and bool(structure.switched)}
    defined = "".join(f"#define {name} {int(there)}\n" for name, there in asked.items())
    return f"{defined}enum {{ {listed} }};\n"


def profile_values(unit: Unit) -> list[float]:
    if not unit.has_plant:
        return []
    return [level for _, levels in profiles(unit) for level in levels]


def profiles(unit: Unit) -> list[tuple[Sequence[float], Sequence[float]]]:
    """Times and levels; those that come from outside have one level, which is set."""
    outside = {v.place for v in unit.variables if v.kind is Kind.PROFILE}
    profiles = list[tuple[Sequence[float], Sequence[float]]]()
    for place, (times, levels) in enumerate(unit.inputs.profiles):
        profiles.append(((0.0,), (levels[0] if levels else 0.0,)) if place in outside else (times, levels))
    return profiles


def answers(unit: Unit) -> list[str]:
    """What parts asked about values that can be set."""
    if not unit.has_plant:
        return []
    keys = unit.prepared.structure.parameter_keys
    return [
        f"{{{keys.index(f'{card}.{name}')}, {QUESTIONS[question.value]}, {int(answer)}}}"
        for card, name, question, answer in unit.prepared.structure.answers
        if f"{card}.{name}" in keys
    ]


def tables(unit: Unit, token: str) -> str:
    """All numbers of a unit, behind ``c/unit.h``."""
    inputs = unit.inputs
    parts = [
        f"#define TOKEN {literal(token)}\n",
        f"static const double TICK = {number(unit.tick)};\n",
        array("const variable_t", "VARIABLES", (variable_entry(unit, v) for v in unit.variables)),
        array("const answer_t", "ANSWERS", answers(unit) or ["{0, 0, 0}"]),
        doubles("PARAMETERS", inputs.parameters.tolist() if unit.has_plant else ()),
        doubles("BLOCK_VALUES", inputs.controls.tolist() if unit.has_controller else ()),
        doubles("PROFILE_VALUES", profile_values(unit)),
    ]
    return "".join(parts) + (run_tables(unit) if unit.has_plant else "")


def variable_entry(unit: Unit, variable: Variable) -> str:
    """Signals are numbered among the plant's or the blocks'; a profile by where its level stands."""
    place = variable.place
    if variable.kind is Kind.PROFILE:
        place = sum(len(levels) for _, levels in profiles(unit)[:place])
    rights = "ALWAYS" if variable.is_input or variable.is_parameter else "NEVER"
    return f"{{{variable.kind.name}, {rights}, {place}, {variable.other}, {literal(variable.name)}}}"


def run_tables(unit: Unit) -> str:
    """What `describe_run` in ``c/run.c`` takes."""
    structure, inputs = unit.prepared.structure, unit.inputs
    settings, modes = inputs.settings, structure.mode_keys
    shorts = settings.shorts
    first, tests = [0], list[int]()
    for path in shorts:
        tests += [n for test in path.tests for n in test_numbers(test, modes)]
        first.append(first[-1] + len(path.tests))
    counts = {
        "N_STATES": len(structure.state_keys),
        "N_PROFILES": len(structure.profile_keys),
        "N_GUARDS": len(structure.transitions),
        "N_MODES": len(modes),
        "N_MEASURED_INSIDE": len(structure.measured),
        "N_HOLDS": len(structure.hold_modes),
        "N_LOOPS": 2 * structure.loops,
        "N_PULSES": len(structure.pulses),
        "N_SHORTS": len(shorts),
        "N_JACOBIAN": len(structure.jacobian),
        "N_SWITCHED": len(structure.switched),
        "FORCED_COUNT": -1 if structure.forced is None else len(structure.forced),
        "METHOD": number_of(settings.method),
        "DELAY": inputs.delay if unit.has_controller else 0,
        "STEADY_JACOBIAN": int(structure.steady_jacobian),
    }
    reals = {
        "LONGEST_STEP": settings.h_max,
        "FIXED_STEP": settings.fixed_step,
        "TOLERANCE": settings.tolerance,
        "SHORT_LIMIT": settings.short_limit,
    }
    listed = ", ".join(f"{name} = {count}" for name, count in counts.items())
    along = profiles(unit)
    return "".join(
        (
            f"enum {{ {listed} }};\n",
            *(f"static const double {name} = {number(value)};\n" for name, value in reals.items()),
            doubles("STARTS", inputs.starts.tolist()),
            doubles("MODES", inputs.modes.tolist()),
            ints("PROFILE_COUNTS", [len(times) for times, _ in along]),
            doubles("PROFILE_TIMES", [t for times, _ in along for t in times]),
            *(
                ints(n, [t[k] for t in structure.transitions])
                for k, n in enumerate(("EXIT_MODES", "EXITS_FROM", "EXITS_TO"))
            ),
            ints("HOLD_MODES", structure.hold_modes),
            ints("HOLD_STICKS", structure.hold_sticks),
            ints("JACOBIAN", structure.jacobian),
            ints("ELIMINATION", structure.elimination),
            ints("FORCED", structure.forced or ()),
            ints("SWITCHED_GATES", [gate for gate, _ in structure.switched]),
            ints("SWITCHED_STATES", [state for _, state in structure.switched]),
            ints("SHORT_FIRST", first),
            ints("SHORT_TESTS", tests),
            ints("PICKED", range(len(structure.signals))),
            array("const pulse_t", "PULSES", pulses(unit) or ["{0}"]),
            names("STATE_NAMES", structure.state_keys),
            names("MODE_NAMES", modes),
            names("SHORT_NAMES", [path.source for path in shorts]),
        )
    )


def pulses(unit: Unit) -> list[str]:
    """Pulse channels at their start; as `pulse_structs` of the simulator fills them."""
    structure = unit.prepared.structure
    structs = []
    for shape, own in zip(structure.pulses, unit.inputs.pulses):
        upper, lower = (structure.mode_keys.index(g) if g else -1 for g in (shape.upper, shape.lower))
        fields = {
            "command": str(structure.commands.index(shape.command)),
            "upper": str(upper),
            "lower": str(lower),
            "carrier": str(CARRIERS[shape.carrier]),
            "sampling": str(SAMPLINGS[shape.sampling]),
            "opens": str(int(shape.opens)),
            **{
                name: number(value)
                for name, value in {
                    "scale": shape.scale,
                    "offset": shape.offset,
                    "f": own.f,
                    "begins": own.begins,
                    "dead": own.dead,
                    "least": own.least,
                    "on_delay": own.on_delay,
                    "off_delay": own.off_delay,
                }.items()
            },
        }
        structs.append("{" + ", ".join(f".{name} = {text}" for name, text in fields.items()) + "}")
    return structs
