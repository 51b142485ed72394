"""The least fuel with which a trip can be driven that ends with the same charge, by whatever split of the power.

A dynamic programme from the trip's end to its beginning (Bellman; Guzzella, Sciarretta: Vehicle Propulsion Systems,
appendix on dynamic programming; from memory): for each charge and step the way that takes least fuel from there on.
The road and other consumers on the link are as in the run; lags have settled, starts of the engine take nothing and
brakes act as they did, so that what is found is less than any strategy can reach in the run."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from pendel.core.check import examine
from pendel.core.drive.file import from_text
from pendel.core.drive.user_text import read_figure
from pendel.core.errors import DriveProblem
from pendel.core.files.writing import write_atomically
from pendel.core.quantities.units import figure
from pendel.core.runs.found.run_roles import kinds_in
from pendel.core.runs.record.kept import KeptRun
from pendel.core.system.fold import at_level
from pendel.core.trips.shafts import shafts_of
from pendel.core.trips.splits import Parts, Wanted, Ways, parts_in, wanted_in, ways_of

CHARGES, PRICED, SPLITS = 300, 40, 40
"""Charges that are looked at for a way and for the bound, and ways in which the engine runs."""
MOST_STEPS, FINE = 10_000, 30_001
LEAST_ROOM = 0.05
"""Of all charge: how far beyond those of the run charges are looked at."""
DEAR, FAR, CLOSE = 20.0, 100.0, 2e-4
"""Fuel energy over the energy of charge that is missing at the end: far more than any engine needs for it; all charge
so often for what a store cannot give; and how close to the best price is near enough, of that."""


@dataclass(frozen=True)
class BestSplit:
    """``times`` (s) are ends of steps, shape (steps + 1,), as are the charges (0 to 1); powers and speeds of the
    engine are means of steps, shape (steps,), in W and rad/s. Fuel in kg: ``fuel_run`` burnt in the run, ``fuel_own``
    by the same splits as this model of the trip sees them, ``fuel`` that of the best way that was found in it, and
    ``fuel_bound`` below which none goes that ends with that charge."""

    engine: str
    store: str
    times: np.ndarray
    charge_run: np.ndarray
    charge_own: np.ndarray
    charge: np.ndarray
    power_run: np.ndarray
    power: np.ndarray
    speed_run: np.ndarray
    speed: np.ndarray
    fuel_run: float
    fuel_own: float
    fuel: float
    fuel_bound: float
    at_the_edge: bool

    @property
    def saved(self) -> float:
        """Of the fuel of the run's own splits."""
        return max(0.0, 1 - self.fuel_bound / self.fuel_own) if self.fuel_own > 0 else 0.0

    @property
    def words(self) -> str:
        """What was found, in sentences."""
        own, bound, found = (figure(x, "g", 4) for x in (self.fuel_own, self.fuel_bound, self.fuel))
        said = [
            f"No split of the power drives this trip on less than {bound} and ends at "
            f"{100 * self.charge_own[-1]:.1f} % of charge; one that takes {found} was found. The run's own splits take "
            f"{own}, of which {100 * self.saved:.1f} % can be saved at most.",
            f"All by a model of the trip in steps; the run itself burnt {figure(self.fuel_run, 'g', 4)} and ended at "
            f"{100 * self.charge_run[-1]:.1f} %.",
        ]
        if self.at_the_edge:
            said.append("The best way meets the end of the charges that were looked at.")
        return "\n".join(said)

    def rows(self) -> list[tuple[str, ...]]:
        """A line of heads, then one for each step, at its end."""
        heads = (
            "time (s)",
            "charge, run (%)",
            "charge, best (%)",
            "engine power, run (W)",
            "engine power, best (W)",
            "engine speed, run (rad/s)",
            "engine speed, best (rad/s)",
        )
        columns = (
            self.times[1:],
            100 * self.charge_run[1:],
            100 * self.charge[1:],
            self.power_run,
            self.power,
            self.speed_run,
            self.speed,
        )
        return [heads, *(tuple(f"{x:.9g}" for x in line) for line in zip(*columns))]

    def save(self, path: Path) -> None:
        """As CSV. Raises `FileProblem`."""
        out = io.StringIO()
        csv.writer(out).writerows(self.rows())
        write_atomically(path, out.getvalue())


