"""The rotor flux of an induction machine: from currents and speed, and without a shaft sensor.

Current model in the frame of the flux: T_r·dψ/dt = L_m·i_d − ψ, slip ω_s = L_m·i_q/(T_r·ψ); Leonhard: Control
of Electrical Drives, 3rd ed., section 12.2. Estimator: a reference model of the stator and an adaptive model
of the rotor, whose speed a PI regulator turns until both fluxes have one direction; Schauder: IEEE Trans.
Ind. Appl. 28 (1992) 1054."""

from __future__ import annotations

import math

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block, Figure, Value, Values
from pendel.core.catalogue.remarks import field_orientation
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update_model(a, b, c, speed, d, q, flux, angle, ahead, field, p, L_m, T_r, least, lead, size, theta, dt):
    """The angle is carried on with shaft and slip; ``ahead`` is where it will be when the voltage acts."""
    x = 0.6666666666666666 * a - 0.3333333333333333 * (b + c)
    y = 0.5773502691896258 * (b - c)
    angle = theta
    d = x * cos(theta) + y * sin(theta)
    q = y * cos(theta) - x * sin(theta)
    size = size + dt / T_r * (L_m * d - size)
    flux = size
    field = p * speed + L_m * q / (T_r * maximum(size, least))
    ahead = theta + lead * field * dt
    theta = theta + field * dt
    theta = wrapped(theta)


def update_estimator(
    u_a,
    u_b,
    u_c,
    a,
    b,
    c,
    speed,
    flux,
    angle,
    ahead,
    p,
    R_s,
    L_m,
    T_r,
    leak,
    share,
    K,
    T_i,
    w_max,
    corner,
    lead,
    wait,
    late_x,
    late_y,
    old_x,
    old_y,
    ref_x,
    ref_y,
    rot_x,
    rot_y,
    low_x,
    low_y,
    integral,
    w,
    dt,
):
    """The voltage that acted since the tick before was demanded one tick earlier, with a computing delay two.
    The integrals of the stator leak at the corner, and the adaptive flux passes the same high pass, so that
    both lose the same."""
    i_x = 0.6666666666666666 * a - 0.3333333333333333 * (b + c)
    i_y = 0.5773502691896258 * (b - c)
    acted_x = old_x if wait > 0.5 else late_x
    acted_y = old_y if wait > 0.5 else late_y
    ref_x = ref_x + dt * (acted_x - R_s * i_x - corner * ref_x)
    ref_y = ref_y + dt * (acted_y - R_s * i_y - corner * ref_y)
    stator_x = (ref_x - leak * i_x) / share
    stator_y = (ref_y - leak * i_y) / share
    turned_x = rot_x * cos(w * dt) - rot_y * sin(w * dt)
    turned_y = rot_y * cos(w * dt) + rot_x * sin(w * dt)
    rot_x = turned_x + dt / T_r * (L_m * i_x - turned_x)
    rot_y = turned_y + dt / T_r * (L_m * i_y - turned_y)
    low_x = low_x + dt * corner * (rot_x - low_x)
    low_y = low_y + dt * corner * (rot_y - low_y)
    x = rot_x - low_x
    y = rot_y - low_y
    size = x * x + y * y
    error = (x * stator_y - y * stator_x) / maximum(size, 0.0001)
    integral = integral + K * dt / T_i * error
    integral = saturate(integral, -w_max, w_max)
    w = integral + K * error
    speed = integral / p
    flux = sqrt(rot_x * rot_x + rot_y * rot_y)
    angle = atan2(rot_y, rot_x)
    ahead = angle + lead * dt * w
    old_x = late_x
    old_y = late_y
    late_x = 0.6666666666666666 * u_a - 0.3333333333333333 * (u_b + u_c)
    late_y = 0.5773502691896258 * (u_b - u_c)


def derive_model(v: Values, card: Card, period: float):
    return {"L_m": v["L_m"], "T_r": (v["L_m"] + v["L_r"]) / v["R_r"]}


