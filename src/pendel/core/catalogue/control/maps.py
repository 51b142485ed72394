"""Tables over two signals: any, and the currents for a torque from the flux tables of a machine."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from pendel.core.catalogue.control.ports import EVERY, gives, reads
from pendel.core.catalogue.declare import ANY, Block, Contradiction, Figure, Rows, Value, Values
from pendel.core.catalogue.machines import flux
from pendel.core.catalogue.machines.optima import CurrentPlane, strongest
from pendel.core.drive.document import Card, FluxTable
from pendel.core.vocabulary import ValueRole

MOST_POINTS = 4000
NODES = 21
"""Torques and fluxes at which the currents are found; between them the block goes straight."""
LEAST_FLUX = 0.12
"""The lowest flux in the table, as a share of the highest."""


def packed(axes: Sequence[np.ndarray], layers: Sequence[np.ndarray]) -> list[tuple[float, float]]:
    """A map as ``mapped`` reads it in the emitted C: sizes and axes in the first column, the layers, (n_x,
    n_y) each, in the second."""
    head = np.concatenate([[len(a) for a in axes], *axes])
    body = np.concatenate([np.ravel(layer) for layer in layers])
    columns = np.zeros((max(len(head), len(body)), 2))
    columns[: len(head), 0], columns[: len(body), 1] = head, body
    return [(float(a), float(b)) for a, b in columns]


def update_map(x, y, out, table, dt):
    out = mapped(table, 0.0, x, y)


def update_currents(torque, speed, u_link, i_d, i_q, U_dc, share, table, dt):
    """The voltage leaves a flux; beyond the torque it reaches, the most there is. Layers are i_d and i_q over
    torque and flux."""
    link = u_link if u_link > 0.05 * U_dc else U_dc
    left = share * link * 0.5773502691896258 / maximum(absolute(speed), 0.001)
    size = absolute(torque)
    i_d = mapped(table, 0.0, size, left)
    i_q = mapped(table, 1.0, size, left)
    if torque < 0.0:
        i_q = -i_q


def grid_of(v: Values, card: Card) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Both axes, sorted, and the values over them, shape (n_x, n_y); NaN where the rows give none."""
    x, y, z = (np.array([v[f"{n}_{k}"] for k in range(len(card.rows))]) for n in "xyz")
    xs, ys = np.unique(x), np.unique(y)
    values = np.full((len(xs), len(ys)), np.nan)
    values[np.searchsorted(xs, x), np.searchsorted(ys, y)] = z
    return xs, ys, values


def holes(v: Values, card: Card) -> list[Contradiction]:
    if len(card.rows) > MOST_POINTS:
        return [
            Contradiction(
                f"The table has {len(card.rows)} points; at most {MOST_POINTS} are possible. Leave some out.",
                "rows",
            )
        ]
    xs, ys, values = grid_of(v, card)
    if len(xs) < 2 or len(ys) < 2:
        return [Contradiction("The table needs two different x and two different y at least. Add rows.", "rows")]
    seen: set[tuple[float, float]] = set()
    for k in range(len(card.rows)):
        at = (v[f"x_{k}"], v[f"y_{k}"])
        if at in seen:
            return [
                Contradiction(
                    f"Row {k + 1} gives the point x = {at[0]:g}, y = {at[1]:g} a second time. Delete one of the two.",
                    "rows",
                )
            ]
        seen.add(at)
    empty = np.argwhere(np.isnan(values))
    if len(empty):
        k, j = empty[0]
        return [
            Contradiction(
                f"The table has no value at x = {xs[k]:g}, y = {ys[j]:g}. Every x needs every y; add that row.",
                "rows",
            )
        ]
    return []


def map_table(v: Values, card: Card) -> list[tuple[float, float]]:
    xs, ys, values = grid_of(v, card)
    return packed((xs, ys), (values,))


