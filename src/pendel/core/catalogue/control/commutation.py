"""Block commutation: from Hall signals to a sector, and from the sector to the legs that are driven.

Sector 1 begins where sensor a comes on, 30 electrical degrees after the EMF of phase a crosses zero upwards;
each lasts 60°. Common practice, no source.
"""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block, Choice, Value
from pendel.core.catalogue.remarks import rotor_angle
from pendel.core.vocabulary import SignalRole, ValueRole


def update_decoder(h_a, h_b, h_c, sector, speed, angle, p, last, count, before, way, steady, started, dt):
    """Speed from the time between the last two edges of one direction; while none comes it falls as one over
    the time waited."""
    code = h_a + 2.0 * h_b + 4.0 * h_c
    if code < 1.5:
        sector = 2.0 if code > 0.5 else 0.0
    elif code < 3.5:
        sector = 4.0 if code < 2.5 else 3.0
    elif code < 5.5:
        sector = 6.0 if code < 4.5 else 1.0
    else:
        sector = 5.0 if code < 6.5 else 0.0
    if started < 0.5:
        last = sector
        started = 1.0
    count = count + 1.0
    step = sector - last
    if sector > 0.5 and absolute(step) > 0.5:
        now = 1.0
        if step < 0.0:
            now = -1.0
        if absolute(step) > 3.0:
            now = -now
        steady = 1.0 if now * way > 0.0 else 0.0
        before = count
        way = now
        count = 0.0
        last = sector
    speed = 0.0
    if steady > 0.5:
        speed = way * 1.0471975511965976 / (maximum(maximum(before, count), 1.0) * dt) / p
    angle = (sector - 1.0) * 1.0471975511965976 + 1.0471975511965976


def update_six_step(sector, voltage, d_a, d_b, d_c, U_dc, at_plus, dt):
    """The driven legs by the sector's row; a leg that is open gets −1. A voltage below zero swaps plus and
    minus. The leg at plus pulses for ``at_plus`` of the voltage, the one at minus for the rest."""
    a = 0.0
    b = 0.0
    c = 0.0
    if sector > 0.5:
        a = 1.0 if sector < 2.5 else (-1.0 if sector > 3.5 and sector < 5.5 else 0.0)
        b = 1.0 if sector > 2.5 and sector < 4.5 else (-1.0 if sector < 1.5 or sector > 5.5 else 0.0)
        c = -a - b
    share = saturate(voltage / U_dc, -1.0, 1.0)
    if share < 0.0:
        share = -share
        a = -a
        b = -b
        c = -c
    high = 1.0 - at_plus + at_plus * share
    low = (1.0 - at_plus) * (1.0 - share)
    d_a = high if a > 0.5 else (low if a < -0.5 else -1.0)
    d_b = high if b > 0.5 else (low if b < -0.5 else -1.0)
    d_c = high if c > 0.5 else (low if c < -0.5 else -1.0)


PULSED = Choice(
    "pulsed",
    "Pulses on",
    (
        ("upper", "the leg at plus; the other stays at minus"),
        ("lower", "the leg at minus; the other stays at plus"),
        ("both", "both legs, against each other"),
    ),
)
KINDS = (
    Block(
        id="hall_decoder",
        title="Hall decoder",
        sentence="Sector and speed from three Hall sensors, by the time between edges.",
        group="transform",
        keywords="hall sector block commutation bldc speed timing six-step position",
        ports=(
            *(reads(f"h_{n}", f"Sensor {n}", unit="", role=SignalRole.HALL_LINE) for n in "abc"),
            gives("sector", "Sector, 1 to 6", unit="", role=SignalRole.SECTOR),
            gives("speed", "Shaft speed", unit="rad/s"),
            gives("angle", "Middle of the sector, electrical", unit="rad"),
        ),
        values=(Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS), EVERY),
        update=update_decoder,
        turns=frozenset({"angle"}),
        summary=lambda v, card: (f"{v['p']} pole pairs",),
        mark="1…6",
        remarks=(rotor_angle.hall_fault,),
    ),
    Block(
        id="six_step",
        title="Block commutation",
        sentence="Drives two legs of three by the sector's row of a table; the third is open.",
        group="modulation",
        keywords="six-step bldc block hall commutation table trapezoidal sector",
        ports=(
            reads("sector", "Sector", unit=""),
            reads("voltage", "Voltage between the driven lines", unit="V"),
            *(gives(f"d_{n}", f"Duty {n}, below 0 open", unit="") for n in "abc"),
        ),
        values=(
            Value("U_dc", "Link voltage", "V", "24", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
            EVERY,
        ),
        choices=(PULSED,),
        update=update_six_step,
        derive=lambda v, card, period: {
            "at_plus": {"lower": 0.0, "both": 0.5}.get(card.choices.get("pulsed", "upper"), 1.0)
        },
        summary=lambda v, card: (v["U_dc"],),
        shape=((0, 0.5), (0.16, 0.5), (0.16, 1), (0.5, 1), (0.5, 0.5), (0.66, 0.5), (0.66, 0), (1, 0)),
    ),
)
