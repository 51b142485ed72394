"""From standstill to the speed from which an observer knows the angle, and back.

Below it a current of fixed size turns with the speed that is demanded, and the rotor follows it as a needle follows
a field; no speed is measured, so that a speed regulator is given what it demands and its integral stays. Once the
observer agrees, frame and current slide over to its own within a time, so that no voltage jumps (Wang, Lu, Hu: IEEE
Trans. Power Electron. 27 (2012) 3817, from memory; the way back and the sliding are our own).

Voltage errors turn with the dragged field as an EMF does, and an observer follows them beside a rotor that stands: so
the EMF must have most of its size too. Setpoints act a tick later, as what makes them may look at the field's speed.

In the update ``w`` and ``theta`` are the dragged field's; ``from_d`` and ``from_q`` what the current was when the lead
changed, in the frame that it slides to; ``gap`` by how much the frame was ahead of that."""

from __future__ import annotations

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import Block, Contradiction, Value, Values
from pendel.core.catalogue.remarks import field_orientation
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update(
    wanted,
    set_d,
    set_q,
    angle,
    speed,
    emf,
    i_d,
    i_q,
    frame,
    acts,
    field,
    shaft,
    leads,
    p,
    psi,
    I_drag,
    n_over,
    n_back,
    slope,
    off,
    t_agree,
    t_slide,
    lead,
    theta,
    w,
    slid,
    gap,
    from_d,
    from_q,
    agreed,
    led,
    kept_d,
    kept_q,
    was_d,
    was_q,
    dt,
):
    if led < 0.5:
        w = w + saturate(p * wanted - w, -slope * dt, slope * dt)
        alike = absolute(p * speed - w) < off * absolute(w) and emf > 0.6 * psi * absolute(w)
        agreed = agreed + dt if (absolute(w) >= p * n_over and alike) else 0.0
        if agreed > t_agree:
            led = 1.0
            slid = 0.0
            gap = wrapped(theta - angle)
            from_d = was_d * cos(gap) - was_q * sin(gap)
            from_q = was_d * sin(gap) + was_q * cos(gap)
    else:
        if absolute(wanted) < n_back and absolute(speed) < n_back:
            led = 0.0
            agreed = 0.0
            theta = wrapped(angle + gap * (1.0 - slid))
            slid = 0.0
            w = p * speed
            from_d = was_d
            from_q = was_q
    slid = minimum(slid + dt / t_slide, 1.0)
    leads = led
    if led > 0.5:
        rest = gap * (1.0 - slid)
        frame = wrapped(angle + rest)
        field = p * speed
        shaft = speed
        x = from_d + slid * (kept_d - from_d)
        y = from_q + slid * (kept_q - from_q)
        i_d = x * cos(rest) + y * sin(rest)
        i_q = y * cos(rest) - x * sin(rest)
    else:
        frame = theta
        field = w
        shaft = wanted
        i_d = from_d + slid * (I_drag - from_d)
        i_q = from_q * (1.0 - slid)
        theta = wrapped(theta + w * dt)
    acts = wrapped(frame + lead * field * dt)
    was_d = i_d
    was_q = i_q
    kept_d = set_d
    kept_q = set_q


def slope_of(v: Values, card: Card, period: float):
    return {"slope": v["p"] * v["a_drag"]}


def order(v: Values, card: Card) -> list[Contradiction]:
    if v["n_back"] < v["n_over"]:
        return []
    return [Contradiction("The lead goes back below the speed at which it is handed over. Lower that speed.", "n_back")]


KIND = Block(
    id="observer_start",
    title="Start without a shaft sensor",
    sentence="Turns a current with the demanded speed until an observer knows the angle, and hands over to it.",
    group="transform",
    keywords="sensorless start standstill open loop i/f if current frequency handover pmsm observer",
    ports=(
        reads("wanted", "Speed demand", unit="rad/s"),
        reads("set_d", "Setpoint along d", unit="A"),
        reads("set_q", "Setpoint along q", unit="A"),
        reads("angle", "Observed angle", unit="rad"),
        reads("speed", "Observed shaft speed", unit="rad/s"),
        reads("emf", "Observed EMF", unit="V"),
        gives("i_d", "Current along d", unit="A"),
        gives("i_q", "Current along q", unit="A"),
        gives("frame", "Electrical angle", unit="rad"),
        gives("acts", "Angle when the voltage acts", unit="rad"),
        gives("field", "Electrical speed", unit="rad/s"),
        gives("shaft", "Shaft speed", unit="rad/s"),
        gives("leads", "1: the observer leads", unit=""),
    ),
    values=(
        Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
        Value("psi", "Magnet flux", "Wb", "0.32", low=0.0),
        Value("I_drag", "Dragging current, peak", "A", "10", low=0.0, open_low=True),
        Value("n_over", "Handed over from", "rpm", "200", low=0.0, open_low=True),
        Value("n_back", "Dragged again below", "rpm", "120", low=0.0, open_low=True),
        Value("a_drag", "Dragged speed-up at most", "rpm/s", "500", low=0.0, open_low=True),
        Value("off", "Speeds agree within", "%", "20", low=0.0, open_low=True, high=1.0),
        Value("t_agree", "Agree for", "ms", "20", low=0.0),
        Value("t_slide", "Slides within", "ms", "50", low=0.0, open_low=True),
        Value("lead", "Ticks ahead", "", "1.5", low=0.0, high=10.0),
        EVERY,
    ),
    update=update,
    turns=frozenset({"angle", "frame", "acts"}),
    holds=frozenset({"set_d", "set_q"}),
    derive=slope_of,
    contradictions=order,
    summary=lambda v, card: (f"{v['I_drag']} to {v['n_over']}",),
    mark="→ϑ",
    remarks=(field_orientation.never_led,),
)
