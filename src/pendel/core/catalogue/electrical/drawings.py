"""Circuits of the converters as drawings: where each element stands and which signals tell of it.

Places are in grid steps; the window draws the symbols of IEC 60617.
"""

from __future__ import annotations

from pendel.core.catalogue.declare import Drawing, Element

LEGS = {"a": 6.0, "b": 10.0, "c": 14.0}
TOP, MIDDLE, BOTTOM = 1.0, 5.0, 9.0


def wire(*points: tuple[float, float]) -> Element:
    return Element("wire", points)


def legs(
    names: tuple[str, ...],
    places: dict[str, float] = LEGS,
    *,
    gate: str = "gate_{}_{}",
    current: str = "current_{}_{}",
    nodes: dict[str, float] | None = None,
) -> list[Element]:
    """Two transistors above each other for each leg, between the rails."""
    elements = []
    for name in names:
        x = places[name or "a"]
        y = (nodes or {}).get(name, MIDDLE)
        for side, (y_1, y_2) in (("upper", (TOP, y)), ("lower", (y, BOTTOM))):
            through, driven = (form.format(name, side).replace("__", "_") for form in (current, gate))
            elements.append(Element("transistor", ((x, y_1), (x, y_2)), f"{name} {side}".strip(), through, (driven,)))
        elements.append(Element("node", ((x, y),)))
    return elements


def rails(right: float) -> list[Element]:
    return [
        wire((1, TOP), (right, TOP)),
        wire((1, BOTTOM), (right, BOTTOM)),
        Element("terminal", ((1, TOP),), "+"),
        Element("terminal", ((1, BOTTOM),), "−"),
        Element("voltage", ((1, TOP), (1, BOTTOM)), "link", voltage="link_voltage"),
    ]


BETWEEN = {"a": 5.0, "b": 14.0}
FOUR_QUADRANT = Drawing(
    17,
    10,
    (
        *rails(BETWEEN["b"]),
        *legs(("a", "b"), BETWEEN),
        wire((BETWEEN["a"], MIDDLE), (8, MIDDLE)),
        wire((11, MIDDLE), (BETWEEN["b"], MIDDLE)),
        Element("terminal", ((8, MIDDLE),)),
        Element("terminal", ((11, MIDDLE),)),
        Element(
            "voltage",
            ((8, MIDDLE), (11, MIDDLE)),
            "output",
            voltage="output_voltage",
            current="output_current",
        ),
    ),
)
STAGGER = 0.7
"""Steps between the lines of the phases where they cross the legs."""
NODES = {name: MIDDLE + STAGGER * (n - 1) for n, name in enumerate(("a", "b", "c"))}
INVERTER = Drawing(
    19,
    10,
    (
        *rails(LEGS["c"]),
        *legs(("a", "b", "c"), nodes=NODES),
        *(
            e
            for n, y in NODES.items()
            for e in (wire((LEGS[n], y), (17, y)), Element("terminal", ((17, y),), n, f"current_{n}"))
        ),
    ),
)
HALF_BRIDGE = Drawing(
    13,
    10,
    (
        *rails(11),
        *legs(("",), gate="gate_{1}", current="current_{1}"),
        wire((LEGS["a"], MIDDLE), (11, MIDDLE)),
        Element("terminal", ((11, MIDDLE),), "out"),
        Element("terminal", ((11, BOTTOM),)),
        Element(
            "voltage",
            ((11, MIDDLE), (11, BOTTOM)),
            "output",
            voltage="output_voltage",
            current="output_current",
        ),
    ),
)
SPLIT_HALF_BRIDGE = Drawing(
    13,
    10,
    (
        *rails(LEGS["a"]),
        *legs(("",), gate="gate_{1}", current="current_{1}"),
        Element("capacitor", ((3, TOP), (3, MIDDLE)), "C"),
        Element("capacitor", ((3, MIDDLE), (3, BOTTOM)), "C"),
        Element("node", ((3, MIDDLE),)),
        wire((3, MIDDLE), (4.5, MIDDLE), (4.5, 7), (11, 7)),
        wire((LEGS["a"], MIDDLE), (11, MIDDLE)),
        Element("terminal", ((11, MIDDLE),), "out"),
        Element("terminal", ((11, 7),)),
        Element("voltage", ((11, MIDDLE), (11, 7)), "output", voltage="output_voltage", current="output_current"),
    ),
)
ENDS = (
    Element("terminal", ((1, TOP),), "+"),
    Element("terminal", ((1, BOTTOM),), "−"),
    Element("voltage", ((1, TOP), (1, BOTTOM)), "input", voltage="input_voltage", current="input_current"),
    Element("terminal", ((16, TOP),)),
    Element("terminal", ((16, BOTTOM),)),
    Element("voltage", ((16, TOP), (16, BOTTOM)), "output", voltage="output_voltage", current="output_current"),
    Element("capacitor", ((13, TOP), (13, BOTTOM)), "C"),
    wire((1, BOTTOM), (16, BOTTOM)),
)


