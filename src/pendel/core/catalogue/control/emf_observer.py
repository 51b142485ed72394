"""Angle and speed of a synchronous machine from voltages and currents, without a shaft sensor.

The extended EMF e = u − R·i − L_d·di/dt + ω·(L_d − L_q)·J·i lies along q, whatever the saliency (Chen,
Tomita, Doki, Okuma: IEEE Trans. Ind. Electron. 50 (2003) 288). A first-order observer filters it without a
derivative; a phase-locked loop turns a frame until e lies along its q axis. At low speed there is no EMF:
below a share of it the frame goes on as it turned."""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block, Figure, Value, Values
from pendel.core.catalogue.remarks import field_orientation
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update_observer(
    u_a,
    u_b,
    u_c,
    a,
    b,
    c,
    angle,
    ahead,
    speed,
    emf,
    p,
    R,
    L_d,
    L_q,
    corner,
    w_b,
    w_max,
    e_min,
    lead,
    wait,
    late_x,
    late_y,
    old_x,
    old_y,
    y_x,
    y_y,
    theta,
    w,
    dt,
):
    """The voltage that acted since the tick before was demanded one tick earlier, with a computing delay two.
    With backward differences the voltage of L_d is taken out exactly. The filter lags by the angle of 1 +
    jω/g and half a tick, which are added again; theta is by then that of the next tick."""
    i_x = 0.6666666666666666 * a - 0.3333333333333333 * (b + c)
    i_y = 0.5773502691896258 * (b - c)
    acted_x = old_x if wait > 0.5 else late_x
    acted_y = old_y if wait > 0.5 else late_y
    step = corner * dt / (1.0 + corner * dt)
    held = corner * L_d
    e_x = y_x - held * i_x
    e_y = y_y - held * i_y
    more = w * (L_d - L_q)
    y_x = y_x + step * (acted_x - R * i_x - more * i_y - e_x)
    y_y = y_y + step * (acted_y - R * i_y + more * i_x - e_y)
    e_x = y_x - held * i_x
    e_y = y_y - held * i_y
    emf = sqrt(e_x * e_x + e_y * e_y)
    way = 1.0 if w >= 0.0 else -1.0
    error = 0.0
    if emf > e_min:
        error = saturate(-way * (e_x * cos(theta) + e_y * sin(theta)) / emf, -1.0, 1.0)
    theta = wrapped(theta + dt * (w + 1.4142135623730951 * w_b * error))
    w = w + dt * w_b * w_b * error
    w = saturate(w, -w_max, w_max)
    speed = w / p
    angle = wrapped(theta - 0.5 * w * dt + atan2(w, corner))
    ahead = wrapped(angle + lead * w * dt)
    old_x = late_x
    old_y = late_y
    late_x = 0.6666666666666666 * u_a - 0.3333333333333333 * (u_b + u_c)
    late_y = 0.5773502691896258 * (u_b - u_c)


def rates(v: Values, card: Card, period: float):
    return {"corner": 6.283185307179586 * v["f_c"], "w_b": 6.283185307179586 * v["f_b"], "w_max": v["p"] * v["n_max"]}


def slowest(v: Values, card: Card):
    w = v["e_min"] / v["psi"] if v["psi"] > 0 else float("nan")
    return [Figure("Finds the angle from", "n", w / v["p"], "rpm")]


KIND = Block(
    id="emf_observer",
    title="EMF observer",
    sentence="Angle and speed of a synchronous machine from its voltages and currents.",
    group="transform",
    keywords="sensorless back-emf bemf pmsm observer estimator extended pll angle speed",
    ports=(
        *(reads(f"u_{n}", f"Voltage demand {n}", unit="V") for n in "abc"),
        *(reads(n, f"Current of {n}", unit="A") for n in "abc"),
        gives("angle", "Electrical angle", unit="rad"),
        gives("ahead", "Angle when the voltage acts", unit="rad"),
        gives("speed", "Shaft speed", unit="rad/s"),
        gives("emf", "EMF", unit="V"),
    ),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("R", "Phase resistance", "mΩ", "40", low=0.0),
        Value("L_d", "Inductance along d", "mH", "0.9", low=0.0, open_low=True),
        Value("L_q", "Inductance along q", "mH", "1.4", low=0.0, open_low=True),
        Value("psi", "Magnet flux", "Wb", "0.32", low=0.0),
        Value("f_c", "Filter of the EMF", "Hz", "400", low=0.0, open_low=True),
        Value("f_b", "Angle bandwidth", "Hz", "30", low=0.0, open_low=True),
        Value("e_min", "EMF at least", "V", "5", low=0.0),
        Value("n_max", "Speed at most", "rpm", "20000", low=0.0, open_low=True),
        Value("wait", "Computing delay", "", "1", low=0.0, high=1.0, whole=True),
        Value("lead", "Ticks ahead", "", "1.5", low=0.0, high=10.0),
        EVERY,
    ),
    update=update_observer,
    holds=frozenset({"u_a", "u_b", "u_c"}),
    turns=frozenset({"angle", "ahead"}),
    only_turning=True,
    derive=rates,
    follows=slowest,
    summary=lambda v, card: (f"from {v['e_min']}",),
    mark="ϑ̂",
    remarks=(field_orientation.estimate_off,),
)
