"""Travel plan: from standstill to standstill over a distance, limited in speed and acceleration."""

from __future__ import annotations

import math

from pendel.core.catalogue.control.generators import start_counted_on, waiting
from pendel.core.catalogue.control.ports import EVERY, gives
from pendel.core.catalogue.declare import ANY, Block, Figure, Value, Values
from pendel.core.drive.document import Card
from pendel.core.vocabulary import ValueRole


def update(position, speed, sign, v_peak, t_a, t_c, t_d, wait, wait_more, early, distance, n, started, dt):
    if started < 0.5:
        n = -wait
        n = n - wait_more
        started = 1.0
    t = (n + early) * dt
    travelled = 0.0
    moving = 0.0
    if t > 0.0:
        if t < t_a:
            moving = v_peak * t / t_a
            travelled = 0.5 * moving * t
        elif t < t_a + t_c:
            moving = v_peak
            travelled = v_peak * (t - 0.5 * t_a)
        elif t < t_a + t_c + t_d:
            left = t_a + t_c + t_d - t
            moving = v_peak * left / t_d
            travelled = absolute(distance) - 0.5 * moving * left
        else:
            travelled = absolute(distance)
    position = sign * travelled
    speed = sign * moving
    n = n + 1.0


def phases(v: Values):
    """Peak speed and the three times of the trapezoid; a triangle where the distance is short."""
    distance, top, up, down = abs(v["distance"]), v["v_max"], v["a_max"], v["d_max"]
    peak = min(top, math.sqrt(2.0 * distance * up * down / (up + down)))
    t_a, t_d = peak / up, peak / down
    t_c = max(0.0, (distance - 0.5 * peak * (t_a + t_d)) / peak) if peak > 0 else 0.0
    return peak, t_a, t_c, t_d


def derive(v: Values, card: Card, period: float) -> dict[str, float]:
    peak, t_a, t_c, t_d = phases(v)
    tiny = 1e-9
    return {
        **waiting(v, card, period),
        "sign": math.copysign(1.0, v["distance"]),
        "v_peak": peak,
        "t_a": max(t_a, tiny),
        "t_c": t_c,
        "t_d": max(t_d, tiny),
    }


def follows(v: Values, card: Card) -> list[Figure]:
    peak, t_a, t_c, t_d = phases(v)
    return [
        Figure("Peak speed", "v", peak, "", at="speed"),
        Figure("Speeding up", "t_a", t_a, "s"),
        Figure("At speed", "t_c", t_c, "s"),
        Figure("Slowing down", "t_d", t_d, "s"),
        Figure("Arrives at", "t", v["t_0"] + t_a + t_c + t_d, "s"),
    ]


KIND = Block(
    id="travel_plan",
    title="Travel plan",
    sentence="Plans a travel of given distance within limits of speed and acceleration.",
    group="setpoint",
    keywords="setpoint profile trapezoid motion acceleration limited",
    ports=(gives("speed", "Speed setpoint"), gives("position", "Position setpoint")),
    values=(
        Value("distance", "Distance", ANY, "0.6", at="position"),
        Value("v_max", "Speed at most", ANY, "0.7", low=0.0, open_low=True, at="speed"),
        Value("a_max", "Acceleration", ANY, "4", low=0.0, open_low=True, at="speed", rate=True),
        Value("d_max", "Deceleration", ANY, "4", low=0.0, open_low=True, at="speed", rate=True),
        Value("t_0", "Starts at", "s", "0.05", role=ValueRole.BEGINS),
        EVERY,
    ),
    update=update,
    derive=derive,
    from_first_tick=start_counted_on,
    follows=follows,
    stated_by=(("speed", "v_max"), ("position", "distance")),
    summary=lambda v, card: (v["distance"], v["v_max"]),
    shape=((0, 0), (0.3, 1), (0.7, 1), (1, 0)),
)
