"""Clarke and Park transforms, the current regulator in the rotor's frame, and torque to currents.

Transforms: Krishnan: Electric Motor Drives, section 5.7 (from memory). Decoupling and voltage limit: Leonhard:
Control of Electrical Drives, 3rd ed., chapter 14. Most torque per ampere and field weakening: Morimoto, Takeda,
Hirasa, Taniguchi: IEEE Trans. Ind. Appl. 26 (1990) 866.
"""

from __future__ import annotations

import math

import numpy as np

from pendel.core.catalogue.control.maps import lacking, packed
from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import (
    Block,
    Choice,
    Contradiction,
    Figure,
    Value,
    Values,
)
from pendel.core.catalogue.machines import flux
from pendel.core.catalogue.remarks import field_orientation, rotor_angle
from pendel.core.controllers.deck import Regulation
from pendel.core.drive.document import Card
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import ValueRole

PHASES = ("a", "b", "c")


def update_clarke(a, b, c, alpha, beta, scale, dt):
    alpha = scale * (0.6666666666666666 * a - 0.3333333333333333 * (b + c))
    beta = scale * 0.5773502691896258 * (b - c)


def update_inverse_clarke(alpha, beta, a, b, c, scale, dt):
    x = alpha / scale
    y = beta / scale
    a = x
    b = 0.8660254037844386 * y - 0.5 * x
    c = -0.8660254037844386 * y - 0.5 * x


def update_park(alpha, beta, angle, d, q, dt):
    d = alpha * cos(angle) + beta * sin(angle)
    q = beta * cos(angle) - alpha * sin(angle)


def update_inverse_park(d, q, angle, alpha, beta, dt):
    alpha = d * cos(angle) - q * sin(angle)
    beta = d * sin(angle) + q * cos(angle)


def update_to_dq(a, b, c, angle, d, q, scale, dt):
    x = scale * (0.6666666666666666 * a - 0.3333333333333333 * (b + c))
    y = scale * 0.5773502691896258 * (b - c)
    d = x * cos(angle) + y * sin(angle)
    q = y * cos(angle) - x * sin(angle)


def update_from_dq(d, q, angle, a, b, c, scale, dt):
    x = (d * cos(angle) - q * sin(angle)) / scale
    y = (d * sin(angle) + q * cos(angle)) / scale
    a = x
    b = 0.8660254037844386 * y - 0.5 * x
    c = -0.8660254037844386 * y - 0.5 * x


def update_electrical_angle(position, angle, ahead, speed, p, offset, lead, last, started, dt):
    """The angle of the field from that of the shaft, and where it will be when the voltage acts. The shaft's
    angle may come within one turn or beyond: what the field moved since the last tick is the shorter way
    round."""
    angle = wrapped(p * position + offset)
    if started < 0.5:
        last = angle
        started = 1.0
    speed = wrapped(angle - last) / dt
    last = angle
    ahead = wrapped(angle + lead * speed * dt)


def update_regulator(
    set_d,
    set_q,
    d,
    q,
    speed,
    u_link,
    u_d,
    u_q,
    K_d,
    T_d,
    K_q,
    T_q,
    L_d,
    L_q,
    psi,
    U_dc,
    share,
    decoupled,
    sum_d,
    sum_q,
    dt,
):
    """Two PI regulators; the voltage they ask for beyond the limit winds their integrals back. The d axis
    goes first."""
    link = u_link if u_link > 0.05 * U_dc else U_dc
    most = share * link * 0.5773502691896258
    e_d = set_d - d
    e_q = set_q - q
    free_d = K_d * e_d + sum_d - decoupled * speed * L_q * q
    free_q = K_q * e_q + sum_q + decoupled * speed * (L_d * d + psi)
    u_d = saturate(free_d, -most, most)
    room = sqrt(maximum(most * most - u_d * u_d, 0.0))
    u_q = saturate(free_q, -room, room)
    sum_d = sum_d + (K_d * e_d + u_d - free_d) * dt / T_d
    sum_q = sum_q + (K_q * e_q + u_q - free_q) * dt / T_q


