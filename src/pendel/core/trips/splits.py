"""What a run wanted on the road and on board in each step, and the ways in which engine and machines can share it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields

import numpy as np

from pendel.core.catalogue.declare import Kind, Part, Values
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.settled import Burner, Store, Turner
from pendel.core.drive.document import Drive
from pendel.core.errors import DriveProblem
from pendel.core.runs.record.kept import KeptRun
from pendel.core.trips.shafts import Shafts
from pendel.core.vocabulary import SignalRole

FIRES = 0.01
"""Of its largest torque, and of the speed from which it fires: an engine with less on the average of a step is off."""
PRICES = 0.5, 12.0
"""Fuel for power of the store, W/W, between which ways are looked for."""
AT_ONCE = 100
"""Steps whose ways are worked out together, which bounds memory."""
SPREAD = 1.02
"""Over the limits of machines, for the mean of a step in which the run was at a limit."""


@dataclass(frozen=True)
class Parts:
    """The parts of a drive that share, with the values (SI) and cards of each."""

    drive: Drive
    shafts: Shafts
    engine: Burner
    machines: tuple[Turner, ...]
    store: Store
    store_card: str
    values: Mapping[str, Values]

    def fuel(self, speed: np.ndarray, torque: np.ndarray, runs: np.ndarray) -> np.ndarray:
        """Power of the fuel (W) at the engine's speeds and torques; nothing where it does not run."""
        key = self.shafts.engine
        shape = np.shape(speed)
        found = self.engine.fuel(self.values[key], self.drive.cards[key], speed.ravel(), torque.ravel())
        return np.where(runs, np.maximum(found.reshape(shape), 0.0), 0.0)

    def link_power(self, speeds: np.ndarray, torques: np.ndarray) -> np.ndarray:
        """What all machines take (W), at speeds and torques of shape (machines, …)."""
        total = np.zeros(speeds.shape[1:])
        for key, each, speed, torque in zip(self.shafts.machines, self.machines, speeds, torques):
            lost = each.loss(self.values[key], self.drive.cards[key], speed.ravel(), torque.ravel())
            total += speed * torque + lost.reshape(speed.shape)
        return total

    def within(self, speeds: np.ndarray, torques: np.ndarray) -> np.ndarray:
        """Whether all machines can give these torques."""
        good = np.ones(speeds.shape[1:], bool)
        for key, each, speed, torque in zip(self.shafts.machines, self.machines, speeds, torques):
            good &= np.abs(torque) <= SPREAD * each.most(self.values[key], self.drive.cards[key], speed)
        return good


def parts_in(drive: Drive, kinds: Mapping[str, Kind], values: Mapping[str, Values], shafts: Shafts) -> Parts:
    """Raises `DriveProblem`."""
    known = {key: kind for key, kind in kinds.items() if isinstance(kind, Part)}
    stores = [key for key, kind in known.items() if isinstance(kind.settled, Store)]
    if len(stores) != 1:
        words = " and ".join(drive.cards[key].name for key in stores) or "none"
        raise DriveProblem(f"The best split needs one battery; this drive has {words}.")
    engine, store = known[shafts.engine].settled, known[stores[0]].settled
    assert isinstance(engine, Burner) and isinstance(store, Store)
    machines = tuple(m for key in shafts.machines if isinstance(m := known[key].settled, Turner))
    return Parts(drive, shafts, engine, machines, store, stores[0], values)


@dataclass(frozen=True)
class Wanted:
    """Of each step, shape (steps,): mean speed of the axle (rad/s), torque that engine and machines together gave there
    (N·m), power of all other consumers of the store (W), and the engine's own mean speed and torque. ``charge``
    at the ends of all steps, shape (steps + 1,), ``fuel`` burnt in all (kg), and by how much the store's
    ``resistance`` was off its values, such as for being cold."""

    step: float
    times: np.ndarray
    axle: np.ndarray
    torque: np.ndarray
    others: np.ndarray
    engine_speed: np.ndarray
    engine_torque: np.ndarray
    charge: np.ndarray
    fuel: float
    resistance: float


def wanted_in(run: KeptRun, parts: Parts, begin: float, end: float, step: float) -> Wanted:
    """Between two times (s), in whole steps (s)."""
    shafts, kinds = parts.shafts, {}
    count = max(1, int((end - begin) / step + 1e-9))
    times = begin + step * np.arange(count + 1)
    sources = (shafts.engine, *shafts.machines)
    for key in (*sources, parts.store_card):
        kinds[key] = kind_of(parts.drive.cards[key])

    def named(key: str, role: SignalRole) -> str:
        return f"{key}.{kinds[key].signal_names(role)[0]}"

    speed_names = [named(key, SignalRole.SPEED) for key in sources]
    torque_names = [named(key, SignalRole.TORQUE) for key in sources]
    taken = [f"{key}.{m.link_power}" for key, m in zip(shafts.machines, parts.machines)]
    given, charge_name = f"{parts.store_card}.{parts.store.power}", named(parts.store_card, SignalRole.CHARGE)
    fuel_name, resistance = named(shafts.engine, SignalRole.FUEL), f"{parts.store_card}.{parts.store.resistance_now}"
    run.fetch([*speed_names, *torque_names, *taken, given, charge_name, fuel_name, resistance])
    means = {name: means_of(run, name, times) for name in {*speed_names, *torque_names, *taken, given}}
    torques = np.stack([means[name] for name in torque_names])
    speeds = np.stack([means[name] for name in speed_names])
    places = np.linalg.lstsq(shafts.ratios, speeds, rcond=None)[0]  # of the axle, and of the engine where it is free
    charge = run.trace(charge_name).at(times)
    card = parts.drive.cards[parts.store_card]
    by_values = parts.store.at_once(parts.values[parts.store_card], card, charge)
    return Wanted(
        step=step,
        times=times,
        axle=places[0],
        torque=shafts.ratios[:, 0] @ torques,
        others=means[given] - sum(means[name] for name in taken),
        engine_speed=speeds[0],
        engine_torque=torques[0],
        charge=charge,
        fuel=float(np.diff(run.trace(fuel_name).at(times[[0, -1]]))[0]),
        resistance=float(np.mean(run.trace(resistance).at(times) / by_values)),
    )


