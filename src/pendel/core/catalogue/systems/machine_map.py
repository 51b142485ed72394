"""A machine with its converter by limits, a lag and a map of its losses, as a sheet has one or a bench measures it.

Points may lie anywhere. Losses are their sum by causes (see `envelope`) as far as that goes, and a smooth surface for
what that leaves, over speed and torque; generating is on the map only where it has points of it, else its losses are
taken to be those of motoring."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import casadi as ca
import numpy as np

from pendel.core.catalogue.declare import Contradiction, Curve, Figure, Part, Rows, Value, Values
from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.catalogue.settled import Turner
from pendel.core.catalogue.systems.envelope import (
    LIMITS,
    PORTS,
    SIGNALS,
    STATES,
    TERMS,
    loss_terms,
    most_torque,
    short_of_torque,
    state,
    terms_at,
)
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

LEAST_POINTS, MOST_POINTS = 6, 4000
SMALL = 0.02
"""Of the largest power: where less goes through, an error counts as a fraction of this."""
ROUGH = 0.05
"""Of the power that goes through: a map that a point left out of it misses by more is a finding."""
Points = tuple[tuple[float, float, float, float], ...]
"""Speed (rad/s), torque (N·m), efficiency, loss (W); one of the last two is not-a-number."""


@dataclass(frozen=True, eq=False)
class MapFit:
    """``terms`` are coefficients of `TERMS`; ``missed`` relates to the power that goes in, or to `SMALL` of the
    largest."""

    terms: np.ndarray
    surface: Surface
    generating: bool
    missed: Misfit

    def loss(self, speed: np.ndarray, torque: np.ndarray, largest: float) -> np.ndarray:
        """P_loss (W) at speeds (rad/s) and torques (N·m), shape (n,)."""
        rest = self.surface.at(*folded(speed, torque, self.generating))
        return np.maximum(0.0, loss_terms(speed, torque, largest) @ self.terms + rest)


def folded(speed: np.ndarray, torque: np.ndarray, generating: bool) -> tuple[np.ndarray, np.ndarray]:
    """Places on the map: a machine that turns the other way is its mirror image."""
    w, m = np.asarray(speed, float), np.asarray(torque, float)
    return np.abs(w), np.where(w < 0, -m, m) if generating else np.abs(m)


def losses_at(points: Points) -> np.ndarray:
    """What the points say is lost (W): as given, or by the efficiency from where the power comes."""
    w, m, eta, loss = np.array(points).T
    power = w * m
    with np.errstate(divide="ignore", invalid="ignore"):
        lost = np.where(power > 0, power * (1 / eta - 1), -power * (1 - eta))
    return np.where(np.isnan(loss), lost, loss)


@lru_cache(maxsize=32)
def fitted(points: Points, largest: float) -> MapFit:
    """The map for points that have no faults."""
    from scipy.optimize import nnls  # slow to load, and few drives need it

    w, m, _, _ = np.array(points).T
    loss = losses_at(points)
    power = float(np.max(np.abs(w * m)))
    through = np.maximum(np.abs(w * m) + np.where(w * m > 0, loss, 0.0), SMALL * power)
    terms = loss_terms(w, m, largest)
    sizes = np.maximum(np.max(np.abs(terms), axis=0), 1e-30)
    coefficients = nnls(terms / through[:, None] / sizes, loss / through)[0] / sizes
    generating = bool(np.any(w * m < 0))
    x, y = folded(w, m, generating)
    surface, off = fit_surface(x, y, loss - terms @ coefficients, 1 / through)
    made = MapFit(coefficients, surface, generating, UNKNOWN)
    return replace(made, missed=misfit((made.loss(w, m, largest) - loss) / through, off / through))


def points_of(v: Values, card: Card) -> Points:
    return tuple((v[f"n_{k}"], v[f"M_{k}"], v[f"eta_{k}"], v[f"P_{k}"]) for k in range(len(card.rows)) if f"n_{k}" in v)


def map_of(v: Values, card: Card) -> MapFit | None:
    """None where its points have faults."""
    return None if any(c.fault for c in faults(v, card)) else fitted(points_of(v, card), v["M_max"])


def loss_of_map(v: Values, card: Card, speed: np.ndarray, torque: np.ndarray) -> np.ndarray:
    fit = map_of(v, card)
    return fit.loss(speed, torque, v["M_max"]) if fit else np.full(np.shape(speed), np.nan)


def build(c: PartContext) -> None:
    def loss_at(c: PartContext, speed: ca.SX, torque: ca.SX) -> ca.SX:
        size, turned = ca.fabs(speed), ca.if_else(speed < 0, -torque, torque)
        place = ca.if_else(c.value("generating") > 0.5, turned, ca.fabs(torque))
        return ca.fmax(0, terms_at(c, speed, torque) + c.surface("rest", size, place)["f"])

    state(c, loss_at)


def surfaces(card: Card, v: Values | None) -> SurfaceNumbers:
    fit = map_of(v, card) if v is not None else None
    return {"rest": ((CELLS, CELLS), (fit.surface if fit else flat()).numbers)}


def equation_values(v: Values, card: Card) -> dict[str, float]:
    fit = map_of(v, card)
    terms = fit.terms if fit else np.zeros(len(TERMS))
    return {**v, **dict(zip(TERMS, map(float, terms))), "generating": float(fit is not None and fit.generating)}


def faults(v: Values, card: Card) -> list[Contradiction]:
    points = points_of(v, card)
    if not LEAST_POINTS <= len(points) <= MOST_POINTS:
        sentence = f"Its map has {len(points)} points. Give {LEAST_POINTS} to {MOST_POINTS}, with efficiency or loss."
        return [Contradiction(sentence, "rows:0")]
    if found := beyond_figures(points, v["M_max"], v["P_max"]):
        return found
    for k, (w, m, eta, loss) in enumerate(points):
        where = f"Row {k + 1} ({figure(w, 'rpm', 3)}, {figure(m, 'N·m', 3)})"
        if np.isnan(eta) == np.isnan(loss):
            words = "both efficiency and loss" if not np.isnan(eta) else "neither efficiency nor loss"
            return [Contradiction(f"{where} gives {words}. Give one of them.", f"rows:{k}")]
        if not np.isnan(eta) and w * m == 0:
            return [Contradiction(f"{where} has no power, so no efficiency either. Give its loss.", f"rows:{k}")]
    return []


def contradictions(v: Values, card: Card) -> list[Contradiction]:
    if found := faults(v, card):
        return found
    fit = fitted(points_of(v, card), v["M_max"])
    if fit.missed.worst > ROUGH:
        w, m, *_ = points_of(v, card)[fit.missed.worst_at]
        return [rough(fit.missed, f"{figure(w, 'rpm', 3)}, {figure(m, 'N·m', 3)}", "the power there")]
    return []


def left_map(seen: Seen, key: str) -> Remark | None:
    """It was used where its map has no points."""
    fit = map_of(seen.values[key], seen.drive.cards[key])
    if fit is None:
        return None
    speed, torque = seen.run.on_rows([f"{key}.speed", f"{key}.torque"], slice(None)).T
    places = folded(speed, torque, fit.generating)
    return left_points(seen, key, places, fit.surface.spans, (("speeds", "rpm"), ("torques", "N·m")))


def follows(v: Values, card: Card) -> list[Figure]:
    fit = map_of(v, card)
    if fit is None:
        return []
    corner = v["P_max"] / v["M_max"]
    loss = float(fit.loss(np.array([corner]), np.array([v["M_max"]]), v["M_max"])[0])
    return [
        Figure("Corner speed", "n_c", corner, "rpm"),
        Figure("Efficiency there", "η", v["P_max"] / (v["P_max"] + loss), "%"),
        *fit.missed.figures,
    ]


def curve(v: Values, card: Card) -> Curve | None:
    """Efficiency over speed at half of the torque that it may give."""
    fit = map_of(v, card)
    if fit is None:
        return None
    top = max(fit.surface.spans[0][1], 1e-9)
    w = np.linspace(top / 100, top, 100)
    m = 0.5 * np.minimum(v["M_max"], v["P_max"] / w)
    return Curve(
        "Efficiency at half the largest torque", "Speed", "rpm", "%", w, m * w / (m * w + fit.loss(w, m, v["M_max"]))
    )


def first_rows() -> tuple[tuple[str, ...], ...]:
    """Of an invented machine: 120 N·m, 20 kW, to 4000 rpm."""
    rows = []
    for n in (0, 500, 1000, 1500, 2000, 3000, 4000):
        for m in (0, 15, 40, 80, 120):
            w = n * 2 * np.pi / 60
            if w * m > 21e3:
                continue
            loss = 60 + 0.4 * w + 1.2e-3 * w * w + (1500 + 1.2 * w) * (m / 120) ** 2
            eta = f"{100 * w * m / (w * m + loss):.3g} %" if w * m > 0 else ""
            rows.append((f"{n} rpm", f"{m} N*m", eta, "" if eta else f"{loss:.0f} W"))
    return tuple(rows)


KIND = Part(
    id="machine_by_map",
    title="Machine and converter, by a map",
    sentence="Limits and a lag, and losses by the points of a map of efficiency or loss over speed and torque.",
    group=Group.MACHINE,
    keywords="efficiency map loss contour envelope traction system trip vehicle generator sheet measured table",
    ports=PORTS,
    values=LIMITS,
    rows=Rows(
        "Map",
        (
            Value("n", "Speed", "rpm", "1000"),
            Value("M", "Torque", "N·m", "50"),
            Value("eta", "Effic.", "%", "", low=0.0, open_low=True, high=1.0),
            Value("P", "or loss", "W", "", low=0.0),
        ),
        ("1000 rpm", "50 N*m", "90 %", ""),
        first_rows(),
        needed=2,
    ),
    states=STATES,
    signals=SIGNALS,
    build=build,
    surfaces=surfaces,
    equation_values=equation_values,
    usual=(("torque", "missing"), ("link_power", "power")),
    contradictions=contradictions,
    follows=follows,
    curve=curve,
    remarks=(short_of_torque, left_map),
    summary=lambda v, card: (v["M_max"], f"{len(card.rows)} points"),
    main_signal="power",
    spine="M",
    settled=Turner(loss=loss_of_map, most=most_torque, link_power="link_power"),
)