def derive_estimator(v: Values, card: Card, period: float):
    """Leakage seen from the stator, σL_s, and the share L_m/L_r of the main flux."""
    share = v["L_m"] / (v["L_m"] + v["L_r"])
    return {
        **derive_model(v, card, period),
        "share": share,
        "leak": v["L_s"] + v["L_m"] * (1.0 - share),
        "corner": 2.0 * math.pi * v["f_c"],
        "w_max": v["p"] * v["n_max"],
    }


def constants(v: Values, card: Card):
    share = v["L_m"] / (v["L_m"] + v["L_r"])
    figures = [Figure("Rotor time constant", "T_r", (v["L_m"] + v["L_r"]) / v["R_r"], "s")]
    if "L_s" in v:
        figures.append(Figure("Leakage from the stator", "σL_s", v["L_s"] + v["L_m"] * (1.0 - share), "H"))
    return figures


ROTOR = (
    Value("L_m", "Main inductance", "mH", "38", low=0.0, open_low=True),
    Value("L_r", "Cage leakage", "mH", "1.5", low=0.0, open_low=True),
    Value("R_r", "Cage resistance", "Ω", "0.16", low=0.0, open_low=True),
)
PAIRS = Value("p", "Pole pairs", "", "2", low=1.0, whole=True, role=ValueRole.POLE_PAIRS)
LEAD = Value("lead", "Ticks ahead", "", "1.5", low=0.0, high=10.0)
CURRENTS = tuple(reads(n, f"Current of {n}", unit="A") for n in ("a", "b", "c"))
FLUX = (
    gives("flux", "Rotor flux", unit="Wb"),
    gives("angle", "Angle of the flux", unit="rad"),
    gives("ahead", "Angle when the voltage acts", unit="rad"),
)
KINDS = (
    Block(
        id="rotor_flux_model",
        title="Rotor flux model",
        sentence="Flux and its angle from currents and speed, and the currents in its frame.",
        group="transform",
        keywords="induction field orientation foc current model slip cage",
        ports=(
            *CURRENTS,
            reads("speed", "Shaft speed", unit="rad/s"),
            gives("d", "Current along d", unit="A"),
            gives("q", "Current along q", unit="A"),
            *FLUX,
            gives("field", "Speed of the field", unit="rad/s"),
        ),
        values=(
            PAIRS,
            *ROTOR,
            Value("least", "Flux taken at least", "Wb", "0.05", low=0.0, open_low=True),
            LEAD,
            EVERY,
        ),
        update=update_model,
        turns=frozenset({"angle", "ahead"}),
        derive=derive_model,
        follows=constants,
        summary=lambda v, card: (v["R_r"],),
        mark="ψ",
        remarks=(field_orientation.swapped_currents,),
    ),
    Block(
        id="speed_estimator",
        title="Speed estimator",
        sentence="Speed and flux of an induction machine without a shaft sensor.",
        group="transform",
        keywords="sensorless mras model reference adaptive induction flux observer",
        ports=(
            *(reads(f"u_{n}", f"Voltage demand {n}", unit="V") for n in ("a", "b", "c")),
            *CURRENTS,
            gives("speed", "Shaft speed", unit="rad/s"),
            *FLUX,
        ),
        values=(
            PAIRS,
            Value("R_s", "Stator resistance", "Ω", "0.19", low=0.0),
            Value("L_s", "Stator leakage", "mH", "1.3", low=0.0),
            *ROTOR,
            Value("K", "Gain of the adaptation", "rad/s", "300", low=0.0),
            Value("T_i", "Integral time", "ms", "8", low=0.0, open_low=True),
            Value("f_c", "Integrals leak below", "Hz", "3", low=0.0),
            Value("n_max", "Speed at most", "rpm", "20000", low=0.0, open_low=True),
            Value("wait", "Computing delay", "", "1", low=0.0, high=1.0, whole=True),
            LEAD,
            EVERY,
        ),
        update=update_estimator,
        turns=frozenset({"angle", "ahead"}),
        only_turning=True,
        holds=frozenset({"u_a", "u_b", "u_c"}),
        derive=derive_estimator,
        follows=constants,
        summary=lambda v, card: (f"from {v['f_c']}",),
        mark="ω̂",
        remarks=(field_orientation.estimate_off,),
    ),
)
