"""DC machines with a field winding: separately excited, shunt and series.

u_a = R_a·i_a + L_a·di_a/dt + M_af·i_f·ω, u_f = R_f·i_f + L_f·di_f/dt, M = M_af·i_f·i_a; a shunt field lies
across the armature, a series field carries its current. Linear: the iron does not saturate. Its loss, the
eddy share, grows with the square of field current times speed, and brakes.
Fitzgerald, Kingsley, Umans: Electric Machinery, 6th ed., sections 7.3 and 7.5 (from memory)."""

from __future__ import annotations

import math
from functools import partial

import casadi as ca

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Figure,
    Link,
    Part,
    Port,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.catalogue.machines.losses import (
    HEAT_PORT,
    IRON,
    IRON_PORT,
    TEMPERATURE,
    WINDING_TEMPERATURE,
    by_temperature,
    iron_drag,
    lose,
    warmer,
)
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole

SEPARATE, SHUNT, SERIES = "separate", "shunt", "series"


def build(c: PartContext, excitation: str) -> None:
    u, i = c.pair("winding")
    omega, load = c.flange("shaft")
    i_a, slope_a = c.state("i_a")
    speed, d_speed = c.state("omega")
    angle, d_angle = c.state("phi")
    r_a, l_a, r_f, l_f, m_af, j, b, k_fe = (
        c.value(n) for n in ("R_a", "L_a", "R_f", "L_f", "M_af", "J_m", "b_m", "k_fe")
    )
    r_a, r_f = (by_temperature(c, r, c.value("T_w")) for r in (r_a, r_f))
    if excitation == SERIES:
        i_f, slope_f = i_a, slope_a
        field_voltage = r_f * i_f + l_f * slope_f
        c.equation(u - field_voltage - (r_a * i_a + l_a * slope_a + m_af * i_f * speed))
        c.equation(i - i_a)
    else:
        i_f, slope_f = c.state("i_f")
        field_voltage, into_field = c.pair("field") if excitation == SEPARATE else (u, i_f)
        c.equation(l_f * slope_f - (field_voltage - r_f * i_f))
        c.equation(l_a * slope_a - (u - r_a * i_a - m_af * i_f * speed))
        if excitation == SEPARATE:
            c.equation(into_field - i_f)
            c.equation(i - i_a)
        else:
            c.equation(i - i_a - i_f)
    torque = m_af * i_f * i_a
    c.equation(speed - omega)
    c.equation(d_angle - speed)
    drag = k_fe * i_f * i_f
    c.equation(j * d_speed - (torque - (b + drag) * speed + load))
    copper, iron = r_a * i_a * i_a + r_f * i_f * i_f, drag * speed * speed
    loss = copper + iron + b * speed * speed
    for name, value in (
        ("current", i_a),
        ("field_current", i_f),
        ("voltage", u),
        ("speed", speed),
        ("angle", angle),
        ("torque", torque),
        ("emf", m_af * i_f * speed),
        ("shaft_torque", -load),
        ("power", -load * speed),
        ("copper_loss", copper),
        ("iron_loss", iron),
        ("loss", loss),
    ):
        c.signal(name, ca.SX(value))
    lose(c, copper, iron, b * speed * speed)
    c.stored(l_a * i_a * i_a / 2 + l_f * i_f * i_f / 2 + j * speed * speed / 2)


def rated_field(v: Values, excitation: str) -> tuple[float, float]:
    """Armature and field current (A) at the rated point."""
    if excitation == SERIES:
        return v["I_n"], v["I_n"]
    i_f = (v["U_f"] if excitation == SEPARATE else v["U_n"]) / v["R_f"]
    return v["I_n"] - (i_f if excitation == SHUNT else 0.0), i_f


def rated_emf(v: Values, excitation: str) -> float:
    i_a, i_f = rated_field(v, excitation)
    return v["U_n"] - v["R_a"] * i_a - (v["R_f"] * i_f if excitation == SERIES else 0.0)


def circuit(v: Values, card: Card, excitation: str) -> dict[str, float]:
    """A nameplate holds for a winding at 20 °C."""
    values = dict(v) | {n: v[n] * warmer(v) for n in ("R_a", "R_f")} | {"k_fe": iron_drag(v) / v["I_fe"] ** 2}
    if card.choices.get("entry") != "plate":
        return values
    _, i_f = rated_field(v, excitation)
    return values | {"M_af": rated_emf(v, excitation) / (i_f * v["n_n"])}


def contradictions(v: Values, card: Card, excitation: str) -> list[Contradiction]:
    if card.choices.get("entry") != "plate":
        return []
    i_a, _ = rated_field(v, excitation)
    if i_a <= 0:
        return [
            Contradiction(
                f"The field alone takes more than the rated current of {figure(v['I_n'], 'A')}. Check "
                "field resistance and rated current.",
                "I_n",
            )
        ]
    if rated_emf(v, excitation) <= 0:
        return [
            Contradiction(
                f"At the rated current the resistances take all of {figure(v['U_n'], 'V')}. Check "
                "resistances and rated current.",
                "R_a",
            )
        ]
    return []