def update_by_tables(set_d, set_q, d, q, speed, u_link, u_d, u_q, f_c, R, U_dc, share, table, sum_d, sum_q, dt):
    """As the regulator with constants, with the fluxes of the present currents for decoupling and gains of
    2π·f_c times the incremental inductances, which keep the bandwidth; layers are psi_d, psi_q, L_dd,
    L_qq."""
    link = u_link if u_link > 0.05 * U_dc else U_dc
    most = share * link * 0.5773502691896258
    e_d = set_d - d
    e_q = set_q - q
    w_c = 6.283185307179586 * f_c
    K_d = w_c * mapped(table, 2.0, d, q)
    K_q = w_c * mapped(table, 3.0, d, q)
    free_d = K_d * e_d + sum_d - speed * mapped(table, 1.0, d, q)
    free_q = K_q * e_q + sum_q + speed * mapped(table, 0.0, d, q)
    u_d = saturate(free_d, -most, most)
    room = sqrt(maximum(most * most - u_d * u_d, 0.0))
    u_q = saturate(free_q, -room, room)
    sum_d = sum_d + (e_d + (u_d - free_d) / K_d) * w_c * R * dt
    sum_q = sum_q + (e_q + (u_q - free_q) / K_q) * w_c * R * dt


def update_currents(torque, speed, u_link, i_d, i_q, p, psi, L_d, L_q, I_max, U_dc, share, held, dt):
    """Fewest amperes for a torque; at high speed the voltage decides, and beyond its reach the most torque
    there is.

    At the limit of current the most torque lies where i_d = −2·ΔL·I²/(ψ + √(ψ² + 8·ΔL²·I²)). i_q
    follows from the torque with the i_d before, i_d in closed form from i_q: the most torque per ampere,
    else what the voltage leaves. It goes no further than to where the limits of current and voltage meet,
    nor than to the most torque per volt. Without magnets the i_d before is a mean of two, by which i_q = c/i_d is
    found as a square root is (Heron's method), instead of swinging about it.
    """
    more = L_q - L_d
    least = 0.001 * absolute(more) * I_max
    deepest = -2.0 * more * I_max * I_max / (psi + sqrt(psi * psi + 8.0 * more * more * I_max * I_max))
    top = sqrt(maximum(I_max * I_max - deepest * deepest, 0.0))
    lever = maximum(psi - more * held, least)
    q = saturate(torque / (1.5 * p * lever), -top, top)
    d = -2.0 * more * q * q / maximum(psi + sqrt(psi * psi + 4.0 * more * more * q * q), least)
    link = u_link if u_link > 0.05 * U_dc else U_dc
    left = share * link * 0.5773502691896258 / maximum(absolute(speed), 1e-3)
    flux = minimum(left, 4.0 * (psi + (L_d + L_q) * I_max))
    weak = (sqrt(maximum(flux * flux - L_q * L_q * q * q, 0.0)) - psi) / L_d
    beyond = psi * psi + L_q * L_q * I_max * I_max - flux * flux
    root = sqrt(L_d * L_d * psi * psi + maximum(L_q * L_q - L_d * L_d, 0.0) * maximum(beyond, 0.0))
    meet = -beyond / (L_d * psi + root) if beyond > 0.0 else -I_max
    k = more / L_d
    whole = psi * (1.0 + k)
    ridge = -2.0 * k * flux * flux / (whole + sqrt(whole * whole + 8.0 * k * k * flux * flux))
    d = maximum(minimum(d, weak), maximum(meet, (ridge - psi) / L_d))
    d = saturate(d, -I_max, 0.0)
    held = d + 0.5 * maximum(1.0 - psi / lever, 0.0) * (held - d)
    rest = L_d * d + psi
    most = sqrt(maximum(I_max * I_max - d * d, 0.0))
    most = minimum(most, sqrt(maximum(flux * flux - rest * rest, 0.0)) / L_q)
    i_d = d
    i_q = saturate(torque / (1.5 * p * maximum(psi - more * d, least)), -most, most)


def field_along_d(v: Values, card: Card) -> list[Contradiction]:
    """The update weakens the field only, as machines need it whose magnets lie in the way of the d axis."""
    if v["psi"] == 0 and v["L_d"] == v["L_q"]:
        sentence = "Without magnets and with one inductance along d and q no current makes torque. Correct one of them."
        return [Contradiction(sentence, "psi")]
    if v["L_d"] <= v["L_q"]:
        return []
    return [
        Contradiction(
            f"L_d ({figure(v['L_d'], 'H')}) is above L_q ({figure(v['L_q'], 'H')}): the least current would "
            "have i_d above 0, which this block never demands. It keeps within its limits, but takes more "
            "current. Check the axes, or "
            "take the block by tables.",
            "L_d",
            fault=False,
        )
    ]


INVARIANT = Choice("invariant", "Keeps", (("amplitude", "amplitudes"), ("power", "power")))