def transistor(*points: tuple[float, float]) -> Element:
    return Element("transistor", points, "transistor", "transistor_current", ("gate",))


STEP_DOWN = Drawing(
    18,
    10,
    (
        *ENDS,
        transistor((1, TOP), (6, TOP)),
        Element("diode", ((6, BOTTOM), (6, TOP)), "diode", "diode_current"),
        Element("inductor", ((6, TOP), (13, TOP)), "L", "choke_current"),
        wire((13, TOP), (16, TOP)),
        Element("node", ((6, TOP),)),
        Element("node", ((13, TOP),)),
    ),
)
STEP_UP = Drawing(
    18,
    10,
    (
        *ENDS,
        Element("inductor", ((1, TOP), (6, TOP)), "L", "choke_current"),
        transistor((6, TOP), (6, BOTTOM)),
        Element("diode", ((6, TOP), (13, TOP)), "diode", "diode_current"),
        wire((13, TOP), (16, TOP)),
        Element("node", ((6, TOP),)),
        Element("node", ((13, TOP),)),
    ),
)
INVERTING = Drawing(
    18,
    10,
    (
        *ENDS,
        transistor((1, TOP), (6, TOP)),
        Element("inductor", ((6, TOP), (6, BOTTOM)), "L", "choke_current"),
        Element("diode", ((13, TOP), (6, TOP)), "diode", "diode_current"),
        wire((13, TOP), (16, TOP)),
        Element("node", ((6, TOP),)),
        Element("node", ((13, TOP),)),
    ),
)


def rectifier(names: tuple[str, ...]) -> Drawing:
    """Diodes above and below each AC line."""
    places = {n: 5.0 + 3.0 * k for k, n in enumerate(names)}
    right = places[names[-1]] + 4
    elements: list[Element] = [
        wire((places[names[0]], TOP), (right, TOP)),
        wire((places[names[0]], BOTTOM), (right, BOTTOM)),
        Element("terminal", ((right, TOP),), "+"),
        Element("terminal", ((right, BOTTOM),), "−"),
        Element(
            "voltage",
            ((right, TOP), (right, BOTTOM)),
            "output",
            voltage="output_voltage",
            current="output_current",
        ),
    ]
    for k, (name, x) in enumerate(places.items()):
        y = MIDDLE + (k - (len(names) - 1) / 2) * STAGGER
        elements += [
            Element("diode", ((x, y), (x, TOP)), f"{name} upper", f"current_{name}_upper"),
            Element("diode", ((x, BOTTOM), (x, y)), f"{name} lower", f"current_{name}_lower"),
            wire((1.5, y), (x, y)),
            Element("terminal", ((1.5, y),), name, f"current_{name}"),
            Element("node", ((x, y),)),
        ]
    return Drawing(right + 2.5, 10, tuple(elements))