def means_of(run: KeptRun, name: str, times: np.ndarray) -> np.ndarray:
    """Mean of a signal between each two of these times, by its integral along straight lines."""
    trace = run.trace(name)
    t = np.union1d(trace.t, times)
    y = trace.at(t)
    area = np.concatenate([[0.0], np.cumsum(np.diff(t) * (y[1:] + y[:-1]) / 2)])
    return np.diff(np.interp(times, t, area)) / np.diff(times)


@dataclass(frozen=True)
class Ways:
    """In each step: power of the fuel and of the store (W), speed (rad/s) and torque (N·m) of the engine, each of
    shape (steps, ways). A way that is none has fuel without end. The last is what the run did, the last but one has
    the engine off."""

    fuel: np.ndarray
    power: np.ndarray
    speed: np.ndarray
    torque: np.ndarray


def ways_of(wanted: Wanted, parts: Parts, splits: int) -> Ways:
    """So many of those in which the engine runs, and what else there is."""
    count = 2 + 3 * math.isqrt(splits)
    steps = range(0, len(wanted.axle), AT_ONCE)
    chunks = [_ways(wanted, parts, slice(k, k + AT_ONCE), splits, count) for k in steps]
    return Ways(*(np.concatenate([getattr(c, each.name) for c in chunks]) for each in fields(Ways)))


def _ways(wanted: Wanted, parts: Parts, steps: slice, splits: int, count: int) -> Ways:
    shafts, engine = parts.shafts, parts.engine
    v, card = parts.values[shafts.engine], parts.drive.cards[shafts.engine]
    axle, torque = wanted.axle[steps], wanted.torque[steps]
    own_speed, own_torque = wanted.engine_speed[steps], wanted.engine_torque[steps]
    dragged = np.zeros(len(axle)) if shafts.engine_is_free else shafts.ratios[0, 0] * axle
    # The engine runs at a speed and a share of its torque, or is off, or does what it did in the run.
    slow, fast = engine.slowest(v), engine.fastest(v)
    speed = np.linspace(slow, fast, count)[None, :, None] if shafts.engine_is_free else dragged[:, None, None]
    least, most = engine.least(v, card, speed), engine.most(v, card, speed)
    given = least + np.linspace(0.0, 1.0, count)[None, None, :] * (most - least)
    speed, given = (np.broadcast_to(x, (len(axle), *given.shape[1:])).reshape(len(axle), -1) for x in (speed, given))
    fired = (own_torque > FIRES * engine.most(v, card, own_speed)) & (own_speed > FIRES * slow)
    still = np.where(np.abs(dragged) > 0, -engine.drag(v) * np.sign(dragged), 0.0)
    speed = np.column_stack([speed, dragged, np.where(fired, own_speed, dragged)])
    given = np.column_stack([given, still, np.where(fired, own_torque, still)])
    runs = np.ones(speed.shape, bool)
    runs[:, -2], runs[:, -1] = False, fired
    asked = shafts.torques(torque[:, None], given)
    free = [share[1] if len(share) > 1 else 0.0 for share in shafts.ratios[1:]]
    turning = np.stack([axle[:, None] * share[0] + speed * own for share, own in zip(shafts.ratios[1:], free)])
    good = parts.within(turning, asked)
    good[:, :-2] &= (speed[:, :-2] >= slow) & (speed[:, :-2] <= fast)
    good[:, -1] = True  # it was done
    fuel = np.where(good, parts.fuel(speed, given, runs), np.inf)
    power = parts.link_power(turning, asked) + wanted.others[steps][:, None]
    best = least_at_prices(fuel[:, :-2], power[:, :-2], splits)
    best = np.column_stack(
        [best, np.full((len(axle), 1), speed.shape[1] - 2), np.full((len(axle), 1), speed.shape[1] - 1)]
    )
    chosen = np.maximum(best, 0)
    picked = [np.take_along_axis(x, chosen, axis=1) for x in (fuel, power, speed, given)]
    picked[0][best < 0] = np.inf
    return Ways(*picked)


def least_at_prices(fuel: np.ndarray, power: np.ndarray, count: int) -> np.ndarray:
    """Of each row, places of the least fuel where the store's power costs so much fuel, at so many prices; −1 where
    there is none. What is least at no price is on no best way, but for a moment of it. Shape (rows, count)."""
    with np.errstate(invalid="ignore"):
        places = [np.argmin(fuel + price * power, axis=1) for price in np.geomspace(*PRICES, count)]
    return np.where(np.isfinite(np.min(fuel, axis=1))[:, None], np.stack(places, axis=1), -1)
