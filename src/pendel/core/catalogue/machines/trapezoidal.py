"""Brushless machine with trapezoidal EMF, in phase variables.

u_k − u_star = R·i_k + L·di_k/dt + k_e·ω·f(θ_e − k·120°), Σ i_k = 0, M = k_e·Σ f_k·i_k; L is a phase's
own less the mutual inductance. f is 1 over its flat top and −1 over its flat bottom, with straight flanks
between; its corners may be rounded. In delta each winding lies between two lines, u_k − u_k+1 = R·i + L·di/dt
+ k_e·ω·f(θ_e + 30° − k·120°), so that the voltage between the lines has the angle it has in star; what of the
EMFs does not cancel drives a current around the delta. Krishnan: Permanent Magnet Synchronous and Brushless
DC Motor Drives, chapter 10 (from memory)."""

from __future__ import annotations

import math
from functools import lru_cache

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Choice, Contradiction, Figure, Part, Signal, State, Value, Values
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
from pendel.core.catalogue.machines.pmsm import THIRD, THOUSAND_RPM
from pendel.core.catalogue.machines.three_phase import PHASES, PORTS, SIGNALS, Rotor, report_phases
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole, ValueRole

SHORT_OF_ONE = 1.0 - 1e-9
"""Keeps the slope of arcsine finite where the sine peaks, which is flat anyway."""
SHARPEST = 1e-3


def shape(angle: ca.SX, flat: ca.SX, rounding: ca.SX) -> ca.SX:
    """The EMF over its peak at an electrical angle; ``flat`` (rad) is the width of its top, zero crossings
    are at 0 and π.

    A straight line through zero, reflected at the quarter turns, is cut at ±1 by (√((y+1)²+r²) −
    √((y−1)²+r²))/2."""
    flank = (math.pi - flat) / 2
    line = ca.asin(SHORT_OF_ONE * ca.sin(angle)) / flank
    r = ca.fmax(SHARPEST, rounding)

    def cut(y: ca.SX) -> ca.SX:
        return (ca.sqrt((y + 1) ** 2 + r * r) - ca.sqrt((y - 1) ** 2 + r * r)) / 2

    return cut(line) / cut(math.pi / 2 / flank)


def build(c: PartContext) -> None:
    pins, rotor = c.pins("phases"), Rotor(c)
    delta = c.choice("winding") == "delta"
    r, inductance, k_e = c.value("R"), c.value("L"), c.value("k_e")
    r = by_temperature(c, r, c.value("T_w"))
    electrical = c.value("p") * rotor.angle
    ahead = math.pi / 6 if delta else 0.0
    shapes = [shape(electrical + ahead - THIRD * n, c.value("flat"), c.value("round")) for n in range(3)]
    emfs = [k_e * rotor.speed * f for f in shapes]
    if delta:
        currents, slopes = zip(*(c.state(f"i_{n}") for n in PHASES))
        lines = [currents[n] - currents[n - 1] for n in range(3)]
    else:
        (i_a, slope_a), (i_b, slope_b) = c.state("i_a"), c.state("i_b")
        currents, slopes = (i_a, i_b, -i_a - i_b), (slope_a, slope_b, -slope_a - slope_b)
        lines = list(currents)
    needs = [r * i + inductance * slope + e for i, slope, e in zip(currents, slopes, emfs)]
    if delta:
        for n in range(3):
            c.equation(pins[n].across - pins[(n + 1) % 3].across - needs[n])
    else:
        for n in range(2):
            c.equation(pins[n].across - pins[2].across - (needs[n] - needs[2]))
    report_phases(c, lines)
    torque = k_e * sum((f * i for f, i in zip(shapes, currents)), ca.SX(0))
    b, k_fe = c.value("b_m"), c.value("k_fe")
    rotor.turn(torque, b + k_fe)
    for name, emf in zip(PHASES, emfs):
        c.signal(f"emf_{name}", emf)
    middle = sum((pin.across for pin in pins), ca.SX(0)) / 3
    c.signal("star_voltage", middle if delta else middle - sum(emfs, ca.SX(0)) / 3)
    c.signal("angle_e", ca.atan2(ca.sin(electrical), ca.cos(electrical)))
    copper = r * sum((i * i for i in currents), ca.SX(0))
    iron = k_fe * rotor.speed * rotor.speed
    c.signal("current", ca.sqrt(2.0 / 3.0 * sum((i * i for i in lines), ca.SX(0))))
    c.signal("copper_loss", copper)
    c.signal("iron_loss", iron)
    loss = copper + iron + b * rotor.speed * rotor.speed
    c.signal("loss", loss)
    lose(c, copper, iron, b * rotor.speed * rotor.speed)
    c.stored(inductance / 2 * sum((i * i for i in currents), ca.SX(0)) + rotor.energy)