@lru_cache(maxsize=16)
def current_maps(table: FluxTable, p: float, I_max: float) -> tuple[tuple[float, float], ...]:
    plane = CurrentPlane(table, flux.fitted(table), p, I_max)
    top, d, q = plane.maximum()
    own = flux.fitted(table).fluxes(d, q)
    widest = 1.05 * max(math.hypot(float(own[0][0, 0]), float(own[1][0, 0])), float(plane.flux[:, 0].min()))
    torques, fluxes = np.linspace(0.0, top, NODES), np.linspace(LEAST_FLUX, 1.0, NODES) * widest
    operating_points = [plane.minimum(float(t), fluxes) for t in torques]
    return tuple(packed((torques, fluxes), [np.array([f[k] for f in operating_points]) for k in (0, 1)]))


def torque_maps(v: Values, card: Card) -> list[tuple[float, float]]:
    return list(current_maps(card.flux, v["p"], v["I_max"]))


def lacking(v: Values, card: Card) -> list[Contradiction]:
    if card.flux is None:
        return [
            Contradiction(
                "It has no flux tables yet. Load them on its page “Tables”, or take those of the machine.", "flux"
            )
        ]
    return [Contradiction(c.sentence, "flux") for c in flux.faults(card.flux)]


def reach(v: Values, card: Card) -> list[Figure]:
    if card.flux is None or flux.faults(card.flux):
        return []
    torque, d, q = strongest(flux.fitted(card.flux), v["p"], v["I_max"], within=card.flux)
    return [
        Figure("Torque at most", "M_max", torque, "N·m"),
        Figure("with along d", "i_d", d, "A"),
        Figure("and along q", "i_q", q, "A"),
    ]


CORNERS = (("0", "0", "0"), ("0", "1", "0"), ("1", "0", "0"), ("1", "1", "1"))
KINDS = (
    Block(
        id="map",
        title="Table over two signals",
        sentence="A surface by points on a grid, straight between them and level beyond.",
        group="arithmetic",
        keywords="lookup map characteristic two dimensions 2-d interpolation surface",
        ports=(reads("x", "First input"), reads("y", "Second input"), gives()),
        values=(EVERY,),
        update=update_map,
        passes_unit=False,
        rows=Rows(
            "Points",
            (Value("x", "x", ANY, "0", at="x"), Value("y", "y", ANY, "0", at="y"), Value("z", "Value", ANY, "0")),
            ("0", "0", "0"),
            CORNERS,
        ),
        contradictions=holes,
        tables=map_table,
        summary=lambda v, card: (f"{len(card.rows)} points",),
        mark="x y",
    ),
    Block(
        id="torque_to_currents_tables",
        title="Torque to currents, by tables",
        sentence="Least current for a torque, and field weakening, from flux tables.",
        group="setpoint",
        keywords="mtpa field weakening flux foc pmsm reluctance saturation setpoint torque current map",
        ports=(
            reads("torque", "Torque demand", unit="N·m"),
            reads("speed", "Electrical speed", unit="rad/s", required=False),
            reads("u_link", "Link voltage", side="bottom", unit="V", required=False),
            gives("i_d", "Current along d", unit="A"),
            gives("i_q", "Current along q", unit="A"),
        ),
        values=(
            Value("p", "Pole pairs", "", "4", low=1.0, whole=True, role=ValueRole.POLE_PAIRS),
            Value("I_max", "Peak current", "A", "250", low=0.0, open_low=True, role=ValueRole.CURRENT_LIMIT),
            Value("U_dc", "Link voltage", "V", "560", low=0.0, open_low=True, role=ValueRole.LINK_VOLTAGE),
            Value(
                "share",
                "Share of range",
                "%",
                "98",
                low=0.0,
                open_low=True,
                high=1.2,
                role=ValueRole.VOLTAGE_SHARE,
            ),
            EVERY,
        ),
        takes_flux=True,
        update=update_currents,
        tables=torque_maps,
        contradictions=lacking,
        follows=reach,
        summary=lambda v, card: ("by tables", f"to {v['I_max']}"),
        mark="M ψ",
    ),
)
