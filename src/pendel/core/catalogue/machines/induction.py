"""Squirrel-cage induction machine, in the stator's or the rotor's frame, with one or two cages and main-flux
saturation.

States are the flux linkages; u_s = R_s·i_s + dψ_s/dt, 0 = R_r·i_r + dψ_r/dt − j·p·ω·ψ_r for each cage. All
share the main flux ψ_m: i_s = (ψ_s − ψ_m)/L_σs, i_r = (ψ_r − ψ_m)/L_σr, and i_s + Σ i_r = ψ_m/L_m·(1 +
s·(ψ_m/ψ_n)⁶). M = 3/2·p·(ψ_s × i_s). Krause, Wasynczuk, Sudhoff: Analysis of Electric Machinery, chapter 4
(from memory). In the rotor's frame the same fluxes, turned back by p·φ, change with the slip only; there u_s
= R_s·i_s + dψ_s/dt + j·p·ω·ψ_s.

The star point is open. A winding in delta is taken as the star it is equivalent to: a third of R and L,
ψ_n/√3. The cage is as warm as the winding. Iron loss is the eddy share alone, with the square of speed and
main flux; it brakes and does not enter the currents."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Mapping, Sequence

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import (
    Choice,
    Contradiction,
    Curve,
    Figure,
    Part,
    Signal,
    State,
    Value,
    Values,
)
from pendel.core.catalogue.machines.losses import (
    CAGE_PORT,
    CAGE_TEMPERATURE,
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
from pendel.core.catalogue.machines.three_phase import PORTS, SIGNALS, Rotor, report_phases
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole, ValueRole

ROOT_3 = math.sqrt(3.0)


Winding = Sequence[tuple[ca.SX, ca.SX]]
"""Flux linkage along both axes, and its derivative."""


def build(c: PartContext) -> None:
    cages = ("1", "2") if c.choice("cages") == "double" else ("1",)
    rotor = Rotor(c)
    stator = [c.state(f"psi_s_{n}") for n in ("alpha", "beta")]
    windings = {k: [c.state(f"psi_r{k}_{n}") for n in ("alpha", "beta")] for k in cages}
    p, r_s, b = (c.value(n) for n in ("p", "R_s", "b_m"))
    r_s = by_temperature(c, r_s, c.value("T_w"))
    turning = c.choice("frame") == "rotor"
    frame = p * rotor.angle if turning else ca.SX(0)
    w_stator, w_cage = (p * rotor.speed, 0.0) if turning else (0.0, -p * rotor.speed)
    main = main_flux(c, stator, windings)
    currents = [(flux - m) / c.value("L_s") for (flux, _), m in zip(stator, main)]
    u_a, u_b, u_c = (pin.across for pin in c.pins("phases"))
    u = turned((2 * u_a - u_b - u_c) / 3, (u_b - u_c) / ROOT_3, -frame)
    (psi_x, slope_x), (psi_y, slope_y) = stator
    c.equation(slope_x - (u[0] - r_s * currents[0] + w_stator * psi_y))
    c.equation(slope_y - (u[1] - r_s * currents[1] - w_stator * psi_x))
    cage_loss, magnetic = ca.SX(0), ca.SX(0)
    for k, ((x, dx), (y, dy)) in windings.items():
        r, leak = by_temperature(c, c.value(f"R_r{k}"), c.value("T_w"), CAGE_PORT.name), c.value(f"L_r{k}")
        inside = [(flux - m) / leak for flux, m in zip((x, y), main)]
        c.equation(dx - (-r * inside[0] + w_cage * y))
        c.equation(dy - (-r * inside[1] - w_cage * x))
        square = inside[0] ** 2 + inside[1] ** 2
        cage_loss += 1.5 * r * square
        magnetic += 0.75 * leak * square
    alpha, beta = turned(currents[0], currents[1], frame)
    report_phases(c, phases_of(alpha, beta))
    main_square = main[0] ** 2 + main[1] ** 2
    drag = c.value("k_fe") * main_square
    rotor.turn(1.5 * p * (stator[0][0] * currents[1] - stator[1][0] * currents[0]), b + drag)
    square = currents[0] ** 2 + currents[1] ** 2
    copper = 1.5 * r_s * square
    iron = drag * rotor.speed * rotor.speed
    loss = copper + cage_loss + iron + b * rotor.speed * rotor.speed
    flux_alpha, flux_beta = turned(windings["1"][0][0], windings["1"][1][0], frame)
    for name, value in (
        ("current", ca.sqrt(square)),
        ("current_alpha", alpha),
        ("current_beta", beta),
        ("flux_alpha", flux_alpha),
        ("flux_beta", flux_beta),
        ("rotor_flux", ca.sqrt(flux_alpha**2 + flux_beta**2)),
        ("main_flux", ca.sqrt(main_square)),
        ("flux_angle", ca.atan2(flux_beta, flux_alpha)),
        ("copper_loss", copper),
        ("cage_loss", cage_loss),
        ("iron_loss", iron),
        ("loss", loss),
    ):
        c.signal(name, value)
    lose(c, copper, iron, b * rotor.speed * rotor.speed)
    c.lost(cage_loss, to=CAGE_PORT.name)
    c.stored(0.75 * c.value("L_s") * square + magnetic + main_energy(c, main) + rotor.energy)


def turned(x: ca.SX, y: ca.SX, angle: ca.SX) -> tuple[ca.SX, ca.SX]:
    """A vector turned ahead by an angle (rad)."""
    return x * ca.cos(angle) - y * ca.sin(angle), x * ca.sin(angle) + y * ca.cos(angle)


def phases_of(alpha: ca.SX, beta: ca.SX) -> tuple[ca.SX, ca.SX, ca.SX]:
    return alpha, (ROOT_3 * beta - alpha) / 2, (-ROOT_3 * beta - alpha) / 2


def main_flux(c: PartContext, stator: Winding, rotors: Mapping[str, Winding]) -> list[ca.SX]:
    """The main flux along both axes: in closed form, or as an unknown where iron saturates."""
    inverse = 1 / c.value("L_s") + sum((1 / c.value(f"L_r{k}") for k in rotors), ca.SX(0))
    drive = [
        stator[n][0] / c.value("L_s")
        + sum((states[n][0] / c.value(f"L_r{k}") for k, states in rotors.items()), ca.SX(0))
        for n in (0, 1)
    ]
    if c.choice("iron") == "linear":
        return [d / (inverse + 1 / c.value("L_m")) for d in drive]
    main = [c.unknown(f"psi_m_{n}") for n in ("alpha", "beta")]
    size = (main[0] ** 2 + main[1] ** 2) / c.value("psi_n") ** 2
    magnetising = (1 + c.value("s_m") * size * size * size) / c.value("L_m")
    for m, d in zip(main, drive):
        c.equation(m * (inverse + magnetising) - d)
    return main


def main_energy(c: PartContext, main: list[ca.SX]) -> ca.SX:
    """∫ i dψ of the main flux, both axes: 3/2·(ψ²/2 + s·ψ⁸/(8·ψ_n⁶))/L_m."""
    square = main[0] ** 2 + main[1] ** 2
    if c.choice("iron") == "linear":
        return 0.75 * square / c.value("L_m")
    return 1.5 / c.value("L_m") * (square / 2 + c.value("s_m") * square**4 / (8 * c.value("psi_n") ** 6))


CIRCUIT = {"R_s", "L_s", "L_m", "R_r1", "L_r1"}
TESTS = {"R_s", "I_0", "P_0", "U_k", "I_k", "P_k"}
COMMON = {"p", "U_n", "f_n", "n_n", "P_n", "J_m", "b_m", "T_w", "P_fe", "n_fe"}
OF_PHASES = ("R_s", "L_s", "L_m", "R_r1", "L_r1", "R_r2", "L_r2")
RESISTANCES = ("R_s", "R_r1", "R_r2")
TOLERANCE = 0.25
"""Of a nameplate's power: slip at full load may be off by a fifth (IEC 60034-1, table 20, from memory), and
speeds are rounded."""


def value_names_in_force(card: Card) -> set[str]:
    names = COMMON | (TESTS if card.choices.get("entry") == "tests" else CIRCUIT)
    if card.choices.get("cages") == "double":
        names = names | {"R_r2", "L_r2"}
    return names | {"psi_n", "s_m"} if card.choices.get("iron") == "saturates" else names


def from_tests(v: Values) -> dict[str, float]:
    """Circuit values from the no-load and the locked-rotor test, the leakage shared alike.

    The tests as in Fitzgerald, Kingsley, Umans: Electric Machinery, 6th ed., section 6.6 (from memory). There the main
    inductance is left out at standstill; here the leakage X solves Z(1) = R_s + jX + jX_m ∥ (R_r + jX) with X + X_m =
    x_0, so that the tests played back give what was entered.

    Raises
    ------
    ValueError
        when a test takes more power than its current and voltage allow.
    """
    w = 2 * math.pi * v["f_n"]
    z_0, z_k = v["U_n"] / ROOT_3 / v["I_0"], v["U_k"] / ROOT_3 / v["I_k"]
    r_0, r_k = v["P_0"] / (3 * v["I_0"] ** 2), v["P_k"] / (3 * v["I_k"] ** 2)
    if r_0 >= z_0 or r_k >= z_k or r_k <= v["R_s"]:
        raise ValueError
    x_0, x_k = math.sqrt(z_0**2 - r_0**2), math.sqrt(z_k**2 - r_k**2)
    seen = r_k - v["R_s"]

    def rotor(leak: float) -> float:
        """Of the two that are seen as so much from the stator, the smaller: below its breakdown slip."""
        square = (x_0 - leak) ** 2
        return (square - math.sqrt(max(0.0, square**2 - (2.0 * seen * x_0) ** 2))) / (2.0 * seen)

    def missing(leak: float) -> float:
        r = rotor(leak)
        return leak + (x_0 - leak) * (r * r + leak * x_0) / (r * r + x_0 * x_0) - x_k

    # Up to where a rotor can be seen as so much at all.
    most = min(x_k, x_0 - math.sqrt(2.0 * seen * x_0))
    if most <= 0 or missing(0.0) > 0 or missing(most) < 0:
        raise ValueError
    import scipy.optimize  # slow to load, and few drives need it

    leak = scipy.optimize.brentq(missing, 0.0, most, xtol=1e-15 * x_0, rtol=1e-13)
    return {"L_s": leak / w, "L_m": (x_0 - leak) / w, "R_r1": rotor(leak), "L_r1": leak / w}


def circuit(v: Values, card: Card) -> dict[str, float]:
    """Values of a phase of the equivalent star, warm. Tests are taken at 20 °C, and know of lines only."""
    star = dict(v)
    if card.choices.get("entry") == "tests":
        with contextlib.suppress(ValueError):
            star |= from_tests(v)
    elif card.choices.get("winding") == "delta":
        star |= {n: v[n] / 3.0 for n in OF_PHASES} | {"psi_n": v["psi_n"] / ROOT_3}
    rated_flux = v["U_n"] * math.sqrt(2.0 / 3.0) / (2 * math.pi * v["f_n"])
    return star | {n: star[n] * warmer(v) for n in RESISTANCES} | {"k_fe": iron_drag(v) / rated_flux**2}


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    contradictions = []
    synchronous = 2 * math.pi * v["f_n"] / v["p"]
    if v["n_n"] >= synchronous:
        contradictions.append(
            Contradiction(
                f"the rated speed {figure(v['n_n'], 'rpm')} is not below the synchronous speed "
                f"{figure(synchronous, 'rpm')} of {v['p']:.0f} pole pairs at {figure(v['f_n'], 'Hz')}. "
                "Correct speed, frequency or pole pairs.",
                "n_n",
            )
        )
    if card.choices.get("entry") == "tests":
        try:
            from_tests(v)
        except ValueError:
            contradictions.append(
                Contradiction(
                    f"no machine gives these tests: at no load {figure(v['P_0'], 'W')} with "
                    f"{figure(v['I_0'], 'A')}, locked {figure(v['P_k'], 'W')} with {figure(v['I_k'], 'A')} "
                    f"at {figure(v['U_k'], 'V')}, stator {figure(v['R_s'], 'Ω')}. "
                    "Check that voltages are line to line and currents per line.",
                    "P_k",
                )
            )
    return contradictions or against_nameplate(v, card)


def against_nameplate(v: Values, card: Card) -> list[Contradiction]:
    """Whether the machine can be at the point of its nameplate: before the pull-out, and with about the power
    that stands there."""
    curve, given = (
        torque_curve(v, card),
        "tests" if card.choices.get("entry") == "tests" else "circuit values",
    )
    pull_out, contradictions = curve.x[int(np.argmax(curve.y))], []
    if v["n_n"] < pull_out:
        contradictions.append(
            Contradiction(
                f"at the rated speed {figure(v['n_n'], 'rpm')} the machine of these {given} is past its "
                f"pull-out at {figure(float(pull_out), 'rpm')} and falls to a standstill. Correct the "
                f"rated speed, pole pairs or {given}.",
                "n_n",
                fault=False,
            )
        )
    power = shaft_power(circuit(v, card), card)
    if abs(power / v["P_n"] - 1.0) > TOLERANCE:
        contradictions.append(
            Contradiction(
                f"nameplate and {given} contradict each other: at {figure(v['n_n'], 'rpm')} they give "
                f"{figure(power, 'W')} at the shaft, not {figure(v['P_n'], 'W')}. Check the rated speed, "
                "and whether values are of a phase or a line.",
                "P_n",
                fault=False,
            )
        )
    return contradictions


def torque_at(m: dict[str, float], card: Card, omega: float) -> float:
    """Torque (N·m) on the rated supply at a shaft speed (rad/s), by the equivalent circuit of a phase."""
    w = 2 * math.pi * m["f_n"]
    slip = 1 - m["p"] * omega / w
    if abs(slip) < 1e-9:
        return 0.0
    cages = ("1", "2") if card.choices.get("cages") == "double" else ("1",)
    branches = [1 / complex(m[f"R_r{k}"] / slip, w * m[f"L_r{k}"]) for k in cages]
    rotor = 1 / sum(branches)
    magnetising = 1j * w * m["L_m"]
    parallel = rotor * magnetising / (rotor + magnetising)
    phase = m["U_n"] / ROOT_3
    total = complex(m["R_s"], w * m["L_s"]) + parallel
    inner = phase * parallel / total
    air_gap = 3 * sum(abs(inner * y) ** 2 * (1 / y).real for y in branches)
    return float(air_gap * m["p"] / w)


def shaft_power(m: dict[str, float], card: Card) -> float:
    """W at the rated speed on the rated supply: what the air gap gives less friction and iron."""
    speed = m["n_n"]
    lost = m["b_m"] * speed**2 + m["P_fe"] * (speed / m["n_fe"]) ** 2
    return torque_at(m, card, speed) * speed - lost


def torque_curve(v: Values, card: Card) -> Curve:
    """Torque over speed on the rated supply; the rated point is marked. Iron is taken as linear."""
    m = circuit(v, card)
    rated = torque_at(m, card, v["n_n"]) if math.isnan(v["P_n"]) else v["P_n"] / v["n_n"]
    synchronous = 2 * math.pi * m["f_n"] / m["p"]
    speeds = np.concatenate([np.linspace(0, 0.8, 60), np.linspace(0.8, 1.0, 90)[1:]]) * synchronous
    torques = np.array([torque_at(m, card, w) for w in speeds])
    return Curve("Torque", "Speed", "rpm", "N·m", speeds, torques, mark=(v["n_n"], rated))


def follows(v: Values, card: Card) -> list[Figure]:
    m = circuit(v, card)
    w = 2 * math.pi * m["f_n"]
    synchronous = w / m["p"]
    curve = torque_curve(v, card)
    top = int(np.argmax(curve.y))
    rated = torque_at(m, card, v["n_n"])
    first = [
        Figure("Stator leakage", "L_σs", m["L_s"], "H"),
        Figure("Main inductance", "L_m", m["L_m"], "H"),
        Figure("Cage resistance", "R_r", m["R_r1"], "Ω"),
        Figure("Cage leakage", "L_σr", m["L_r1"], "H"),
    ]
    return [
        *(first if card.choices.get("entry") == "tests" else ()),
        Figure("Synchronous speed", "n_s", synchronous, "rpm"),
        Figure("Rated slip", "s_n", 1 - v["n_n"] / synchronous, "%"),
        Figure("Rated torque", "M_n", rated, "N·m"),
        Figure("Its shaft power", "P", shaft_power(m, card), "W"),
        Figure("Starting torque", "M_a", float(curve.y[0]), "N·m"),
        Figure("Pull-out torque", "M_k", float(curve.y[top]), "N·m"),
        Figure("Pull-out slip", "s_k", 1 - float(curve.x[top]) / synchronous, "%"),
        Figure("Rotor time constant", "T_r", (m["L_m"] + m["L_r1"]) / m["R_r1"], "s"),
        Figure(
            "No-load current, rms",
            "I_0",
            abs(m["U_n"] / ROOT_3 / complex(m["R_s"], w * (m["L_s"] + m["L_m"]))),
            "A",
        ),
    ]


def cage(number: str, r: str, leak: str) -> tuple[Value, Value]:
    return (
        Value(f"R_r{number}", f"Cage {number}, resistance", "Ω", r, low=0.0, open_low=True),
        Value(f"L_r{number}", f"Cage {number}, leakage", "mH", leak, low=0.0, open_low=True),
    )


KIND = Part(
    id="induction",
    title="Induction machine, squirrel cage",
    sentence="A three-phase machine with one or two cages, from circuit values or from its tests.",
    group="machine",
    keywords="asynchronous motor cage ac three-phase im acim generator nameplate locked rotor",
    ports=(*PORTS, HEAT_PORT, CAGE_PORT, IRON_PORT),
    choices=(
        Choice("entry", "Enter from", (("circuit", "circuit values"), ("tests", "no-load and locked-rotor test"))),
        Choice("cages", "Cages", (("single", "one"), ("double", "two"))),
        Choice("winding", "Winding", (("star", "star"), ("delta", "delta"))),
        Choice("iron", "Main flux", (("linear", "linear"), ("saturates", "saturates"))),
        Choice("frame", "Equations in", (("stator", "the stator's frame"), ("rotor", "the rotor's frame"))),
    ),
    values=(
        Value("p", "Pole pairs", "", "2", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("U_n", "Rated line voltage", "V", "400", low=0.0, open_low=True),
        Value("f_n", "Rated frequency", "Hz", "50", low=0.0, open_low=True),
        Value("n_n", "Rated speed", "rpm", "1460", low=0.0, open_low=True),
        Value("P_n", "Rated shaft power", "kW", "", low=0.0, open_low=True),
        Value("R_s", "Stator resistance", "Ω", "0.19", low=0.0, open_low=True),
        Value("L_s", "Stator leakage", "mH", "1.3", low=0.0, open_low=True),
        Value("L_m", "Main inductance", "mH", "38", low=0.0, open_low=True),
        *cage("1", "0.16", "1.5"),
        *cage("2", "0.6", "0.5"),
        Value("I_0", "No load: current", "A", "19", low=0.0, open_low=True),
        Value("P_0", "No load: power", "W", "520", low=0.0, open_low=True),
        Value("U_k", "Locked: voltage", "V", "85", low=0.0, open_low=True),
        Value("I_k", "Locked: current", "A", "52", low=0.0, open_low=True),
        Value("P_k", "Locked: power", "W", "2800", low=0.0, open_low=True),
        Value("psi_n", "Saturation at", "Wb", "1", low=0.0, open_low=True),
        Value("s_m", "More current there", "%", "25", low=0.0),
        Value("J_m", "Rotor inertia", "kg·m²", "0.18", low=0.0, open_low=True),
        Value("b_m", "Viscous friction", "N·m·s", "0.005", low=0.0),
        TEMPERATURE,
        *IRON,
    ),
    states=(
        *(
            State(f"psi_{w}_{n}", f"{words} along {sign}", "Wb")
            for w, words in (("s", "stator flux"), ("r1", "flux of cage 1"), ("r2", "flux of cage 2"))
            for n, sign in (("alpha", "α"), ("beta", "β"))
        ),
        State("omega", "speed", "rad/s"),
        State("phi", "angle", "rad"),
    ),
    signals=(
        *SIGNALS,
        Signal("rotor_flux", "rotor flux", "Wb"),
        Signal("main_flux", "main flux", "Wb"),
        Signal("flux_angle", "angle of the rotor flux", "rad", role=SignalRole.FIELD_ANGLE),
        Signal("flux_alpha", "rotor flux along α", "Wb", role=SignalRole.FLUX_ALPHA_BETA),
        Signal("flux_beta", "rotor flux along β", "Wb", role=SignalRole.FLUX_ALPHA_BETA),
        Signal("current_alpha", "current along α", "A"),
        Signal("current_beta", "current along β", "A"),
        Signal("cage_loss", "loss of the cage", "W"),
        Signal("iron_loss", "iron loss", "W"),
        WINDING_TEMPERATURE,
        CAGE_TEMPERATURE,
    ),
    build=build,
    equation_values=circuit,
    value_names_in_force=value_names_in_force,
    choice_names_in_force=lambda card: (
        {"entry", "cages", "iron", "frame"} | ({"winding"} if card.choices.get("entry") != "tests" else set())
    ),
    contradictions=contradictions,
    follows=follows,
    curve=torque_curve,
    potentials=lambda level: (("phases",),),
    summary=lambda v, card: ("induction", f"{v['p']} pole pairs"),
    main_signal="speed",
    spine="M3",
    usual=(("torque",), ("current",)),
)