CIRCUIT = {"R_s", "L_s", "k_phase"}
SHEET = {"R_ll", "L_ll", "K_E", "k_t"}
COMMON = {"p", "flat", "round", "J_m", "b_m", "T_w", "P_fe", "n_fe", "U_dc"}


def is_delta(card: Card) -> bool:
    return card.choices.get("winding") == "delta"


def line_factor(v: Values, card: Card) -> float:
    """Peak of the EMF between two open lines over that of a winding. In star it is the peak of
    f(θ) − f(θ − 120°). In delta what the three EMFs have in common is lost on the
    windings: the peak of f − Σf/3."""
    return peak_between_lines(v["flat"], v["round"], is_delta(card))


@lru_cache(maxsize=64)
def peak_between_lines(flat: float, rounding: float, delta: bool) -> float:
    """See `line_factor`; by looking at every 20th of a degree, where a top is flat or has an edge."""
    angle = ca.SX.sym("angle")
    wave = ca.Function("wave", [angle], [shape(angle, ca.SX(flat), ca.SX(rounding))])
    a, b, c = (np.asarray(wave(ANGLES - THIRD * n)).ravel() for n in range(3))
    return float(np.max(a - (a + b + c) / 3 if delta else a - b))


ANGLES = np.linspace(0.0, 2.0 * math.pi, 7201)


def winding_values(v: Values, card: Card) -> dict[str, float]:
    """R (at 20 °C), L and k_e (V·s/rad, peak) of a winding, from whichever set was entered. Between two lines
    lie two phases of a star, or one of a delta beside the other two."""
    if card.choices.get("entry") == "sheet":
        share = 1.5 if is_delta(card) else 0.5
        emf = v["K_E"] / THOUSAND_RPM / line_factor(v, card)
        return {"R": share * v["R_ll"], "L": share * v["L_ll"], "k_e": emf}
    return {"R": v["R_s"], "L": v["L_s"], "k_e": v["k_phase"]}


def between_lines(v: Values, card: Card) -> dict[str, float]:
    """R, L (at 20 °C) and k_e (V·s/rad, peak) between two lines."""
    m = winding_values(v, card)
    share = 2 / 3 if is_delta(card) else 2.0
    return {"R": share * m["R"], "L": share * m["L"], "k_e": line_factor(v, card) * m["k_e"]}


def circuit(v: Values, card: Card) -> dict[str, float]:
    winding = winding_values(v, card)
    return {**v, **winding, "R": winding["R"] * warmer(v), "k_fe": iron_drag(v)}


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    contradictions = []
    if card.choices.get("entry") == "sheet" and not math.isnan(v["k_t"]):
        follows_ = between_lines(v, card)["k_e"]
        if abs(follows_ / v["k_t"] - 1.0) >= 0.05:
            contradictions.append(
                Contradiction(
                    f"EMF and torque constant contradict each other: {figure(v['K_E'], 'V')} between lines "
                    f"at 1000 rpm gives {figure(follows_, 'N·m')} per ampere between two lines, not "
                    f"{figure(v['k_t'], 'N·m')}. Check whether the EMF is a peak between lines.",
                    "k_t",
                    {"k_t": f"{follows_:.4g} N·m/A"},
                    "Take the one that follows",
                    fault=False,
                )
            )
    return contradictions