def best_split(run: KeptRun, begin: float, end: float, step: float | str = 1.0) -> BestSplit:
    """Between two times (s) of a run, in steps (s, or text such as ``"2 s"``). Raises `DriveProblem`."""
    drive, kinds = at_level(from_text(run.drive_text)), kinds_in(run)
    if not run.begin <= begin < end <= run.end * (1 + 1e-9):
        raise DriveProblem(
            f"From {figure(begin, 's', 6)} to {figure(end, 's', 6)} is no trip of this run, which goes from "
            f"{figure(run.begin, 's', 6)} to {figure(run.end, 's', 6)}. Choose times in it."
        )
    if isinstance(step, str):
        step = read_figure(drive, step, "s", 0.0)
    values = examine(drive).values
    parts = parts_in(drive, kinds, values, shafts_of(drive, kinds, values))
    refuse_step(step, end - begin)
    wanted = wanted_in(run, parts, begin, end, step)
    store = Cells(parts, wanted.resistance)
    own = driven(ways_of(wanted, parts, 1), wanted, store, np.full(len(wanted.axle), -1))
    best, bound = searched(wanted, parts, store, own)
    heating = parts.engine.heating(values[parts.shafts.engine])
    return BestSplit(
        engine=drive.cards[parts.shafts.engine].name,
        store=drive.cards[parts.store_card].name,
        times=wanted.times,
        charge_run=wanted.charge,
        charge_own=own.charge,
        charge=best.charge,
        power_run=wanted.engine_speed * wanted.engine_torque,
        power=best.speed * best.torque,
        speed_run=wanted.engine_speed,
        speed=best.speed,
        fuel_run=wanted.fuel,
        fuel_own=own.fuel / heating,
        fuel=best.fuel / heating,
        fuel_bound=bound / heating,
        at_the_edge=best.at_the_edge,
    )


def refuse_step(step: float, lasts: float) -> None:
    """Raises `DriveProblem` for one (s) that is none for so long (s)."""
    if not step > 0:
        raise DriveProblem(f"A step of {figure(step, 's')} is none. Write one that lasts, such as 1 s.")
    if lasts < 2 * step:
        raise DriveProblem(f"A step of {figure(step, 's')} is too long for {figure(lasts, 's')}. Take a shorter one.")
    if lasts / step > MOST_STEPS:
        words = f"Steps of {figure(step, 's')} make more than {MOST_STEPS} of {figure(lasts, 's')}."
        raise DriveProblem(f"{words} Take longer ones, or look at less of the run.")


class Cells:
    """The store's cells: how fast charge goes at a power. Their curves are looked up in a table, as they are asked for
    often."""

    def __init__(self, parts: Parts, off: float):
        """``off``: by how much the resistance is off its values."""
        store, v, card = parts.store, parts.values[parts.store_card], parts.drive.cards[parts.store_card]
        self.capacity = store.capacity(v)
        self._charges = np.linspace(-1.0, 2.0, FINE)
        self._voltages = store.voltage(v, card, self._charges)
        self._resistances = off * store.resistance(v, card, self._charges)

    def voltage(self, charge: np.ndarray) -> np.ndarray:
        return np.interp(charge, self._charges, self._voltages)

    def fall(self, charge: np.ndarray, power: np.ndarray) -> np.ndarray:
        """Charge (of all) that goes in a second at a power (W) at the terminals, shape of both; without end where it
        cannot give that: u i = U i − R i² has a root up to U²/4R alone."""
        voltage = self.voltage(charge)
        resistance = np.interp(charge, self._charges, self._resistances)
        inside = voltage * voltage - 4 * resistance * power
        current = 2 * power / (voltage + np.sqrt(np.maximum(inside, 0.0)))
        return np.where(inside >= 0, current / self.capacity, np.inf)


@dataclass(frozen=True)
class Driven:
    """A way through the whole trip: fuel (J), charges at the ends of steps, and the engine's speed and torque in
    each."""

    fuel: float
    charge: np.ndarray
    speed: np.ndarray
    torque: np.ndarray
    at_the_edge: bool = False


def driven(ways: Ways, wanted: Wanted, store: Cells, choice: np.ndarray) -> Driven:
    """By ways that were chosen, one for each step."""
    rows = np.arange(len(choice))
    charge = [float(wanted.charge[0])]
    for k, way in zip(rows, choice):
        charge.append(charge[-1] - wanted.step * float(store.fall(np.array(charge[-1]), ways.power[k, way])))
    fuel = float(np.sum(ways.fuel[rows, choice])) * wanted.step
    return Driven(fuel, np.array(charge), ways.speed[rows, choice], ways.torque[rows, choice])


