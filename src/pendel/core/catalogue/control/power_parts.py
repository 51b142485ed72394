"""A current parted by what it does with a voltage: active, reactive and void; the unbiased integral; means over
whole periods of a measured angle.

Tenti, Paredes, Mattavelli: Conservative power theory, a framework to approach control and accountability issues in
smart microgrids, IEEE Trans. Power Electronics 26 (2011), section II (definitions, from memory). With the mean ⟨·⟩
over a period and the unbiased integral û, P = ⟨u·i⟩ and W = ⟨û·i⟩; the active current is P/⟨u²⟩·u,
the reactive one W/⟨û²⟩·û, and what is left is void. Means begin again where the angle, wrapped or
not, passes its end, forward or backward; the sample across which that falls belongs to both periods, by the parts
of it that lie in each: ``part`` lies between 0 and 1, since a step ends no nearer to the last period than its end."""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import ANY, Block, Value
from pendel.core.vocabulary import ValueRole

ANGLE = reads("angle", "Angle of a phase-locked loop", unit="rad")


def update_mean(x, angle, out, before, count, total, dt):
    """The mean of the last whole period."""
    turned = wrapped(angle)
    way = 1.0 if wrapped(turned - before) > 0.0 else -1.0
    if way * turned < way * before - 3.0:
        part = (3.141592653589793 - way * before) / (way * (turned - before) + 6.283185307179586)
        out = (total + part * x) / (count + part)
        total = (1.0 - part) * x
        count = 1.0 - part
    else:
        total = total + x
        count = count + 1.0
    before = turned


def update_integral(x, angle, out, K, z, late, before, count, total, whole, drift, dt):
    """By the trapezoidal rule; the mean of x over the last period is not integrated, and the integral's own is
    taken off at the end of each."""
    turned = wrapped(angle)
    z = z + K * dt * (0.5 * (x + late) - drift)
    late = x
    way = 1.0 if wrapped(turned - before) > 0.0 else -1.0
    if way * turned < way * before - 3.0:
        part = (3.141592653589793 - way * before) / (way * (turned - before) + 6.283185307179586)
        drift = (whole + part * x) / (count + part)
        z = z - (total + part * z) / (count + part)
        total = (1.0 - part) * z
        whole = (1.0 - part) * x
        count = 1.0 - part
    else:
        total = total + z
        whole = whole + x
        count = count + 1.0
    before = turned
    out = z


def update_parts(
    u,
    i,
    angle,
    active,
    reactive,
    void,
    power,
    energy,
    least,
    z,
    late,
    before,
    count,
    s_u,
    s_i,
    s_z,
    s_ui,
    s_uu,
    s_zi,
    s_zz,
    drift,
    conductance,
    reactivity,
    dt,
):
    """The integral's bias within a period is taken off its means, so that they hold before it has settled."""
    turned = wrapped(angle)
    z = z + dt * (0.5 * (u + late) - drift)
    late = u
    way = 1.0 if wrapped(turned - before) > 0.0 else -1.0
    if way * turned < way * before - 3.0:
        part = (3.141592653589793 - way * before) / (way * (turned - before) + 6.283185307179586)
        whole = count + part
        bias = (s_z + part * z) / whole
        drift = (s_u + part * u) / whole
        power = (s_ui + part * u * i) / whole
        energy = (s_zi + part * z * i) / whole - bias * (s_i + part * i) / whole
        square = (s_uu + part * u * u) / whole
        swing = (s_zz + part * z * z) / whole - bias * bias
        if square > least * least:
            conductance = power / square
            reactivity = energy / maximum(swing, 1e-9)
        else:
            conductance = 0.0
            reactivity = 0.0
        z = z - bias
        rest = 1.0 - part
        count = rest
        s_u = rest * u
        s_i = rest * i
        s_z = rest * z
        s_ui = rest * u * i
        s_uu = rest * u * u
        s_zi = rest * z * i
        s_zz = rest * z * z
    else:
        count = count + 1.0
        s_u = s_u + u
        s_i = s_i + i
        s_z = s_z + z
        s_ui = s_ui + u * i
        s_uu = s_uu + u * u
        s_zi = s_zi + z * i
        s_zz = s_zz + z * z
    before = turned
    active = conductance * u
    reactive = reactivity * z
    void = i - active - reactive


def update_choice(power, reactive, void, mode, out, dt):
    """The mode in binary: 1 power, 2 reactive, 4 void; each sum of them is a mode."""
    left = mode
    out = 0.0
    if left > 3.5:
        out = void
        left = left - 4.0
    if left > 1.5:
        out = out + reactive
        left = left - 2.0
    if left > 0.5:
        out = out + power


def block(id, title, sentence, keywords, ports, values, update, **more):
    return Block(
        id=id,
        title=title,
        sentence=sentence,
        group="transform",
        keywords=keywords + " period mean grid angle pll",
        ports=ports,
        values=(*values, EVERY),
        turns=frozenset({"angle"}),
        update=update,
        **more,
    )


KINDS = (
    block(
        "period_mean",
        "Mean over a period",
        "Mean of a signal over the last whole period of an angle.",
        "average synchronous",
        (reads("x", "Input"), ANGLE, gives()),
        (),
        update_mean,
        bounds={"part": "1", "out": "x"},
        mark="⟨x⟩",
    ),
    block(
        "unbiased_integral",
        "Unbiased integral",
        "Integral of a periodic signal, without its mean: a quarter turn behind, whatever its shape.",
        "integrator quadrature homo",
        (reads("x", "Input"), ANGLE, gives()),
        (Value("K", "Gain", ANY, "1", role=ValueRole.GAIN),),
        update_integral,
        bounds={"part": "1", "drift": "x"},
        gain=("K", "x"),
        integrates=True,
        passes_unit=False,
        mark="∫ −⟨ ⟩",
    ),
    block(
        "current_parts",
        "Current parts by power",
        "Active, reactive and void part of a current, by what it does with a voltage over a period.",
        "conservative power harmonic compensation active filter reactive void distortion orthogonal decomposition",
        (
            reads("u", "Voltage", unit="V"),
            reads("i", "Current", unit="A"),
            ANGLE,
            gives("active", "Active current", unit="A"),
            gives("reactive", "Reactive current", unit="A"),
            gives("void", "Void current", unit="A"),
            gives("power", "Active power", unit="W"),
            gives("energy", "Reactive energy", unit="J"),
        ),
        (Value("least", "Least voltage, rms", "V", "10", low=0.0, open_low=True),),
        update_parts,
        bounds={"part": "1", "drift": "u", "power": "u * i", "square": "u * u"},
        mark="arv",
        summary=lambda v, card: (),
    ),
    Block(
        id="reference_selector",
        title="References selector",
        sentence="Sum of the current references that a mode takes: 1 power, 2 reactive, 4 void, and the sums of these.",
        group="transform",
        keywords="mode choose compensate harmonics reactive power active filter feeder",
        ports=(
            reads("power", "Of the power setpoint", unit="A"),
            reads("reactive", "Of the reactive current", unit="A"),
            reads("void", "Of the void current", unit="A"),
            reads("mode", "Mode", unit="", side="top"),
            gives(unit="A"),
        ),
        values=(EVERY,),
        update=update_choice,
        summary=lambda v, card: ("by mode",),
        mark="⇄ i",
    ),
)
