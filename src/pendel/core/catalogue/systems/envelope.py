"""A machine with its converter and its current loops, as whoever looks at a trip sees it: limits, a lag, losses.

M follows what is asked within ±min(M_max, P_max/|ω|), which the link derates below a voltage; P_dc = M ω + P_loss.
Where a speed is asked, too, K_w (ω* − ω) adds to the torque that is asked, at once: a speed loop in the converter
is faster than whoever decides about a trip.
P_loss = P_0 + k_w |ω| + k_ww ω² + k_M |M| + P_M (M/M_max)² + k_P |M ω| + k_PM |ω| (M/M_max)² (losses by their
causes: at standstill, hysteresis, eddy currents and air, drops of devices, copper, switching and iron under load;
Guzzella, Sciarretta: Vehicle Propulsion Systems, chapter 4; from memory)."""

from __future__ import annotations

from collections.abc import Callable

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Figure, Link, Part, Port, Signal, State, Value, Values
from pendel.core.catalogue.heat.port import heat_port
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.settled import Turner
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Remark
from pendel.core.equations.context import PartContext
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Group, SignalRole

TURN = Port(
    "speed", Link.SIGNAL_IN, "Speed that is asked", "bottom", required=False, role=SignalRole.SETPOINT, unit="rad/s"
)
ASK = Port("torque", Link.SIGNAL_IN, "Torque that is asked", "bottom", role=SignalRole.SETPOINT, unit="N·m")


def terms_at(c: PartContext, speed: ca.SX, torque: ca.SX) -> ca.SX:
    """P_loss of the module's head."""
    size = ca.fabs(speed)
    return (
        c.value("P_0")
        + c.value("k_w") * size
        + c.value("k_ww") * speed * speed
        + c.value("k_M") * ca.fabs(torque)
        + c.value("k_P") * size * ca.fabs(torque)
        + (c.value("P_M") + c.value("k_PM") * size) * (torque / c.value("M_max")) ** 2
    )


def build(c: PartContext) -> None:
    state(c, terms_at)


def state(c: PartContext, loss_at: Callable[[PartContext, ca.SX, ca.SX], ca.SX]) -> None:
    """The equations, with the loss at a speed and a torque."""
    u, i = c.pair("dc")
    speed, through = c.flange("shaft")
    torque, slope = c.state("M")
    asked = c.input("torque") + c.value("K_w") * (c.input("speed") - speed)
    size = ca.fabs(speed)
    share = ca.fmin(1, ca.fmax(0, (u - c.value("U_low")) / (c.value("U_full") - c.value("U_low"))))
    most = share * ca.fmin(c.value("M_max"), c.value("P_max") / ca.fmax(size, c.value("P_max") / c.value("M_max")))
    allowed = ca.fmax(-most, ca.fmin(most, asked))
    c.equation(c.value("T_lag") * slope - (allowed - torque))
    c.equation(through + torque)
    taken = (torque * speed + loss_at(c, speed, torque)) / ca.fmax(
        u, c.value("U_low") / 2
    )  # no current without end from a dead link
    c.equation(i - taken)
    c.signal("torque", torque)
    c.signal("speed", speed)
    c.signal("power", torque * speed)
    c.signal("link_power", u * i)
    c.signal("current", i)
    c.signal("loss", u * i - torque * speed)
    c.signal("most", most)
    c.signal("missing", asked - allowed)
    c.lost(u * i - torque * speed)


TERMS = ("P_0", "k_w", "k_ww", "P_M", "k_M", "k_P", "k_PM")
"""Values of the losses, which are a sum of them."""
UNITS = {"P_0": "W", "k_w": "W*s", "k_ww": "W*s^2", "P_M": "W", "k_M": "W/N/m", "k_P": "%", "k_PM": "W*s"}
ASKED = "constant"
"""What asks for a torque on a bench."""


def loss_terms(speed: np.ndarray | float, torque: np.ndarray | float, largest: float) -> np.ndarray:
    """What each of `TERMS` is multiplied by at speeds (rad/s) and torques (N·m); shape (…, 7)."""
    w, m = np.abs(speed), np.abs(torque)
    square = (m / largest) ** 2
    return np.stack(np.broadcast_arrays(1.0 + 0 * w, w, w * w, square, m, w * m, w * square), axis=-1)


