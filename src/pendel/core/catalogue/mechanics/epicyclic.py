"""Gears with three shafts: a planetary gear and a differential, without losses.

Planetary: ω_s + k ω_r = (1 + k) ω_c with k the ring's teeth over the sun's (Willis' equation), and torques into the
shafts in the ratio 1 : k : −(1 + k). Differential: (ω_1 + ω_2)/2 = ω/i, with half of i M to each side."""

from __future__ import annotations

from pendel.core.catalogue.declare import Link, Part, Port, Signal, Value
from pendel.core.catalogue.settled import Rigid
from pendel.core.equations.context import PartContext


def build_planetary(c: PartContext) -> None:
    (sun, into_sun), (ring, into_ring), (carrier, into_carrier) = (c.flange(n) for n in ("sun", "ring", "carrier"))
    k = c.value("k")
    c.equation(sun + k * ring - (1 + k) * carrier)
    c.equation(into_ring - k * into_sun)
    c.equation(into_carrier + (1 + k) * into_sun)
    for name, speed, torque in (("sun", sun, into_sun), ("ring", ring, into_ring), ("carrier", carrier, into_carrier)):
        c.signal(f"speed_{name}", speed)
        c.signal(f"torque_{name}", torque)
        c.signal(f"power_{name}", torque * speed)


def build_differential(c: PartContext) -> None:
    (drive, into), (left, into_left), (right, into_right) = (c.flange(n) for n in ("drive", "left", "right"))
    ratio = c.value("ratio")
    c.equation(2 * drive - ratio * (left + right))
    c.equation(into_left + ratio * into / 2)
    c.equation(into_right + ratio * into / 2)
    c.signal("speed_left", left)
    c.signal("speed_right", right)
    c.signal("torque", -into_left)
    c.signal("power", into * drive)


SHAFTS = (("sun", "Sun", "left"), ("carrier", "Carrier", "left"), ("ring", "Ring", "right"))
KINDS = (
    Part(
        id="planetary",
        title="Planetary gear",
        sentence="Sun, ring and carrier: three shafts whose speeds one equation joins, without losses.",
        group="mechanics",
        keywords="epicyclic power split hybrid willis sun ring carrier gear",
        ports=tuple(Port(name, Link.SHAFT, words, side) for name, words, side in SHAFTS),
        values=(Value("k", "Ring's teeth over sun's", "", "2.6", low=1.0, open_low=True),),
        signals=tuple(
            Signal(f"{what}_{name}", f"{what}, {shaft.lower()}", unit)
            for name, shaft, _ in SHAFTS
            for what, unit in (("speed", "rad/s"), ("torque", "N·m"), ("power", "W"))
        ),
        build=build_planetary,
        summary=lambda v, card: (f"k {v['k']}",),
        usual=(("speed_sun", "speed_ring", "speed_carrier"),),
        main_signal="speed_ring",
        settled=Rigid(lambda v: ({"sun": 1.0, "ring": v["k"], "carrier": -1.0 - v["k"]},)),
        spine="✳",
    ),
    Part(
        id="differential",
        title="Differential",
        sentence="Half of the torque to each of two shafts, whatever their speeds.",
        group="mechanics",
        keywords="axle wheels split open final drive gear",
        ports=(
            Port("drive", Link.SHAFT, "Driven shaft", "left"),
            Port("left", Link.SHAFT, "Left shaft", "right"),
            Port("right", Link.SHAFT, "Right shaft", "right"),
        ),
        values=(Value("ratio", "Ratio, fast to slow", "", "4", low=0.0, open_low=True),),
        signals=(
            Signal("speed_left", "speed, left", "rad/s"),
            Signal("speed_right", "speed, right", "rad/s"),
            Signal("torque", "torque of each side", "N·m"),
            Signal("power", "power", "W"),
        ),
        build=build_differential,
        summary=lambda v, card: (f"{v['ratio']} : 1",),
        main_signal="torque",
        settled=Rigid(lambda v: ({"drive": 2.0, "left": -v["ratio"], "right": -v["ratio"]},)),
        spine="Y",
    ),
)