def searched(wanted: Wanted, parts: Parts, store: Cells, own: Driven) -> tuple[Driven, float]:
    """A way with little fuel that ends with the charge of the run's own splits or more, and fuel (J) below which none
    goes."""
    ways, end = ways_of(wanted, parts, SPLITS), own.charge[-1]
    low, high = float(np.min(own.charge)), float(np.max(own.charge))
    room = max(LEAST_ROOM, high - low)
    span = min(low, max(0.0, low - room)), max(high, min(1.0, high + room))  # a store may have been emptied further
    price = DEAR * store.capacity * float(store.voltage(own.charge[-1:])[0])
    width = (span[1] - span[0]) / CHARGES
    grid = end + width * np.arange(-int((end - span[0]) / width), int((span[1] - end) / width) + 1)  # its bend is on it
    moves = Moves(ways, wanted.step, store, grid, price)
    backward = (moves.of(k) for k in range(len(ways.fuel) - 1, -1, -1))
    worth = moves.costs(price * np.maximum(0.0, end - grid), backward)
    charge, choice = own.charge[0], []
    for k, after in enumerate(worth[1:]):
        then = charge - wanted.step * store.fall(np.array([charge]), ways.power[k])
        total = ways.fuel[k] * wanted.step + np.interp(then, grid, after) + price * beyond(then, grid)
        choice.append(int(np.argmin(total)))
        charge = float(then[choice[-1]])
    found = driven(ways, wanted, store, np.array(choice))
    edge = bool(np.min(found.charge) < grid[0] or np.max(found.charge) > grid[-1])
    moves = Moves(ways, wanted.step, store, np.linspace(*span, PRICED), price)
    bound = bounded(moves, own.charge[0], end, price)
    return replace(found, at_the_edge=edge), min(bound, found.fuel)


def bounded(moves: Moves, begin: float, end: float, dearest: float) -> float:
    """Fuel (J) below which no way goes from one charge to another or more: at any price of charge at the end, fuel
    less what is left over is never more than the fuel of the best way (weak duality; Bertsekas: Nonlinear
    Programming, section 5.1; from memory). The highest over all prices. Worth is nearly a straight line there, so few
    charges do."""
    from scipy.optimize import minimize_scalar  # slow to load

    def least(price: float) -> float:
        worth = moves.costs(price * (end - moves.grid), reversed(moves.all))[0]
        return -float(np.interp(begin, moves.grid, worth))

    options = {"xatol": CLOSE * dearest, "maxiter": 40}
    found = minimize_scalar(least, bounds=(0.0, dearest), method="bounded", options=options)
    return -float(found.fun)


Move = tuple[np.ndarray, np.ndarray, np.ndarray]


@dataclass(frozen=True)
class Moves:
    """Where the ways of each step lead from charges of a grid; ``dearest`` is what charge beyond the grid costs (J for
    all of it)."""

    ways: Ways
    step: float
    store: Cells
    grid: np.ndarray
    dearest: float

    def of(self, k: int) -> Move:
        """Of a step, shape (charges, ways): above which place of the grid each leads, the share of the way to the next,
        and what it costs besides (J)."""
        then = self.grid[:, None] - self.step * self.store.fall(self.grid[:, None], self.ways.power[k][None, :])
        cost = self.ways.fuel[k][None, :] * self.step + self.dearest * beyond(then, self.grid)
        place = np.clip((then - self.grid[0]) / (self.grid[1] - self.grid[0]), 0.0, len(self.grid) - 1.0)
        cell = np.minimum(place, len(self.grid) - 2).astype(np.int16)
        return cell, (place - cell).astype(np.float32), cost

    @cached_property
    def all(self) -> list[Move]:
        """Of every step, for whoever needs them more than once."""
        return [self.of(k) for k in range(len(self.ways.fuel))]

    def costs(self, at_end: np.ndarray, moves: Iterable[Move]) -> np.ndarray:
        """Least fuel (J) from the beginning of each step to the end, shape (steps + 1, charges), with what each charge
        costs ``at_end``. ``moves`` are those of all steps, the last first."""
        worth = np.empty((len(self.ways.fuel) + 1, len(self.grid)))
        worth[-1] = at_end
        for k, (cell, share, cost) in zip(range(len(worth) - 2, -1, -1), moves):
            after = worth[k + 1]
            worth[k] = np.min(cost + after[cell] + share * np.diff(after)[cell], axis=1)
        return worth


def beyond(charge: np.ndarray, grid: np.ndarray) -> np.ndarray:
    """By how much charges are beyond a grid; a store that cannot give what is asked is far beyond."""
    off = np.maximum(0.0, grid[0] - charge) + np.maximum(0.0, charge - grid[-1])
    return np.minimum(off, FAR)
