"""The driver of a vehicle: follows a plan of its speed, knowing what the vehicle is, and brakes with both brakes.

M = r (m dv*/dt + f_0 + f_1 v* + f_2 v*²) + K_p e + K_p/T_i ∫ e dt, for the axle or, with r the wheel's radius over
the gear's ratio, the machine. What is below the lowest torque goes to the
friction brake; standing, that alone holds."""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, limits_cross, reads
from pendel.core.catalogue.control.regulators import LOOP, closed
from pendel.core.catalogue.declare import Block, Link, Port, Value
from pendel.core.catalogue.remarks.plan import plan_left
from pendel.core.controllers.deck import Regulation
from pendel.core.vocabulary import SignalRole, ValueRole


def update(
    setpoint,
    actual,
    out,
    brake,
    K_p,
    T_i,
    r,
    m,
    f_0,
    f_1,
    f_2,
    low,
    high,
    full,
    v_0,
    closed,
    integral,
    last,
    started,
    dt,
):
    if started < 0.5:
        last = setpoint
        started = 1.0
    pull = m * ((setpoint - last) / dt) + (f_1 + f_2 * absolute(setpoint)) * setpoint
    if absolute(setpoint) > v_0:
        pull = pull + (f_0 if setpoint > 0.0 else -f_0)
    last = setpoint
    e = setpoint - actual
    step = K_p * e * dt / T_i
    wanted = K_p * e + (integral + step) + r * pull
    out = saturate(wanted, low, high)
    brake = minimum(maximum((low - wanted) / full, 0.0), 1.0)
    if not ((wanted > high and e > 0.0) or (wanted < low - full and e < 0.0)):
        integral = saturate(integral + step, low, high)
    if closed < 0.5:
        integral = 0.0
        out = 0.0
        brake = 0.0
    if absolute(setpoint) < v_0 and absolute(actual) < v_0:
        integral = 0.0
        out = 0.0
        brake = 1.0


KIND = Block(
    id="driver",
    title="Driver",
    sentence="Follows a plan of a vehicle's speed with machine and brake, knowing what the vehicle needs.",
    group="regulator",
    keywords="trip cycle vehicle car speed plan brake blending feed-forward cruise",
    ports=(
        reads("setpoint", "Plan", role=SignalRole.SETPOINT, unit="m/s"),
        reads("actual", "Speed", role=SignalRole.ACTUAL, unit="m/s"),
        Port("out", Link.SIGNAL_OUT, "Torque", "right", unit="N·m"),
        Port("brake", Link.SIGNAL_OUT, "Brake, 0 to 1", "right"),
    ),
    choices=(LOOP,),
    opens=LOOP.name,
    values=(
        Value("K_p", "Torque by speed", "N·m·s/m", "400", low=0.0, role=ValueRole.GAIN),
        Value("T_i", "Patience", "s", "8", low=0.0, open_low=True),
        Value("r", "Force to torque", "m", "0.29", low=0.0),
        Value("m", "Mass", "kg", "1248", low=0.0),
        Value("f_0", "Rolling resistance", "N", "120", low=0.0),
        Value("f_1", "Drag by speed", "N·s/m", "0.8", low=0.0),
        Value("f_2", "Air", "N·s²/m²", "0.42", low=0.0),
        Value("low", "Lowest torque", "N·m", "-600"),
        Value("high", "Largest torque", "N·m", "900"),
        Value("full", "Full brake, beyond", "N·m", "600", low=0.0, open_low=True),
        Value("v_0", "Stands below", "m/s", "0.1", low=0.0, open_low=True),
        EVERY,
    ),
    update=update,
    derive=closed,
    passes_unit=False,
    contradictions=limits_cross,
    regulates=(Regulation(gains={"K_p": "K_p", "T_i": "T_i"}),),
    remarks=(plan_left,),
    summary=lambda v, card: (f"{v['K_p']} / {v['T_i']}",),
    shape=((0, 0), (0.2, 0), (0.35, 0.8), (0.6, 0.8), (0.75, 0.3), (1, 0.3)),
)
