"""A voice coil: u = R·i + L·di/dt + k·v and F = k·i (Newton's law for its own mass)."""

from pendel.core.catalogue.declare import Link, Part, Port, Signal, SignalRole, State, Value
from pendel.core.equations.context import PartContext


def build(c: PartContext) -> None:
    voltage, current = c.pair("coil")
    speed, force = c.flange("rod")
    i, slope = c.state("i")
    v, acceleration = c.state("v")
    r, k, mass = c.value("R"), c.value("k"), c.value("m")
    c.equation(current - i)
    c.equation(speed - v)
    c.equation(c.value("L") * slope - (voltage - r * i - k * v))
    c.equation(mass * acceleration - (k * i + force))
    c.signal("current", i)
    c.signal("speed", v)
    c.signal("copper_loss", r * i * i)
    c.stored(c.value("L") * i * i / 2 + mass * v * v / 2)
    c.lost(r * i * i)


KIND = Part(
    id="voice_coil",
    title="Voice coil",
    sentence="A coil in a magnet's field that moves along a short way.",
    group="machine",
    keywords="linear actuator solenoid",
    ports=(Port("coil", Link.DC, "Coil", "left"), Port("rod", Link.ROD, "Rod", "right")),
    values=(
        Value("R", "Resistance", "Ω", "4", low=0.0),
        Value("L", "Inductance", "mH", "2", low=0.0, open_low=True),
        Value("k", "Force constant", "N/A", "8"),
        Value("m", "Moving mass", "kg", "0.1", low=0.0, open_low=True),
    ),
    states=(State("i", "current", "A"), State("v", "speed", "m/s")),
    signals=(
        Signal("current", "current", "A", role=SignalRole.MACHINE_CURRENT),
        Signal("speed", "speed", "m/s", role=SignalRole.SPEED),
        Signal("copper_loss", "copper loss", "W", role=SignalRole.COPPER_LOSS),
    ),
    build=build,
    summary=lambda v, card: (v["k"], v["R"]),
    main_signal="speed",
    spine="M",
)
