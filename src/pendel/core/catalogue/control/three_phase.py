"""Three-phase generator and modulator.

Schemes differ only in the voltage added to all three phases, which a load with open star point does not see:
Holmes, Lipo: Pulse Width Modulation for Power Converters, chapters 5 and 6 (from memory). A leg loses t_d·f_p of its
duty to dead time while a current flows out of it, and gains as much with one into it: Muñoz, Lipo: IEEE Trans. Power
Electron. 14 (1999) 683 (from memory); below the ripple the ripple itself turns the edges, so that less is lost.
"""

from __future__ import annotations

import math

from pendel.core.catalogue.control.generators import angle_counted_on, turning
from pendel.core.catalogue.control.ports import EVERY, TIMER, gives, reads
from pendel.core.catalogue.control.shapes import THIRD_HARMONIC
from pendel.core.catalogue.declare import ANY, Block, Choice, Figure, Value, Values
from pendel.core.catalogue.remarks import field_orientation
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole

PHASES = ("a", "b", "c")
SCHEMES = (
    ("space vector", "space vector"),
    ("sine", "sine"),
    ("third harmonic", "third harmonic"),
    ("clamped 60", "discontinuous, clamped for 60°"),
    ("clamped low", "discontinuous, clamped to minus"),
    ("block", "block operation"),
)


def update_generator(a, b, c, amplitude, turn, turn_more, phase, angle, started, dt):
    if started < 0.5:
        angle = phase
        started = 1.0
    a = amplitude * sin(angle)
    b = amplitude * sin(angle - 2.0943951023931957)
    c = amplitude * sin(angle + 2.0943951023931957)
    angle = angle + turn
    angle = angle + turn_more
    angle = wrapped(angle)


def update_modulator(u_a, u_b, u_c, u_link, d_a, d_b, d_c, U_dc, scheme, d_min, timer, dt):
    """A common voltage is added to the demands; the duties are those of the poles against half the link
    voltage."""
    link = u_link if u_link > 0.05 * U_dc else U_dc
    high = maximum(u_a, maximum(u_b, u_c))
    low = minimum(u_a, minimum(u_b, u_c))
    squares = u_a * u_a + u_b * u_b + u_c * u_c
    common = 0.0
    if scheme < 0.5:
        common = -0.5 * (high + low)
    elif scheme < 1.5:
        common = 0.0
    elif scheme < 2.5:
        part = saturate(u_a * u_a / squares, 0.0, 1.0) if squares > 1.5e-9 else 0.0
        common = 0.5 * u_a - u_a * part if squares > 1.5e-9 else 0.0
    elif scheme < 3.5:
        common = (0.5 * link - high) if high > -low else (-0.5 * link - low)
    elif scheme < 4.5:
        common = -0.5 * link - low
    d_a = saturate(0.5 + (u_a + common) / link, d_min, 1.0 - d_min)
    d_b = saturate(0.5 + (u_b + common) / link, d_min, 1.0 - d_min)
    d_c = saturate(0.5 + (u_c + common) / link, d_min, 1.0 - d_min)
    if scheme > 4.5:
        d_a = 1.0 if u_a > 0.0 else 0.0
        d_b = 1.0 if u_b > 0.0 else 0.0
        d_c = 1.0 if u_c > 0.0 else 0.0
    if timer > 0.5:
        d_a = floor(d_a * timer + 0.5) / timer
        d_b = floor(d_b * timer + 0.5) / timer
        d_c = floor(d_c * timer + 0.5) / timer


def update_compensation(d_a, d_b, d_c, a, b, c, out_a, out_b, out_c, lost, width, dt):
    """A leg that does not pulse has no dead time."""
    out_a = d_a
    out_b = d_b
    out_c = d_c
    if d_a > 0.0 and d_a < 1.0:
        out_a = saturate(d_a + lost * saturate(a / width, -1.0, 1.0), 0.0, 1.0)
    if d_b > 0.0 and d_b < 1.0:
        out_b = saturate(d_b + lost * saturate(b / width, -1.0, 1.0), 0.0, 1.0)
    if d_c > 0.0 and d_c < 1.0:
        out_c = saturate(d_c + lost * saturate(c / width, -1.0, 1.0), 0.0, 1.0)