def follows(v: Values, card: Card) -> list[Figure]:
    m, lines = circuit(v, card), between_lines(v, card)
    no_load = v["U_dc"] / lines["k_e"]
    return [
        Figure("Phase resistance, warm", "R", m["R"], "Ω"),
        Figure("Phase inductance", "L", m["L"], "H"),
        Figure("Torque per ampere, two lines", "k", lines["k_e"], "N·m"),
        Figure("EMF at 1000 rpm, between lines", "K_E", lines["k_e"] * THOUSAND_RPM, "V"),
        Figure("No-load speed at the link", "n_0", no_load, "rpm"),
        Figure("Stall torque at the link", "M_0", v["U_dc"] * lines["k_e"] / (lines["R"] * warmer(v)), "N·m"),
        Figure("Electrical time constant", "T_e", m["L"] / m["R"], "s"),
        Figure("Electrical frequency at no load", "f_e", v["p"] * no_load / (2 * math.pi), "Hz"),
    ]


KIND = Part(
    id="trapezoidal",
    title="Brushless machine, trapezoidal EMF",
    sentence="A three-phase machine with magnets for block commutation.",
    group="machine",
    keywords="bldc brushless block commutation six-step hall trapezoid emf fan motor three-phase data sheet",
    ports=(*PORTS, HEAT_PORT, IRON_PORT),
    choices=(
        Choice("entry", "Enter from", (("circuit", "values of a phase"), ("sheet", "data sheet, line to line"))),
        Choice("winding", "Winding", (("star", "star"), ("delta", "delta"))),
    ),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("R_s", "Phase resistance", "mΩ", "180", low=0.0, open_low=True),
        Value("L_s", "Phase inductance", "µH", "320", low=0.0, open_low=True),
        Value("k_phase", "Phase EMF", "mV·s", "24", low=0.0, open_low=True),
        Value("R_ll", "Line to line", "mΩ", "360", low=0.0, open_low=True),
        Value("L_ll", "Line to line", "µH", "640", low=0.0, open_low=True),
        Value("K_E", "EMF at 1000 rpm", "V", "5.0", low=0.0, open_low=True),
        Value("k_t", "Torque per ampere", "N·m/A", "", low=0.0, open_low=True),
        Value("flat", "Flat top", "deg", "120", low=0.0, high=math.radians(170.0)),
        Value("round", "Rounding", "%", "5", low=0.0, high=1.0),
        Value("J_m", "Rotor inertia", "kg·cm²", "0.6", low=0.0, open_low=True),
        Value("b_m", "Viscous friction", "µN·m·s", "20", low=0.0),
        TEMPERATURE,
        *IRON,
        Value("U_dc", "Link voltage", "V", "24", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
    ),
    states=(
        State("i_a", "current of phase a", "A"),
        State("i_b", "current of phase b", "A"),
        State("i_c", "current of phase c", "A"),
        State("omega", "speed", "rad/s"),
        State("phi", "angle", "rad"),
    ),
    signals=(
        *SIGNALS,
        *(Signal(f"emf_{n}", f"EMF of phase {n}", "V") for n in PHASES),
        Signal("star_voltage", "potential of the star point", "V"),
        Signal("angle_e", "electrical angle", "rad", role=SignalRole.ROTOR_ANGLE),
        Signal("iron_loss", "iron loss", "W"),
        WINDING_TEMPERATURE,
    ),
    build=build,
    equation_values=circuit,
    value_names_in_force=lambda card: COMMON | (SHEET if card.choices.get("entry") == "sheet" else CIRCUIT),
    contradictions=contradictions,
    follows=follows,
    potentials=lambda level: (("phases",),),
    summary=lambda v, card: ("trapezoid", f"{v['p']} pole pairs"),
    main_signal="speed",
    spine="M3",
    usual=(("torque",), ("current_a", "current_b", "current_c")),
)
