"""From a voltage demand to the duty of a bridge."""

from pendel.core.catalogue.control.ports import EVERY, TIMER, gives, reads
from pendel.core.catalogue.declare import Block, Value
from pendel.core.vocabulary import ValueRole


def update(u, u_link, duty, U_dc, d_max, timer, dt):
    """The measured link voltage is used where it is wired and not near zero."""
    link = u_link if u_link > 0.05 * U_dc else U_dc
    duty = saturate(u / link, -d_max, d_max)
    if timer > 0.5:
        duty = floor(duty * timer + 0.5) / timer


KIND = Block(
    id="pulse_stage",
    title="Pulse stage",
    sentence="Turns a voltage demand into the duty of a bridge.",
    group="modulation",
    keywords="pwm duty modulator voltage",
    ports=(
        reads("u", "Voltage demand", unit="V"),
        reads("u_link", "Link voltage", side="bottom", unit="V", required=False),
        gives("duty", "Duty", unit=""),
    ),
    values=(
        Value("U_dc", "Link voltage", "V", "48", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
        Value("d_max", "Duty at most", "%", "98", low=0.0, high=1.0, open_low=True),
        TIMER,
        EVERY,
    ),
    update=update,
    smooth={"timer": 0.0},
    summary=lambda v, card: (f"link {v['U_dc']}", f"at most {v['d_max']}"),
    shape=(
        (0, 0),
        (0.15, 0),
        (0.15, 1),
        (0.35, 1),
        (0.35, 0),
        (0.5, 0),
        (0.5, 1),
        (0.8, 1),
        (0.8, 0),
        (1, 0),
    ),
)
