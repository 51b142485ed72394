"""A combustion engine whose fuel is by the points of a map, as a sheet has one: lines of equal consumption over speed
and torque, or fuel by time.

What of fuel is taken for a power at the pistons, P_f/(M_i ω), is a smooth surface over speed and M_i = M + M_f; all
else is as of the engine by Willans' line (see `engine`), for which it is one number."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Curve, Figure, Part, Rows, Value, Values
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.systems import engine
from pendel.core.catalogue.systems.scattered import (
    CELLS,
    UNKNOWN,
    Misfit,
    Surface,
    beyond_figures,
    fit_surface,
    flat,
    left_points,
    misfit,
    rough,
)
from pendel.core.drive.document import Card
from pendel.core.drive.findings import Remark
from pendel.core.equations.context import PartContext
from pendel.core.equations.kinds import SurfaceNumbers
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Group

LEAST_POINTS, MOST_POINTS = 4, 4000
ROUGH = 0.05
"""Of the fuel: a point that the map misses by more is a finding."""
FIRES = 0.01
"""Above this of its torque it fires: what a run shows of a map counts from there."""
Points = tuple[tuple[float, float, float, float], ...]
"""Speed (rad/s), torque (N·m), consumption (kg/J), fuel by time (kg/s); one of the last two is not-a-number."""


@dataclass(frozen=True, eq=False)
class FuelMap:
    """Fuel power over that at the pistons is ``mean`` plus the surface; ``missed`` relates to the fuel."""

    mean: float
    surface: Surface
    missed: Misfit

    def taken(self, speed: np.ndarray, inside: np.ndarray) -> np.ndarray:
        return np.maximum(1.0, self.mean + self.surface.at(speed, inside))


def fuel_powers(points: Points, heating: float) -> np.ndarray:
    """What the points say of the fuel (W)."""
    w, m, consumed, rate = np.array(points).T
    return heating * np.where(np.isnan(rate), consumed * w * m, rate)


@lru_cache(maxsize=32)
def fitted(points: Points, friction: float, heating: float) -> FuelMap:
    """The map for points that have no faults."""
    w, m, _, _ = np.array(points).T
    inside = m + friction
    taken = fuel_powers(points, heating) / (inside * w)
    weight = 1 / taken
    mean = float(np.sum(weight) / np.sum(weight * weight))  # of least squares of the error over the fuel
    surface, off = fit_surface(w, inside, taken - mean, weight)
    made = FuelMap(mean, surface, UNKNOWN)
    return replace(made, missed=misfit(made.taken(w, inside) / taken - 1, off * weight))


def points_of(v: Values, card: Card) -> Points:
    return tuple(
        (v[f"n_{k}"], v[f"M_{k}"], v[f"b_{k}"], v[f"rate_{k}"]) for k in range(len(card.rows)) if f"n_{k}" in v
    )


def map_of(v: Values, card: Card) -> FuelMap | None:
    """None where its points have faults."""
    return None if faults(v, card) else fitted(points_of(v, card), v["M_f"], v["H_u"])


def fuel_power(v: Values, card: Card, speed: np.ndarray, torque: np.ndarray) -> np.ndarray:
    """W at speeds (rad/s) and torques at the shaft (N·m)."""
    inside, fit = torque + v["M_f"], map_of(v, card)
    return inside * speed * (fit.taken(speed, inside) if fit else np.nan)


def build(c: PartContext) -> None:
    def taken(c: PartContext, speed: ca.SX, inside: ca.SX) -> ca.SX:
        return ca.fmax(1, c.value("mean") + c.surface("rest", speed, inside)["f"])

    engine.state(c, taken)


def surfaces(card: Card, v: Values | None) -> SurfaceNumbers:
    fit = map_of(v, card) if v is not None else None
    return {"rest": ((CELLS, CELLS), (fit.surface if fit else flat()).numbers)}


def equation_values(v: Values, card: Card) -> dict[str, float]:
    fit = map_of(v, card)
    return {**v, "mean": fit.mean if fit else 2.5}


def faults(v: Values, card: Card) -> list[Contradiction]:
    points = points_of(v, card)
    if not LEAST_POINTS <= len(points) <= MOST_POINTS:
        sentence = f"Its map has {len(points)} points. Give {LEAST_POINTS} to {MOST_POINTS} with use or rate of fuel."
        return [Contradiction(sentence, "rows:0")]
    if found := beyond_figures(points, v["M_f"], v["H_u"], v["M_max"]):
        return found
    for k, (w, m, consumed, rate) in enumerate(points):
        where = f"Row {k + 1} ({figure(w, 'rpm', 3)}, {figure(m, 'N·m', 3)})"
        if np.isnan(consumed) == np.isnan(rate):
            words = (
                "both use (g/kWh) and rate of fuel" if not np.isnan(rate) else "neither use (g/kWh) nor rate of fuel"
            )
            return [Contradiction(f"{where} gives {words}. Give one of them.", f"rows:{k}")]
        if not np.isnan(consumed) and m <= 0:
            return [Contradiction(f"{where} has no power, so no use for it. Give its rate of fuel.", f"rows:{k}")]
        if m + v["M_f"] <= 0:
            sentence = f"{where} takes more torque than friction: it is dragged, and burns nothing. Leave it out."
            return [Contradiction(sentence, f"rows:{k}")]
        fuel = v["H_u"] * (consumed * w * m if np.isnan(rate) else rate)
        if fuel < (m + v["M_f"]) * w:
            sentence = (
                f"{where} burns {figure(fuel, 'kW', 3)} for {figure((m + v['M_f']) * w, 'kW', 3)} at the pistons, more "
                "than all of it. Correct it, the friction or the heating value."
            )
            return [Contradiction(sentence, f"rows:{k}")]
    return []


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if found := [*faults(v, card), *engine.contradictions(v, card)]:
        return found
    fit = fitted(points_of(v, card), v["M_f"], v["H_u"])
    if fit.missed.worst > ROUGH:
        w, m, *_ = points_of(v, card)[fit.missed.worst_at]
        return [rough(fit.missed, f"{figure(w, 'rpm', 3)}, {figure(m, 'N·m', 3)}", "its fuel")]
    return []


def left_map(seen: Seen, key: str) -> Remark | None:
    """It burnt fuel where its map has no points."""
    fit, values = map_of(seen.values[key], seen.drive.cards[key]), seen.values[key]
    if fit is None:
        return None
    speed, power, fuel = seen.run.on_rows([f"{key}.speed", f"{key}.power", f"{key}.fuel_power"], slice(None)).T
    burns = fuel > FIRES * values["P_max"]
    inside = np.where(burns, power / np.maximum(speed, 1e-6) + values["M_f"], fit.surface.spans[1][0])
    speed = np.where(burns, speed, fit.surface.spans[0][0])
    axes = (("speeds", "rpm"), ("torques, with friction,", "N·m"))
    return left_points(seen, key, (speed, inside), fit.surface.spans, axes)


def follows(v: Values, card: Card) -> list[Figure]:
    fit = map_of(v, card)
    if fit is None:
        return []
    points = points_of(v, card)
    w, m = np.array(points)[:, :2].T
    efficiency = w * m / fuel_powers(points, v["H_u"])
    best = int(np.argmax(efficiency))
    return [
        Figure("Best efficiency of its points", "η", float(efficiency[best]), "%"),
        Figure("at a speed of", "n", float(w[best]), "rpm"),
        Figure("and a torque of", "M", float(m[best]), "N·m"),
        *fit.missed.figures,
    ]


def curve(v: Values, card: Card) -> Curve | None:
    """Consumption over torque at a middle speed."""
    fit = map_of(v, card)
    if fit is None:
        return None
    (slow, fast), (_, top) = fit.surface.spans
    speed = (slow + fast) / 2
    m = np.linspace(0.1 * v["M_max"], max(top - v["M_f"], 0.2 * v["M_max"]), 100)
    inside = m + v["M_f"]
    used = inside * fit.taken(np.full(100, speed), inside) / m / v["H_u"]
    return Curve(f"Consumption at {figure(speed, 'rpm', 3)}", "Torque", "N·m", "g/kWh", m, used)


def first_rows() -> tuple[tuple[str, ...], ...]:
    """Of an invented engine: 90 N·m, 30 kW, best at 2500 rpm and three quarters of its torque."""
    rows = [("1000 rpm", "0 N*m", "", "0.09 g/s")]
    for n in (1000, 2000, 3000, 4000, 5000):
        for m in (15, 30, 50, 70, 90):
            w = n * 2 * np.pi / 60
            if w * m > 31e3:
                continue
            taken = (2.5 + 0.12 * ((n - 2500) / 1500) ** 2 + 0.1 * ((m - 65) / 40) ** 2) * (m + 14) / m
            rows.append((f"{n} rpm", f"{m} N*m", f"{taken / 42.5e6 * 3.6e9:.4g} g/kWh", ""))
    return tuple(rows)


KIND = Part(
    id="engine_by_map",
    title="Combustion engine, by a map",
    sentence="Torque within its limits for fuel by the points of a consumption map, with friction, idle and a lag.",
    group=Group.MACHINE,
    keywords="combustion hybrid fuel consumption map specific diesel petrol gas generator range extender trip sheet",
    ports=engine.PORTS,
    values=(*engine.LIMITS, *engine.REST),
    rows=Rows(
        "Map",
        (
            Value("n", "Speed", "rpm", "2000", low=0.0, open_low=True),
            Value("M", "Torque", "N·m", "50"),
            Value("b", "Use", "g/kWh", "", low=0.0, open_low=True),
            Value("rate", "or rate", "g/s", "", low=0.0),
        ),
        ("2000 rpm", "50 N*m", "250 g/kWh", ""),
        first_rows(),
        needed=2,
    ),
    states=engine.STATES,
    signals=engine.SIGNALS,
    build=build,
    surfaces=surfaces,
    equation_values=equation_values,
    usual=(("power", "fuel_power"), ("speed",)),
    contradictions=contradictions,
    follows=follows,
    curve=curve,
    remarks=(engine.does_not_fire, left_map),
    summary=lambda v, card: (v["M_max"], f"{len(card.rows)} points"),
    main_signal="power",
    spine="E",
    settled=engine.settled(fuel_power),
)