def scale(v: Values, card: Card, period: float):
    return {"scale": math.sqrt(1.5) if card.choices.get("invariant") == "power" else 1.0}


def transform(id, title, sentence, update, inputs, outputs, *, scaled=True, mark, remarks=()):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="transform",
        keywords="transform frame vector alpha beta d q space rotor " + id.replace("_", " "),
        ports=(
            *(reads(n, text, **({"unit": "rad"} if n == "angle" else {})) for n, text in inputs),
            *(gives(n, text) for n, text in outputs),
        ),
        values=(EVERY,),
        mark=mark,
        remarks=remarks,
        choices=(INVARIANT,) if scaled else (),
        update=update,
        turns=frozenset(n for n, _ in inputs if n == "angle"),
        derive=scale if scaled else None,
        summary=(lambda v, card: (f"{card.choices.get('invariant', 'amplitude')}-invariant",))
        if scaled
        else (lambda v, card: ("turns by the angle",)),
    )


ABC = tuple((n, f"Phase {n}") for n in PHASES)
PLANE = (("alpha", "Along α"), ("beta", "Along β"))
FRAME = (("d", "Along d"), ("q", "Along q"))
ANGLE = ("angle", "Electrical angle")
MACHINE = (
    Value("L_d", "Inductance along d", "mH", "0.9", low=0.0, open_low=True),
    Value("L_q", "Inductance along q", "mH", "1.4", low=0.0, open_low=True),
    Value("psi", "Magnet flux", "Wb", "0.32", low=0.0),
)
LIMIT = (
    Value("U_dc", "Link voltage", "V", "560", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
    Value("share", "Share of range", "%", "98", low=0.0, open_low=True, high=1.2, role=ValueRole.VOLTAGE_SHARE),
)


NODES = 17
"""Points along each axis of a regulator's maps: what lies between is straight, and the code stays small."""


def regulator_maps(v: Values, card: Card) -> list[tuple[float, float]]:
    """Layers psi_d, psi_q, L_dd, L_qq over i_d and i_q."""
    assert card.flux is not None  # a card without them has a finding
    fit = flux.fitted(card.flux)
    axes = [np.linspace(a[0], a[-1], NODES) for a in (card.flux.i_d, card.flux.i_q)]
    return packed(axes, [fit.derivative(axes[0], axes[1], *by) for by in ((1, 0), (0, 1), (2, 0), (0, 2))])


def bandwidth(v: Values, card: Card):
    return [
        Figure("Bandwidth along d", "f_d", v["K_d"] / v["L_d"] / (2 * math.pi), "Hz"),
        Figure("Bandwidth along q", "f_q", v["K_q"] / v["L_q"] / (2 * math.pi), "Hz"),
        Figure("Voltage at most, peak", "û", v["share"] * v["U_dc"] / math.sqrt(3.0), "V"),
    ]


REGULATOR_PORTS = (
    reads("set_d", "Setpoint along d", unit="A"),
    reads("set_q", "Setpoint along q", unit="A"),
    reads("d", "Current along d", unit="A"),
    reads("q", "Current along q", unit="A"),
    reads("speed", "Electrical speed", unit="rad/s", required=False),
    reads("u_link", "Link voltage", side="bottom", unit="V", required=False),
    gives("u_d", "Voltage along d", unit="V"),
    gives("u_q", "Voltage along q", unit="V"),
)
KINDS = (
    transform(
        "clarke",
        "Clarke transform",
        "Three phases to the plane of α and β.",
        update_clarke,
        ABC,
        PLANE,
        mark="αβ",
        remarks=(field_orientation.swapped_currents,),
    ),
    transform(
        "inverse_clarke",
        "Inverse Clarke transform",
        "The plane of α and β to three phases.",
        update_inverse_clarke,
        PLANE,
        ABC,
        mark="abc",
    ),
    transform(
        "park",
        "Park transform",
        "Turns α and β into the rotor's frame.",
        update_park,
        (*PLANE, ANGLE),
        FRAME,
        scaled=False,
        mark="dq",
    ),
    transform(
        "inverse_park",
        "Inverse Park transform",
        "Turns d and q back into the plane of α and β.",
        update_inverse_park,
        (*FRAME, ANGLE),
        PLANE,
        scaled=False,
        mark="αβ",
    ),
    transform(
        "abc_to_dq",
        "Phases to d and q",
        "Clarke and Park in one.",
        update_to_dq,
        (*ABC, ANGLE),
        FRAME,
        mark="dq",
        remarks=(field_orientation.swapped_currents,),
    ),
    transform(
        "dq_to_abc",
        "d and q to phases",
        "Inverse Park and Clarke in one.",
        update_from_dq,
        (*FRAME, ANGLE),
        ABC,
        mark="abc",
    ),
    Block(
        id="electrical_angle",
        title="Electrical angle",
        sentence="From the shaft's angle to that of the field, now and when the voltage acts.",
        group="transform",
        keywords="pole pairs rotor position resolver encoder delay compensation",
        ports=(
            reads("position", "Shaft angle", unit="rad"),
            gives("angle", "Electrical angle", unit="rad"),
            gives("ahead", "Angle when the voltage acts", unit="rad"),
            gives("speed", "Electrical speed", unit="rad/s"),
        ),
        values=(
            Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
            Value("offset", "Offset", "deg", "0"),
            Value("lead", "Ticks ahead", "", "1.5", low=0.0, high=10.0),
            EVERY,
        ),
        update=update_electrical_angle,
        turns=frozenset({"position", "angle", "ahead"}),
        summary=lambda v, card: (f"{v['p']} pole pairs",),
        mark="ϑ",
        remarks=(rotor_angle.angle_fault,),
    ),
    Block(
        id="dq_current_regulator",
        title="Current regulator in d and q",
        sentence="Two PI regulators with decoupling and a common voltage limit.",
        group="regulator",
        keywords="field oriented foc vector control current loop pi decoupling pmsm",
        ports=REGULATOR_PORTS,
        values=(
            Value("K_d", "Gain along d", "V/A", "1.5", low=0.0),
            Value("T_d", "Integral time along d", "ms", "20", low=0.0, open_low=True),
            Value("K_q", "Gain along q", "V/A", "2.3", low=0.0),
            Value("T_q", "Integral time along q", "ms", "30", low=0.0, open_low=True),
            *MACHINE,
            *LIMIT,
            EVERY,
        ),
        regulates=tuple(
            Regulation(f"set_{x}", x, f"u_{x}", {"K_p": f"K_{x}", "T_i": f"T_{x}"}, f"along {x}") for x in "dq"
        ),
        choices=(Choice("decoupling", "Decoupling", (("on", "on"), ("off", "off"))),),
        update=update_regulator,
        derive=lambda v, card, period: {"decoupled": 0.0 if card.choices.get("decoupling") == "off" else 1.0},
        follows=bandwidth,
        summary=lambda v, card: (f"{v['K_d']} · {v['K_q']}",),
        mark="PI",
        remarks=(field_orientation.voltage_ended,),
    ),
    Block(
        id="dq_regulator_tables",
        title="Current regulator in d and q, by tables",
        sentence="As the one with constants, with gains and decoupling from flux tables.",
        group="regulator",
        keywords="field oriented foc vector control saturation map gain scheduling decoupling pmsm",
        ports=REGULATOR_PORTS,
        values=(
            Value("f_c", "Bandwidth", "Hz", "400", low=0.0, open_low=True),
            Value("R", "Phase resistance", "mΩ", "40", low=0.0, open_low=True),
            *LIMIT,
            EVERY,
        ),
        takes_flux=True,
        regulates=tuple(Regulation(f"set_{x}", x, f"u_{x}", {"K_p": "f_c"}, f"along {x}", scaled=True) for x in "dq"),
        update=update_by_tables,
        tables=regulator_maps,
        contradictions=lacking,
        summary=lambda v, card: ("by tables", v["f_c"]),
        mark="PI ψ",
        remarks=(field_orientation.voltage_ended,),
    ),
    Block(
        id="torque_to_currents",
        title="Torque to currents",
        sentence="Most torque per ampere, and field weakening where the voltage ends.",
        group="setpoint",
        keywords="mtpa field weakening flux foc pmsm setpoint torque current",
        ports=(
            reads("torque", "Torque demand", unit="N·m"),
            reads("speed", "Electrical speed", unit="rad/s", required=False),
            reads("u_link", "Link voltage", side="bottom", unit="V", required=False),
            gives("i_d", "Current along d", unit="A"),
            gives("i_q", "Current along q", unit="A"),
        ),
        values=(
            Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
            *MACHINE[2:],
            *MACHINE[:2],
            Value("I_max", "Peak current", "A", "250", low=0.0, open_low=True, role=ValueRole.CURRENT_LIMIT),
            *LIMIT,
            EVERY,
        ),
        update=update_currents,
        contradictions=field_along_d,
        summary=lambda v, card: (f"to {v['I_max']}",),
        mark="M",
    ),
)
