"""Flux tables of a synchronous machine: what is wrong with them, made whole, turned from delta to star.

The smooth co-energy that stands behind them is fitted in ``co_energy.py``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pendel.core.catalogue.machines.co_energy import CoEnergy, fitted, left_out
from pendel.core.drive.document import FluxTable
from pendel.core.quantities.units import figure

UNEQUAL_WORTH_TELLING = 0.02


@dataclass(frozen=True)
class Concern:
    """A sentence about a table; a fault keeps it from being used."""

    sentence: str
    fault: bool = True


def axis_faults(name: str, axis: np.ndarray) -> list[Concern]:
    if len(axis) < 4:
        return [Concern(f"The {name} axis has {len(axis)} values; at least 4 are needed.")]
    if not np.all(np.isfinite(axis)):
        return [
            Concern(
                f"The {name} axis has an empty value at place "
                f"{int(np.flatnonzero(~np.isfinite(axis))[0]) + 1}. Fill it."
            )
        ]
    back = np.flatnonzero(np.diff(axis) <= 0)
    if len(back):
        k = int(back[0])
        return [
            Concern(
                f"The {name} axis is not sorted: {figure(axis[k + 1], 'A')} follows "
                f"{figure(axis[k], 'A')}. Sort the table by {name}."
            )
        ]
    return []


def concerns(table: FluxTable, maximum: float = float("nan")) -> list[Concern]:
    """What is wrong or doubtful: holes, axes, signs, monotonic rise, symmetry across, range against ``maximum``
    (A). Where nothing is wrong, the fit is needed: see `pendel.core.worked_out`."""
    return faults(table) or doubts(table, maximum)


def faults(table: FluxTable) -> list[Concern]:
    """Why a table cannot be used: holes, axes, signs."""
    i_d, i_q = np.array(table.i_d), np.array(table.i_q)
    concerns = axis_faults("i_d", i_d) + axis_faults("i_q", i_q)
    shapes = {
        name: np.shape(np.array(rows, dtype=object)) for name, rows in (("psi_d", table.psi_d), ("psi_q", table.psi_q))
    }
    for name, shape in shapes.items():
        if shape != (len(i_d), len(i_q)):
            concerns.append(
                Concern(
                    f"{name} is {' by '.join(map(str, shape))}, the axes are {len(i_d)} by {len(i_q)}. "
                    "Swap rows and columns, or choose other axes."
                )
            )
    if any(c.fault for c in concerns):
        return concerns
    psi_d, psi_q = np.array(table.psi_d, float), np.array(table.psi_q, float)
    for name, psi in (("psi_d", psi_d), ("psi_q", psi_q)):
        holes = np.argwhere(~np.isfinite(psi))
        if len(holes):
            k, j = holes[0]
            more = f", and {len(holes) - 1} more" if len(holes) > 1 else ""
            concerns.append(
                Concern(
                    f"{name} has a hole at i_d {figure(i_d[k], 'A')}, i_q {figure(i_q[j], 'A')}{more}. "
                    "Fill it or leave its row out."
                )
            )
    if concerns:
        return concerns
    return [c for c in falls(i_d, i_q, psi_d, psi_q) if c.fault]


def falls(i_d: np.ndarray, i_q: np.ndarray, psi_d: np.ndarray, psi_q: np.ndarray) -> list[Concern]:
    """Where fluxes fall with their currents."""
    doubts: list[Concern] = []
    for name, axis_name, psi, way in (("psi_d", "i_d", psi_d, 0), ("psi_q", "i_q", psi_q, 1)):
        slope = np.diff(psi, axis=way)
        falls = np.argwhere(slope <= 0)
        if len(falls) > 0.5 * slope.size:
            doubts.append(
                Concern(
                    f"{name} falls with {axis_name}: its sign convention is the other one. Turn the sign "
                    f"of {name} or of {axis_name}, or take generator currents as motor currents."
                )
            )
        elif len(falls):
            k, j = falls[0]
            more = (
                f" and at {len(falls) - 1} more places"
                if len(falls) > 2
                else " and at one more place"
                if len(falls) == 2
                else ""
            )
            doubts.append(
                Concern(
                    f"{name} does not rise with {axis_name} at i_d {figure(i_d[k], 'A')}, i_q "
                    f"{figure(i_q[j], 'A')}{more}. A machine cannot do that.",
                    False,
                )
            )
    return doubts


def doubts(table: FluxTable, maximum: float) -> list[Concern]:
    """What is doubtful in a table without faults."""
    import scipy.interpolate  # slow to load, and few drives need it

    i_d, i_q = np.array(table.i_d), np.array(table.i_q)
    psi_d, psi_q = np.array(table.psi_d, float), np.array(table.psi_q, float)
    doubts = falls(i_d, i_q, psi_d, psi_q)

    at_rest = scipy.interpolate.RegularGridInterpolator((i_d, i_q), psi_d, bounds_error=False, fill_value=None)(
        [[0.0, 0.0]]
    )[0]
    if at_rest < -1e-3 * np.max(np.abs(psi_d)):
        doubts.append(
            Concern(
                f"Without current psi_d is {figure(at_rest, 'Wb')}, so the magnet points along −d. Turn "
                "the signs of i_d and psi_d.",
                False,
            )
        )
    fit = fitted(table)
    if fit.bent > 0:
        d, q = fit.bent_at
        doubts.append(
            Concern(
                f"The tables bend the wrong way, most of all near i_d {figure(d, 'A')}, i_q "
                f"{figure(q, 'A')}: an incremental inductance would be {100 * fit.bent:.2g} % of the "
                "largest below zero. The nearest fit that a machine can have is taken; it misses the "
                f"tables by up to {100 * fit.misfit:.2g} %.",
                False,
            )
        )
    gap, k, j = asymmetry(i_d, i_q, psi_d, psi_q)
    if gap > UNEQUAL_WORTH_TELLING:
        doubts.append(
            Concern(
                "The tables do not come from one energy: dψ_d/di_q and dψ_q/di_d differ by up to "
                f"{100 * gap:.1f} % of the largest inductance, at i_d {figure(i_d[k], 'A')}, i_q "
                f"{figure(i_q[j], 'A')}. The fit takes what lies between.",
                False,
            )
        )
    far = i_d[0] if -i_d[0] >= i_d[-1] else i_d[-1]  # a reluctance machine may have its field along +d
    reach = min(abs(far), i_q[-1])
    if maximum == maximum and maximum > 1.001 * reach:
        doubts.append(
            Concern(
                f"The current limit of {figure(maximum, 'A')} lies beyond the table, which ends at i_d "
                f"{figure(far, 'A')} and i_q {figure(i_q[-1], 'A')}. Beyond it the fluxes go on "
                "straight, which is a guess.",
                False,
            )
        )
    return doubts


def asymmetry(i_d: np.ndarray, i_q: np.ndarray, psi_d: np.ndarray, psi_q: np.ndarray) -> tuple[float, int, int]:
    """Largest difference of the cross inductances over the largest own one, and where (indices)."""
    cross_d, cross_q = (
        np.gradient(psi_d, i_q, axis=1, edge_order=2),
        np.gradient(psi_q, i_d, axis=0, edge_order=2),
    )
    own = max(np.max(np.abs(np.gradient(psi_d, i_d, axis=0))), np.max(np.abs(np.gradient(psi_q, i_q, axis=1))))
    gap = np.abs(cross_d - cross_q)
    k, j = np.unravel_index(int(np.argmax(gap)), gap.shape)
    return float(gap[k, j] / own), int(k), int(j)


def mirrored(table: FluxTable) -> FluxTable:
    """A table given for i_q from 0 up only, made whole: psi_d is even in i_q, psi_q odd."""
    i_q, psi_d, psi_q = np.array(table.i_q), np.array(table.psi_d, float), np.array(table.psi_q, float)
    start = 1 if i_q[0] == 0 else 0
    psi_q = psi_q.copy()
    if start:
        psi_q[:, 0] = 0.0
    whole = np.concatenate([-i_q[start:][::-1], i_q])
    even = np.concatenate([psi_d[:, start:][:, ::-1], psi_d], axis=1)
    odd = np.concatenate([-psi_q[:, start:][:, ::-1], psi_q], axis=1)
    return table_of(np.array(table.i_d), whole, even, odd, table.source)


def star_of(table: FluxTable) -> FluxTable:
    """The table of a winding in delta as that of the star it is equivalent to: its lines carry √3 times the
    current of a winding, and a phase of the star links 1/√3 of the flux. Both turn by 30°, and with them the
    axes, so that d and q stay."""
    more, less = 3**0.5, 3**-0.5
    i_d, i_q = more * np.array(table.i_d), more * np.array(table.i_q)
    psi_d, psi_q = less * np.array(table.psi_d, float), less * np.array(table.psi_q, float)
    return table_of(i_d, i_q, psi_d, psi_q, table.source)


def table_of(i_d: np.ndarray, i_q: np.ndarray, psi_d: np.ndarray, psi_q: np.ndarray, source: str = "") -> FluxTable:
    """A table from arrays: axes (n,), (m,), fluxes (n, m)."""
    d, q = (tuple(tuple(float(v) for v in row) for row in psi) for psi in (psi_d, psi_q))
    return FluxTable(tuple(map(float, i_d)), tuple(map(float, i_q)), d, q, source)


__all__ = ["CoEnergy", "Concern", "concerns", "faults", "fitted", "left_out", "mirrored", "star_of", "table_of"]
