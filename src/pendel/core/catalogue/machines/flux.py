"""Flux tables of a synchronous machine: what is wrong with them, and the smooth co-energy that stands behind them.

One function w(i_d, i_q) is fitted so that its slopes are the tables, ψ_d = ∂w/∂i_d and ψ_q = ∂w/∂i_q: then no current can run
in a circle and gain energy, and the incremental inductances are w's second derivatives, equal across (Vagati, Pastorelli,
Franceschini: IEEE Trans. Ind. Appl. 33 (1997) 1111, for the condition; the fit is our own). w is a tensor spline of degree 4, so
that the fluxes are smooth to their second derivative.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np

from pendel.core.drive.document import FluxTable
from pendel.core.quantities.units import figure

if TYPE_CHECKING:
    import scipy.sparse

DEGREE = 4
MOST_CELLS = 60
PAD = 0.25
"""Share of the table's range by which the fit goes on beyond it, along the table's border slopes."""
PAD_WEIGHT = 0.1
STIFFNESS = 1e-3
"""Weight of the third differences of coefficients, so that what the data leave open is smooth."""
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
        return [Concern(f"The {name} axis has an empty value at place {int(np.flatnonzero(~np.isfinite(axis))[0]) + 1}. Fill it.")]  # fmt: skip
    back = np.flatnonzero(np.diff(axis) <= 0)
    if len(back):
        k = int(back[0])
        return [Concern(f"The {name} axis is not sorted: {figure(axis[k + 1], 'A')} follows {figure(axis[k], 'A')}. Sort the table by {name}.")]  # fmt: skip
    return []


def concerns(table: FluxTable, most: float = float("nan")) -> list[Concern]:
    """What is wrong or doubtful: holes, axes, signs, monotonic rise, symmetry across, range against ``most`` (A)."""
    i_d, i_q = np.array(table.i_d), np.array(table.i_q)
    found = axis_faults("i_d", i_d) + axis_faults("i_q", i_q)
    shapes = {name: np.shape(np.array(rows, dtype=object)) for name, rows in (("psi_d", table.psi_d), ("psi_q", table.psi_q))}  # fmt: skip
    for name, shape in shapes.items():
        if shape != (len(i_d), len(i_q)):
            found.append(Concern(f"{name} is {' by '.join(map(str, shape))}, the axes are {len(i_d)} by {len(i_q)}. Swap rows and columns, or choose other axes."))  # fmt: skip
    if any(c.fault for c in found):
        return found
    psi_d, psi_q = np.array(table.psi_d, float), np.array(table.psi_q, float)
    for name, psi in (("psi_d", psi_d), ("psi_q", psi_q)):
        holes = np.argwhere(~np.isfinite(psi))
        if len(holes):
            k, j = holes[0]
            more = f", and {len(holes) - 1} more" if len(holes) > 1 else ""
            found.append(Concern(f"{name} has a hole at i_d {figure(i_d[k], 'A')}, i_q {figure(i_q[j], 'A')}{more}. Fill it or leave its row out."))  # fmt: skip
    if any(c.fault for c in found):
        return found
    return found + doubts(i_d, i_q, psi_d, psi_q, most)


def doubts(i_d, i_q, psi_d, psi_q, most: float) -> list[Concern]:
    found: list[Concern] = []
    for name, axis_name, psi, way in (("psi_d", "i_d", psi_d, 0), ("psi_q", "i_q", psi_q, 1)):
        slope = np.diff(psi, axis=way)
        falls = np.argwhere(slope <= 0)
        if len(falls) > 0.5 * slope.size:
            found.append(Concern(f"{name} falls with {axis_name}: its sign convention is the other one. Turn the sign of {name} or of {axis_name}, or take generator currents as motor currents."))  # fmt: skip
        elif len(falls):
            k, j = falls[0]
            more = (
                f" and at {len(falls) - 1} more places"
                if len(falls) > 2
                else " and at one more place"
                if len(falls) == 2
                else ""
            )
            found.append(Concern(f"{name} does not rise with {axis_name} at i_d {figure(i_d[k], 'A')}, i_q {figure(i_q[j], 'A')}{more}. A machine cannot do that; smooth the table there."))  # fmt: skip
    if any(c.fault for c in found):
        return found
    import scipy.interpolate  # slow to load, and few drives need it

    at_rest = scipy.interpolate.RegularGridInterpolator((i_d, i_q), psi_d, bounds_error=False, fill_value=None)([[0.0, 0.0]])[0]  # fmt: skip
    if at_rest < -1e-3 * np.max(np.abs(psi_d)):
        found.append(Concern(f"Without current psi_d is {figure(at_rest, 'Wb')}, so the magnet points along −d. Turn the signs of i_d and psi_d.", False))  # fmt: skip
    gap, k, j = asymmetry(i_d, i_q, psi_d, psi_q)
    if gap > UNEQUAL_WORTH_TELLING:
        found.append(Concern(f"The tables do not come from one energy: dψ_d/di_q and dψ_q/di_d differ by up to {100 * gap:.1f} % of the largest inductance, at i_d {figure(i_d[k], 'A')}, i_q {figure(i_q[j], 'A')}. The fit takes what lies between.", False))  # fmt: skip
    reach = min(-i_d[0], i_q[-1])
    if most == most and most > 1.001 * reach:
        found.append(Concern(f"The current limit of {figure(most, 'A')} lies beyond the table, which ends at i_d {figure(i_d[0], 'A')} and i_q {figure(i_q[-1], 'A')}. Beyond it the border's slopes go on.", False))  # fmt: skip
    return found


def asymmetry(i_d, i_q, psi_d, psi_q) -> tuple[float, int, int]:
    """Largest difference of the cross inductances over the largest own one, and where (indices)."""
    cross_d, cross_q = np.gradient(psi_d, i_q, axis=1, edge_order=2), np.gradient(psi_q, i_d, axis=0, edge_order=2)  # fmt: skip
    own = max(
        np.max(np.abs(np.gradient(psi_d, i_d, axis=0))), np.max(np.abs(np.gradient(psi_q, i_q, axis=1)))
    )
    gap = np.abs(cross_d - cross_q)
    k, j = np.unravel_index(int(np.argmax(gap)), gap.shape)
    return float(gap[k, j] / own), int(k), int(j)


@dataclass(frozen=True, eq=False)
class CoEnergy:
    """The fitted w (J over 3/2) on ``cells`` cells along d and q; ``low`` and ``step`` in A, coefficients (n_d + 4, n_q + 4)."""

    low: tuple[float, float]
    step: tuple[float, float]
    cells: tuple[int, int]
    coefficients: np.ndarray
    misfit: float
    """Largest gap of the fitted fluxes to the table's, over the largest flux."""

    @property
    def numbers(self) -> tuple[float, ...]:
        """As ``plant/surfaces.c`` reads them."""
        head = (self.low[0], self.step[0], self.low[1], self.step[1])
        return (*head, *map(float, self.coefficients.ravel()))

    def derivative(self, i_d, i_q, by_d: int, by_q: int) -> np.ndarray:
        """A derivative of w over a grid, shape (len(i_d), len(i_q)); within the fitted range."""
        rows = [
            self.basis(axis, np.atleast_1d(x), n) for axis, (x, n) in enumerate(((i_d, by_d), (i_q, by_q)))
        ]
        return rows[0] @ self.coefficients @ rows[1].T

    def along(self, i_d: np.ndarray, i_q: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Fluxes at pairs of currents, shape (n,) each."""
        bases = [[self.basis(axis, x, n) for n in (0, 1)] for axis, x in enumerate((i_d, i_q))]
        c = self.coefficients
        return np.sum((bases[0][1] @ c) * bases[1][0], axis=1), np.sum(
            (bases[0][0] @ c) * bases[1][1], axis=1
        )

    def basis(self, axis: int, x: np.ndarray, derivative: int) -> np.ndarray:
        return design(self.low[axis], self.step[axis], self.cells[axis], x, derivative).toarray()

    def fluxes(self, i_d, i_q) -> tuple[np.ndarray, np.ndarray]:
        return self.derivative(i_d, i_q, 1, 0), self.derivative(i_d, i_q, 0, 1)

    def inductances(self, i_d, i_q) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Incremental L_dd, L_dq, L_qq (H) over a grid."""
        return tuple(self.derivative(i_d, i_q, *n) for n in ((2, 0), (1, 1), (0, 2)))  # type: ignore[return-value]


def design(low: float, step: float, cells: int, x: np.ndarray, derivative: int) -> scipy.sparse.csr_matrix:
    """Values of a derivative of all basis functions at ``x``, shape (len(x), cells + 4)."""
    import scipy.interpolate
    import scipy.sparse

    knots = low + step * np.arange(-DEGREE, cells + DEGREE + 1)
    inside = np.clip(x, low, low + cells * step)
    columns = []
    for k in range(cells + DEGREE):
        unit = np.zeros(cells + DEGREE)
        unit[k] = 1.0
        columns.append(scipy.interpolate.BSpline(knots, unit, DEGREE)(inside, nu=derivative))
    return scipy.sparse.csr_matrix(np.array(columns).T)


def padded(axis: np.ndarray, psi: np.ndarray, way: int) -> tuple[np.ndarray, np.ndarray]:
    """A table made longer on both sides along one axis, along its border slopes."""
    n = max(2, round(PAD * (len(axis) - 1)))
    psi = np.moveaxis(psi, way, 0)
    before = axis[0] - (axis[1] - axis[0]) * np.arange(n, 0, -1)
    after = axis[-1] + (axis[-1] - axis[-2]) * np.arange(1, n + 1)
    slope_0, slope_1 = (psi[1] - psi[0]) / (axis[1] - axis[0]), (psi[-1] - psi[-2]) / (axis[-1] - axis[-2])
    low = psi[0] + (before - axis[0])[:, None] * slope_0
    high = psi[-1] + (after - axis[-1])[:, None] * slope_1
    return np.concatenate([before, axis, after]), np.moveaxis(np.concatenate([low, psi, high]), 0, way)


@lru_cache(maxsize=16)
def fitted(table: FluxTable) -> CoEnergy:
    """Least squares of both tables at once; the table must be free of faults."""
    import scipy.sparse.linalg  # slow to load, and few drives need it

    axes = [np.array(table.i_d), np.array(table.i_q)]
    psi = [np.array(table.psi_d, float), np.array(table.psi_q, float)]
    own = [len(a) for a in axes]
    sizes = [max(2, round(PAD * (n - 1))) for n in own]
    wide = list(axes)
    for way in range(2):
        longer = [padded(axes[way], p, way) for p in psi]
        wide[way], psi = longer[0][0], [p for _, p in longer]
    weight = np.full([len(a) for a in wide], PAD_WEIGHT)
    weight[sizes[0] : sizes[0] + own[0], sizes[1] : sizes[1] + own[1]] = 1.0
    low = [float(a[0]) for a in wide]
    cells = [min(MOST_CELLS, len(a) - 1) for a in wide]
    step = [float(a[-1] - a[0]) / n for a, n in zip(wide, cells)]
    value, slope = ([design(low[k], step[k], cells[k], wide[k], n) for k in range(2)] for n in (0, 1))
    scale = max(float(np.max(np.abs(p))) for p in psi)
    rows = scipy.sparse.vstack([scipy.sparse.kron(slope[0], value[1]), scipy.sparse.kron(value[0], slope[1])])
    weights = scipy.sparse.diags(np.tile(weight.ravel(), 2))
    bend = [scipy.sparse.csr_matrix(np.diff(np.eye(n + DEGREE), 3, axis=0)) for n in cells]
    eye = [scipy.sparse.identity(n + DEGREE) for n in cells]
    smooth = scipy.sparse.vstack([scipy.sparse.kron(bend[0], eye[1]), scipy.sparse.kron(eye[0], bend[1])])
    unit = min(step)
    # w is free by a constant; the last row settles it.
    anchor = scipy.sparse.csr_matrix(([1.0], ([0], [0])), shape=(1, rows.shape[1]))
    matrix = scipy.sparse.vstack([weights @ rows * unit, STIFFNESS * smooth, anchor]).tocsc()
    wanted = np.concatenate([(weight * p / scale).ravel() * unit for p in psi] + [np.zeros(smooth.shape[0] + 1)])  # fmt: skip
    found = scipy.sparse.linalg.spsolve((matrix.T @ matrix).tocsc(), matrix.T @ wanted) * scale
    fit = CoEnergy((low[0], low[1]), (step[0], step[1]), (cells[0], cells[1]), found.reshape([n + DEGREE for n in cells]), 0.0)  # fmt: skip
    gaps = [np.max(np.abs(a - np.array(b))) for a, b in zip(fit.fluxes(*axes), (table.psi_d, table.psi_q))]
    origin = fit.derivative(0.0, 0.0, 0, 0)[0, 0]
    return CoEnergy(fit.low, fit.step, fit.cells, fit.coefficients - origin, float(max(gaps)) / scale)


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
    """The table of a winding in delta as that of the star it is equivalent to: its lines carry √3 times the current of a winding,
    and a phase of the star links 1/√3 of the flux. Both turn by 30°, and with them the axes, so that d and q stay."""
    more, less = 3**0.5, 3**-0.5
    i_d, i_q = more * np.array(table.i_d), more * np.array(table.i_q)
    psi_d, psi_q = less * np.array(table.psi_d, float), less * np.array(table.psi_q, float)
    return table_of(i_d, i_q, psi_d, psi_q, table.source)


def table_of(i_d, i_q, psi_d, psi_q, source: str = "") -> FluxTable:
    """A table from arrays: axes (n,), (m,), fluxes (n, m)."""
    d, q = (tuple(tuple(float(v) for v in row) for row in psi) for psi in (psi_d, psi_q))
    return FluxTable(tuple(map(float, i_d)), tuple(map(float, i_q)), d, q, source)
