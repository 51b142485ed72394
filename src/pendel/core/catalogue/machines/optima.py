"""Currents that make a torque with the least current within a flux that the voltage leaves, from flux tables.

On a fine grid of i_d the i_q of each torque follows by interpolation, and the least current is chosen among
those within the limits; where none is, the currents of most torque within them. For the optimum see Morimoto,
Takeda, Hirasa, Taniguchi: IEEE Trans. Ind. Appl. 26 (1990) 866; the search is our own.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from pendel.core.catalogue.machines.flux import CoEnergy, fitted
from pendel.core.drive.document import FluxTable
from pendel.core.worked_out import worked_out

ALONG_D, ALONG_Q = 401, 201
SPEEDS = 61
LEADS = 181
"""Between which the best lead of a current is looked for."""


def torque_at(fit: CoEnergy, p: float, i_d: np.ndarray, i_q: np.ndarray) -> np.ndarray:
    """Torque (N·m) of currents (A) one by one, all of one shape."""
    psi_d, psi_q = fit.along(i_d, i_q)
    return 1.5 * p * (psi_d * i_q - psi_q * i_d)


def strongest(
    fit: CoEnergy, p: float, current: float, *, within: FluxTable | None = None
) -> tuple[float, float, float]:
    """Most torque (N·m) of a current of so many ampere, and its i_d and i_q; with ``within`` of those in the range
    of a table. Where only some currents of that size are in it, or none, a smaller one may have most torque.

    The lead is looked for on both sides of the q axis, as a reluctance machine whose d axis has the larger
    inductance has its best towards +d."""
    ranges = _leads(current, within)
    best = [
        (m, -current * math.sin(lead), current * math.cos(lead)) for m, lead in _best_leads(fit, p, current, ranges)
    ]
    if within is not None and ranges != [(-math.pi / 2, math.pi / 2)]:
        best.append(CurrentPlane(within, fit, p, current).maximum())
    return max(best)


def _leads(current: float, within: FluxTable | None) -> list[tuple[float, float]]:
    """Ranges of the lead from the q axis towards −d (rad), i_q from 0 up."""
    if within is None:
        return [(-math.pi / 2, math.pi / 2)]
    last, first = (math.asin(max(-1.0, min(1.0, -end / current))) for end in (within.i_d[0], within.i_d[-1]))
    off = math.acos(min(1.0, within.i_q[-1] / current)) if within.i_q[-1] > 0 else math.pi
    ranges = [(first, last)] if off == 0 else [(first, min(last, -off)), (max(first, off), last)]
    return [(low, high) for low, high in ranges if low <= high]


def _best_leads(
    fit: CoEnergy, p: float, current: float, ranges: list[tuple[float, float]]
) -> Iterator[tuple[float, float]]:
    """The most torque in each range, and its lead."""
    import scipy.optimize  # slow to load, and few drives need it

    def torque(lead: float | np.ndarray) -> np.ndarray:
        lead = np.atleast_1d(lead)
        return torque_at(fit, p, -current * np.sin(lead), current * np.cos(lead))

    for low, high in ranges:
        leads = np.linspace(low, high, LEADS)
        torques = torque(leads)
        k = int(np.argmax(torques))
        yield float(torques[k]), float(leads[k])
        around = leads[max(0, k - 1)], leads[min(LEADS - 1, k + 1)]
        if around[0] < around[1]:
            refined = scipy.optimize.minimize_scalar(
                lambda lead: -float(torque(lead)[0]), bounds=around, method="bounded", options={"xatol": 1e-8}
            )
            yield -float(refined.fun), float(refined.x)


class CurrentPlane:
    """Torque and flux over the currents of a machine, i_q from 0 up; shape (n_d, n_q)."""

    def __init__(self, table: FluxTable, fit: CoEnergy, p: float, I_max: float) -> None:
        low, high = max(table.i_d[0], -I_max), min(table.i_d[-1], I_max)
        self.d = np.linspace(low, high, ALONG_D)
        self.q = np.linspace(0.0, min(table.i_q[-1], I_max), ALONG_Q)
        psi_d, psi_q = fit.fluxes(self.d, self.q)
        self.torque = 1.5 * p * (psi_d * self.q - psi_q * self.d[:, None])
        self.flux = np.hypot(psi_d, psi_q)
        self.size = np.hypot(self.d[:, None], self.q)
        self.I_max = I_max

    def maximum(self, flux: float = np.inf) -> tuple[float, float, float]:
        """Torque, i_d and i_q of most torque within the current limit and a flux; where none is within, of
        least flux."""
        within = (self.size <= self.I_max * (1 + 1e-9)) & (self.flux <= flux)
        if np.any(within):
            k, j = np.unravel_index(int(np.argmax(np.where(within, self.torque, -np.inf))), within.shape)
        else:
            reach = np.where(self.size <= self.I_max * (1 + 1e-9), self.flux, np.inf)
            k, j = np.unravel_index(int(np.argmin(reach)), reach.shape)
        return float(self.torque[k, j]), float(self.d[k]), float(self.q[j])

    def minimum(self, torque: float, fluxes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """i_d and i_q of least current for a torque within each of ``fluxes``, shape (n,)."""
        above = self.torque >= torque
        first = np.argmax(above, axis=1)
        rows = np.flatnonzero(np.any(above, axis=1))
        after = np.maximum(first[rows], 1)
        before = after - 1
        rise = self.torque[rows, after] - self.torque[rows, before]
        share = np.clip((torque - self.torque[rows, before]) / np.where(rise > 0, rise, 1.0), 0.0, 1.0)

        def there(values: np.ndarray) -> np.ndarray:
            return values[rows, before] + share * (values[rows, after] - values[rows, before])

        i_d, i_q = self.d[rows], self.q[before] + share * (self.q[after] - self.q[before])
        size, flux = np.hypot(i_d, i_q), there(self.flux)
        currents = np.empty((2, len(fluxes)))
        for n, maximum in enumerate(fluxes):
            within = (size <= self.I_max * (1 + 1e-6)) & (flux <= maximum)
            if np.any(within):
                k = int(np.argmin(np.where(within, size, np.inf)))
                currents[:, n] = i_d[k], i_q[k]
            else:
                currents[:, n] = self.maximum(float(maximum))[1:]
        return currents[0], currents[1]


@worked_out
def envelope_of_tables(table: FluxTable, p: float, I_max: float, link: float) -> tuple[np.ndarray, np.ndarray]:
    """Largest torque (N·m) over speed (rad/s) of a machine by tables; the resistance is left out."""
    plane = CurrentPlane(table, fitted(table), p, I_max)
    top, d, q = plane.maximum()
    own = fitted(table).fluxes(d, q)
    corner = link / math.sqrt(3.0) / math.hypot(float(own[0][0, 0]), float(own[1][0, 0])) / p
    speeds = np.linspace(0.0, 3.0 * corner, SPEEDS)
    torques = [top if w <= corner else plane.maximum(link / math.sqrt(3.0) / (p * w))[0] for w in speeds]
    return speeds, np.maximum(np.array(torques), 0.0)
