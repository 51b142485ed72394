"""A DC-DC converter by points of its efficiency over power, as its sheet has them: P_0 + U_d |I| + R I² is fitted to
what they say is lost, with coefficients of zero or more."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from pendel.core.catalogue.declare import Contradiction, Curve, Figure, Part, Rows, Value, Values
from pendel.core.catalogue.systems import loads
from pendel.core.catalogue.systems.scattered import beyond_figures
from pendel.core.drive.document import Card
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import Group

LEAST_POINTS, MOST_POINTS = 3, 500
ROUGH = 0.02
"""Of the power that goes in: points that the fit misses by more are a finding."""
Points = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Losses:
    """Loss without load (W), by current (V) and by current² (Ω); by how much of its input power it misses the points,
    at most, and which."""

    coefficients: tuple[float, float, float]
    worst: float
    worst_at: int

    def loss(self, current: np.ndarray) -> np.ndarray:
        p_0, u_d, r = self.coefficients
        return np.asarray(p_0 + u_d * current + r * current**2)


@lru_cache(maxsize=32)
def fitted(points: Points, voltage: float) -> Losses:
    """For output powers (W) and efficiencies at an output voltage (V)."""
    from scipy.optimize import nnls  # slow to load, and few drives need it

    power, efficiency = np.array(points).T
    current, lost, taken = power / voltage, power * (1 / efficiency - 1), power / efficiency
    terms = np.stack([np.ones_like(current), current, current**2], axis=1)
    sizes = terms.max(axis=0)
    found = nnls(terms / taken[:, None] / sizes, lost / taken)[0] / sizes
    errors = np.abs(terms @ found - lost) / taken
    worst = int(np.argmax(errors))
    return Losses((float(found[0]), float(found[1]), float(found[2])), float(errors[worst]), worst)


def points_of(v: Values, card: Card) -> Points:
    return tuple((v[f"P_{k}"], v[f"eta_{k}"]) for k in range(len(card.rows)) if f"P_{k}" in v)


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    points = points_of(v, card)
    if not LEAST_POINTS <= len(points) <= MOST_POINTS:
        sentence = f"It has {len(points)} points of its efficiency. Give {LEAST_POINTS} to {MOST_POINTS} of the sheet."
        return [Contradiction(sentence, "rows:0")]
    if found := beyond_figures(points, v["U_out"]):
        return found
    fit = fitted(points, v["U_out"])
    if fit.worst > ROUGH:
        power, efficiency = points[fit.worst_at]
        sentence = (
            f"row {fit.worst_at + 1} ({figure(power, 'W', 3)}, {100 * efficiency:.3g} %) is missed by "
            f"{100 * fit.worst:.2g} % of its power: losses by current and its square give no such curve. Look for "
            "a point that is off."
        )
        return [Contradiction(sentence, f"rows:{fit.worst_at}", fault=False)]
    return []


def fit_of(v: Values, card: Card) -> Losses | None:
    return None if any(c.fault for c in contradictions(v, card)) else fitted(points_of(v, card), v["U_out"])


def equation_values(v: Values, card: Card) -> dict[str, float]:
    fit = fit_of(v, card)
    return {**v, **dict(zip(("P_0", "U_d", "R_loss"), fit.coefficients if fit else (0.0, 0.0, 0.0)))}


def follows(v: Values, card: Card) -> list[Figure]:
    fit = fit_of(v, card)
    if fit is None:
        return []
    p_0, u_d, r = fit.coefficients
    return [
        Figure("Loss without load", "P_0", p_0, "W"),
        Figure("by current", "U_d", u_d, "V"),
        Figure("by current²", "R", r, "mΩ"),
        Figure("Fit misses its points by up to", "", fit.worst, "%"),
    ]


def curve(v: Values, card: Card) -> Curve | None:
    fit = fit_of(v, card)
    if fit is None:
        return None
    power = np.linspace(0.01, 1.0, 100) * max(p for p, _ in points_of(v, card))
    lost = fit.loss(power / v["U_out"])
    return Curve("Efficiency, fitted", "Output power", "W", "%", power, power / (power + lost))


KIND = Part(
    id="converter_by_points",
    title="DC-DC converter, by its efficiency",
    sentence="Holds an output voltage, with losses fitted to points of its efficiency over power.",
    group=Group.CONVERTER,
    keywords="dcdc efficiency map curve sheet auxiliary supply system trip",
    ports=loads.CONVERTER_PORTS,
    values=loads.HOLDS,
    rows=Rows(
        "Efficiency",
        (
            Value("P", "Output power", "W", "200", low=0.0, open_low=True),
            Value("eta", "Efficiency", "%", "92", low=0.0, open_low=True, high=1.0),
        ),
        ("200 W", "92 %"),
        (("20 W", "75.6 %"), ("50 W", "87.2 %"), ("100 W", "91.6 %"), ("250 W", "93.3 %"), ("500 W", "91.8 %")),
    ),
    signals=loads.CONVERTER_SIGNALS,
    build=loads.build_converter,
    equation_values=equation_values,
    contradictions=contradictions,
    follows=follows,
    curve=curve,
    summary=lambda v, card: (v["U_out"], f"{len(card.rows)} points"),
    main_signal="power",
    spine="= =",
    conduction=loads.CONVERTER_CONDUCTION,
)