def lost_share(v: Values, card: Card, period: float = 0.0):
    """Share of the link's voltage that dead time and devices take from a leg with a current out of it."""
    return {"lost": v["t_dead"] * v["f_p"] + v["U_dev"] / v["U_dc"], "width": v["i_0"]}


def voltage_put_back(v: Values, card: Card):
    return [Figure("Put back at most", "ΔU", lost_share(v, card)["lost"] * v["U_dc"], "V")]


def scheme_number(v: Values, card: Card, period: float):
    chosen = card.choices.get("scheme", SCHEMES[0][0])
    return {"scheme": float([name for name, _ in SCHEMES].index(chosen))}


def limits(v: Values, card: Card):
    chosen = card.choices.get("scheme", SCHEMES[0][0])
    most = {"sine": 0.5, "block": 2.0 / math.pi}.get(chosen, 1.0 / math.sqrt(3.0))
    word = "Fundamental of a phase, peak" if chosen == "block" else "Phase voltage at most, linear, peak"
    return [Figure(word, "û", most * v["U_dc"], "V")]


KINDS = (
    Block(
        id="three_phase_sine",
        title="Three-phase sine",
        sentence="Three sines a third of a turn apart.",
        group="setpoint",
        keywords="setpoint source generator three-phase alternating",
        ports=tuple(gives(n, f"Phase {n}") for n in PHASES),
        values=(
            Value("amplitude", "Amplitude", ANY, "1"),
            Value("f", "Frequency", "Hz", "50"),
            Value("shift", "Phase of a", "deg", "0"),
            EVERY,
        ),
        update=update_generator,
        stated_by=tuple((n, "amplitude") for n in PHASES),
        derive=turning("f", "shift"),
        from_first_tick=angle_counted_on("f", "shift"),
        summary=lambda v, card: (v["amplitude"], v["f"]),
        mark="3~",
    ),
    Block(
        id="three_phase_modulator",
        title="Three-phase modulator",
        sentence="Turns three phase voltages into the duties of an inverter.",
        group="modulation",
        keywords="pwm space vector svm third harmonic svpwm block six-step modulator",
        ports=(
            *(reads(f"u_{n}", f"Voltage demand {n}", unit="V") for n in PHASES),
            reads("u_link", "Link voltage", side="bottom", unit="V", required=False),
            *(gives(f"d_{n}", f"Duty {n}", unit="") for n in PHASES),
        ),
        values=(
            Value("U_dc", "Link voltage", "V", "560", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
            Value("d_min", "Duty at least", "%", "0", low=0.0, high=0.5),
            TIMER,
            EVERY,
        ),
        choices=(Choice("scheme", "Scheme", SCHEMES),),
        update=update_modulator,
        smooth={"timer": 0.0},
        derive=scheme_number,
        follows=limits,
        summary=lambda v, card: (card.choices.get("scheme", SCHEMES[0][0]), v["U_dc"]),
        shape=THIRD_HARMONIC,
        remarks=(field_orientation.swapped_voltages,),
    ),
    Block(
        id="dead_time_compensation",
        title="Dead-time compensation",
        sentence="Adds to three duties what dead time and devices take from them, by the currents' directions.",
        group="modulation",
        keywords="dead time blanking compensation inverter distortion volt drop duty sensorless",
        ports=(
            *(reads(f"d_{n}", f"Duty {n}", unit="") for n in PHASES),
            *(reads(n, f"Current of {n}", unit="A") for n in PHASES),
            *(gives(f"out_{n}", f"Compensated duty {n}", unit="") for n in PHASES),
        ),
        values=(
            Value("t_dead", "Dead time", "µs", "1", low=0.0),
            Value("f_p", "Pulse frequency", "kHz", "10", low=0.0, open_low=True),
            Value("U_dev", "Drop of a device", "V", "1", low=0.0),
            Value("U_dc", "Link voltage", "V", "560", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
            Value("i_0", "In proportion below", "A", "1", low=0.0, open_low=True),
            EVERY,
        ),
        update=update_compensation,
        derive=lost_share,
        smooth={"lost": 0.0},
        follows=voltage_put_back,
        summary=lambda v, card: (v["t_dead"],),
        mark="t_d",
    ),
)