def most_torque(v: Values, card: Card, speed: np.ndarray) -> np.ndarray:
    """What it may give at speeds (rad/s) where its link has all its voltage."""
    return np.minimum(v["M_max"], v["P_max"] / np.maximum(np.abs(speed), v["P_max"] / v["M_max"]))


def loss_of_terms(v: Values, card: Card, speed: np.ndarray, torque: np.ndarray) -> np.ndarray:
    lost: np.ndarray = loss_terms(speed, torque, v["M_max"]) @ np.array([v[name] for name in TERMS])
    return lost


def short_of_torque(seen: Seen, key: str) -> Remark | None:
    """More torque was asked for long than it may give."""
    run, card = seen.run, seen.drive.cards[key]
    missing, most = run.on_rows([f"{key}.missing", f"{key}.most"], slice(None)).T
    t = run.rows[:, 0]
    short = np.abs(missing) > 0.02 * max(float(most.max()), 1e-9)
    lasts = float(np.sum(np.diff(t)[short[1:]])) if len(t) > 1 else 0.0
    if lasts < 0.02 * float(t[-1] - t[0]):
        return None
    first = float(t[int(np.argmax(short))])
    return Remark(
        f"{card.name} gives less torque than is asked for {figure(lasts, 's', 3)} in all, first at "
        f"{figure(first, 's', 4)}; {figure(float(np.abs(missing).max()), 'N·m', 3)} are missing at most. Its limits "
        "or its link voltage are in the way.",
        key,
        first,
    )


def follows(v: Values, card: Card) -> list[Figure]:
    corner = v["P_max"] / v["M_max"]
    loss = float(loss_terms(corner, v["M_max"], v["M_max"]) @ [v[name] for name in TERMS])
    return [
        Figure("Corner speed", "n_c", corner, "rpm"),
        Figure("Efficiency there", "η", v["P_max"] / (v["P_max"] + loss), "%"),
    ]


PORTS = (Port("dc", Link.DC, "DC link", "left"), Port("shaft", Link.SHAFT, "Shaft", "right"), ASK, TURN, heat_port())
LIMITS = (
    Value("M_max", "Largest torque", "N·m", "120", low=0.0, open_low=True),
    Value("P_max", "Largest power", "kW", "20", low=0.0, open_low=True),
    Value("T_lag", "Lag of the torque", "ms", "20", low=0.0, open_low=True),
    Value("K_w", "Torque by speed", "N·m·s", "0", low=0.0),
    Value("U_low", "No torque below", "V", "60", low=0.0),
    Value("U_full", "All torque from", "V", "80", low=0.0, open_low=True),
)
LOSSES = (
    Value("P_0", "Loss at standstill", "W", "60", low=0.0),
    Value("k_w", "Loss by speed", "W·s/rad", "0.4", low=0.0),
    Value("k_ww", "Loss by speed²", "W·s²/rad²", "0.0012", low=0.0),
    Value("P_M", "Loss at largest torque", "W", "1600", low=0.0),
    Value("k_M", "Loss by torque", "W/N/m", "0", low=0.0),
    Value("k_P", "Loss by power", "%", "0", low=0.0),
    Value("k_PM", "Loss by both", "W·s/rad", "0", low=0.0),
)
STATES = (State("M", "torque", "N·m"),)
SIGNALS = (
    Signal("torque", "torque", "N·m", role=SignalRole.TORQUE),
    Signal("speed", "speed", "rad/s", role=SignalRole.SPEED),
    Signal("power", "power at the shaft", "W"),
    Signal("link_power", "power of the link", "W"),
    Signal("current", "link current", "A"),
    Signal("loss", "loss", "W"),
    Signal("most", "torque that it may give", "N·m"),
    Signal("missing", "torque asked beyond that", "N·m"),
)
KIND = Part(
    id="machine_envelope",
    title="Machine and converter, by limits and losses",
    sentence="What a drive gives and takes over a trip: torque and power limit, a lag, losses.",
    group=Group.MACHINE,
    keywords="envelope traction system trip efficiency map loss vehicle generator",
    ports=PORTS,
    values=(*LIMITS, *LOSSES),
    states=STATES,
    signals=SIGNALS,
    build=build,
    usual=(("torque", "missing"), ("link_power", "power")),
    follows=follows,
    remarks=(short_of_torque,),
    summary=lambda v, card: (v["M_max"], v["P_max"]),
    main_signal="power",
    spine="M",
    settled=Turner(loss=loss_of_terms, most=most_torque, link_power="link_power"),
)
