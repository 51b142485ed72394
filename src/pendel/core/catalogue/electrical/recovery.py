"""Reverse recovery of a diode: a stored charge that must be swept out before it blocks.

Lauritzen, Ma: A simple diode model with reverse recovery, IEEE Trans. Power Electronics 6 (1991) 188. Two
charges: one at the junction, one in the middle, with a transit time T_M between them and a lifetime τ. While
the diode conducts, i = (q_E − q_M)/T_M and dq_M/dt = i − q_M/τ; once q_E is gone the middle charge leaves
through the terminals alone, i = −q_M/T_M, which decays with τ_rr = 1/(1/τ + 1/T_M).
"""

from __future__ import annotations

import math

import casadi as ca

from pendel.core.catalogue.declare import Contradiction, Figure, Value, Values
from pendel.core.catalogue.electrical.devices import TINY_CURRENT, TINY_VOLTAGE, Device, Ratings
from pendel.core.drive.document import Card
from pendel.core.equations.context import PartContext

VALUES = (
    Value("Q_rr", "Recovery charge", "µC", "", low=0.0, open_low=True),
    Value("t_rr", "Recovery time", "ns", "100", low=0.0, open_low=True),
    Value("I_F", "both from a current of", "A", "20", low=0.0, open_low=True),
    Value("slope", "falling at", "A/µs", "100", low=0.0, open_low=True),
)
"""As on data sheets. Without a charge the diode blocks at once."""
TEN_PERCENT = math.log(10.0)
"""Time constants until a tail is at a tenth, where the recovery time ends."""
SHORTEST_TAIL = 0.01
"""Of the recovery time: time constant of a tail below which the current would break off."""


def peak_and_tail(v: Values) -> tuple[float, float]:
    """Peak reverse current (A) and time constant of the tail (s) that give the charge and the time of the
    sheet.

    With the triangle before the peak and the exponential after it: t_rr = I/a + ln10·τ_rr, Q_rr = I²/(2a) +
    I·τ_rr."""
    a, t, q = v["slope"], v["t_rr"], v["Q_rr"]
    square, linear = (0.5 - 1.0 / TEN_PERCENT) / a, t / TEN_PERCENT
    peak = (-linear + math.sqrt(linear * linear + 4.0 * square * q)) / (2.0 * square)
    return peak, (t - peak / a) / TEN_PERCENT


def times(v: Values) -> tuple[float, float]:
    """Lifetime τ and transit time T_M (s).

    Raises
    ------
    ValueError
        when no diode has this charge and this time.
    """
    peak, tail = peak_and_tail(v)
    a = v["slope"]
    until_peak = (v["I_F"] + peak) / a

    def missing(tau: float) -> float:
        return a * (tau - tail) * -math.expm1(-until_peak / tau) - peak

    if tail < SHORTEST_TAIL * v["t_rr"] or missing(1e4 * until_peak) <= 0:
        raise ValueError
    import scipy.optimize  # slow to load, and few drives need it

    tau = scipy.optimize.brentq(missing, tail, 1e4 * until_peak, xtol=1e-18, rtol=1e-12)
    return tau, 1.0 / (1.0 / tail - 1.0 / tau)


def with_times(v: dict[str, float]) -> dict[str, float]:
    """The values with lifetime and transit time; as good as none where the sheet gives no charge."""
    try:
        tau, transit = times(v) if v["Q_rr"] == v["Q_rr"] else (math.nan, math.nan)
    except ValueError:
        tau, transit = math.nan, math.nan
    return {**v, "tau": tau, "T_M": transit}


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if v["Q_rr"] != v["Q_rr"]:
        return []
    try:
        times(v)
    except ValueError:
        tail = SHORTEST_TAIL * v["t_rr"]
        peak = v["slope"] * (v["t_rr"] - TEN_PERCENT * tail)
        maximum = peak * (0.5 * peak / v["slope"] + tail)
        return [
            Contradiction(
                f"no diode loses {v['Q_rr'] * 1e6:.3g} µC within {v['t_rr'] * 1e9:.3g} ns at this slope "
                f"and current. At most {maximum * 1e6:.2g} µC is possible; check charge, time and slope.",
                "Q_rr",
            )
        ]
    return []


def follows(v: Values, card: Card) -> list[Figure]:
    if v["Q_rr"] != v["Q_rr"]:
        return []
    try:
        tau, transit = times(v)
    except ValueError:
        return []
    return [
        Figure("Peak reverse current", "I_rm", peak_and_tail(v)[0], "A"),
        Figure("Lifetime", "τ", tau, "s"),
        Figure("Transit time", "T_M", transit, "s"),
    ]


def diode(c: PartContext, name: str, u: ca.SX, ratings: Ratings) -> Device:
    """A diode with the voltage ``u`` from anode to cathode, whose middle charge is a state of the part."""
    i = c.unknown(f"{name}.i")
    charge, flow = c.state("q")
    tau, transit = c.value("tau"), c.value("T_M")
    mode = c.mode(name, 0)
    on = mode.symbol
    c.equation(i - on * (u - ratings.drop) / ratings.r_diode - (1 - on) * (u / ratings.r_off - charge / transit))
    c.equation(flow + charge / tau - on * i + (1 - on) * charge / transit)
    at_junction = charge + transit * i
    mode.transitions += [
        (0, u - ratings.drop - TINY_VOLTAGE, 1),
        (1, -at_junction / transit - TINY_CURRENT, 0),
    ]
    return Device(u, i)