def follows(v: Values, card: Card, excitation: str) -> list[Figure]:
    m = circuit(v, card, excitation)
    if not math.isfinite(m["M_af"]) or m["M_af"] <= 0:
        return []
    figures = [
        Figure("EMF per field ampere and rad/s", "M_af", m["M_af"], "V·s/A"),
        Figure("Armature time constant", "T_a", m["L_a"] / m["R_a"], "s"),
        Figure("Field time constant", "T_f", m["L_f"] / m["R_f"], "s"),
    ]
    if card.choices.get("entry") == "plate":
        i_a, i_f = rated_field(v, excitation)
        figures.append(Figure("Rated torque, at the air gap", "M_n", m["M_af"] * i_f * i_a, "N·m"))
    return figures


PLATE = {"U_n", "I_n", "n_n"}


def value_names_in_force(card: Card, excitation: str) -> set[str]:
    common = {"R_a", "L_a", "R_f", "L_f", "J_m", "b_m", "T_w", "P_fe", "n_fe", "I_fe"}
    if card.choices.get("entry") == "plate":
        return common | PLATE | ({"U_f"} if excitation == SEPARATE else set())
    return common | {"M_af"}


def machine(id: str, title: str, sentence: str, keywords: str, excitation: str, field: tuple[str, str, str]) -> Part:
    r_f, l_f, m_af = field
    iron_field = Value("I_fe", "and field current", "A", "25" if excitation == SERIES else "1", low=0.0, open_low=True)
    current = (State("i_f", "field current", "A"),) if excitation != SERIES else ()
    ports = (Port("field", Link.DC, "Field winding", "bottom"),) if excitation == SEPARATE else ()
    return Part(
        id=id,
        title=title,
        sentence=sentence,
        group="machine",
        keywords="motor dc commutator wound field excitation generator " + keywords,
        ports=(
            Port("winding", Link.DC, "Armature" if excitation == SEPARATE else "Winding", "left"),
            Port("shaft", Link.SHAFT, "Shaft", "right"),
            *ports,
            HEAT_PORT,
            IRON_PORT,
        ),
        choices=(
            Choice("entry", "Enter from", (("circuit", "circuit values"), ("plate", "nameplate and resistances"))),
        ),
        values=(
            Value("U_n", "Rated voltage", "V", "220", low=0.0, open_low=True),
            Value("I_n", "Rated current", "A", "25", low=0.0, open_low=True),
            Value("n_n", "Rated speed", "rpm", "1500", low=0.0, open_low=True),
            Value("U_f", "Rated field voltage", "V", "220", low=0.0, open_low=True),
            Value("R_a", "Armature resistance", "Ω", "0.6", low=0.0, open_low=True),
            Value("L_a", "Armature inductance", "mH", "9", low=0.0, open_low=True),
            Value("R_f", "Field resistance", "Ω", r_f, low=0.0, open_low=True),
            Value("L_f", "Field inductance", "H", l_f, low=0.0, open_low=True),
            Value("M_af", "Mutual inductance", "H", m_af, low=0.0, open_low=True),
            Value("J_m", "Rotor inertia", "kg·m²", "0.12", low=0.0, open_low=True),
            Value("b_m", "Viscous friction", "N·m·s", "0.01", low=0.0),
            TEMPERATURE,
            *IRON,
            iron_field,
        ),
        states=(
            State("i_a", "armature current", "A"),
            *current,
            State("omega", "speed", "rad/s"),
            State("phi", "angle", "rad"),
        ),
        signals=(
            Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
            Signal("current", "armature current", "A", role=SignalRole.MACHINE_CURRENT),
            Signal("field_current", "field current", "A"),
            Signal("voltage", "voltage", "V"),
            Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
            Signal("shaft_torque", "shaft torque", "N·m"),
            Signal("angle", "angle", "rad", role=SignalRole.SHAFT_ANGLE),
            Signal("emf", "EMF", "V"),
            Signal("power", "shaft power", "W"),
            Signal("copper_loss", "copper loss", "W", role=SignalRole.COPPER_LOSS),
            Signal("iron_loss", "iron loss", "W"),
            WINDING_TEMPERATURE,
            Signal("loss", "loss", "W"),
        ),
        build=partial(build, excitation=excitation),
        equation_values=partial(circuit, excitation=excitation),
        value_names_in_force=partial(value_names_in_force, excitation=excitation),
        contradictions=partial(contradictions, excitation=excitation),
        follows=partial(follows, excitation=excitation),
        summary=lambda v, card: (excitation, v["R_a"]),
        main_signal="speed",
        spine="M",
    )


KINDS = (
    machine(
        "separate_dc",
        "DC machine, separately excited",
        "Armature and field have supplies of their own.",
        "field weakening",
        SEPARATE,
        ("180", "20", "1.1"),
    ),
    machine(
        "shunt_dc",
        "DC machine, shunt",
        "The field lies across the armature.",
        "parallel",
        SHUNT,
        ("180", "20", "1.1"),
    ),
    machine(
        "series_dc",
        "DC machine, series",
        "The field carries the armature's current.",
        "traction universal",
        SERIES,
        ("0.4", "0.03", "0.05"),
    ),
)
