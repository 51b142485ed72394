"""Torque over speed that heat allows: for ever, and for a time from cold or warm, and what limits it where.

The machine with its converter is cut out of the drive and put on a bench that holds its speed, as for an envelope, with
its bodies behind it. At each speed the demand is sought with which the first body just reaches its limit at the end, by
Brent's method on how far the limits are used; torque is the mean of what then comes at the shaft."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from scipy import optimize

from pendel.core.catalogue.mechanics.loads import IMPOSED_SPEED
from pendel.core.check.targets import CORNER
from pendel.core.cores import usable_cores
from pendel.core.drive.document import Drive
from pendel.core.envelope.bench import ASKED_VALUE, Bench, bench_of
from pendel.core.errors import DriveProblem
from pendel.core.heat.cut import cut
from pendel.core.heat.duty import Duty, Stretch
from pendel.core.heat.held import AS_ASKED, BY_DRIVE, BY_SPEED, MOST_SPEEDS, Held, HeldCurve
from pendel.core.heat.losses import OperatingPoints
from pendel.core.heat.network import HeatNetwork
from pendel.core.heat.over import Step, Walk
from pendel.core.quantities.units import si_unit, unit
from pendel.core.vocabulary import SignalRole

LONG = 1e5
"""s, of the stretch whose repetition is what lasts for ever."""
FOUND = 1e-3
"""Of the largest demand."""
MOST_USED = 1.5
"""How far a limit is used where a way is left, as it is beyond it anyway."""
NEARLY, FOLLOWS = 0.9, 0.5
"""A share of the most that is asked for; torque that gains less than half of what it should from there to the most does
not follow what is asked."""
MOST_TIMES = 6


def held(
    drive: Drive,
    machine: str,
    torque: str,
    top: float,
    top_speed: float,
    *,
    times: Sequence[float] = (math.inf, 60.0, 10.0),
    speeds: int = 7,
    before: float = 0.0,
    progress: Callable[[str], None] = lambda _: None,
    stopping: Callable[[], bool] = lambda: False,
) -> Held:
    """What a machine can hold over its speed.

    Parameters
    ----------
    machine, torque
        the machine's card, and the output of a block that asks for its torque, ``card.port``.
    top, top_speed
        what is asked for at most (SI, in the unit of that output; negative to brake), and the largest speed (rad/s).
    times
        s; infinite for ever.
    before
        from which share of what is held for ever (0 to 1) times begin; 0 takes the starts of the bodies.

    Raises
    ------
    DriveProblem, DriveHasFindings
        where the drive cannot run so, has no body with a limit, or a point does not settle.
    Stopped
        where ``stopping`` said so.
    """
    _refuse(top, top_speed, times, speeds, before)
    bench = bench_of(drive, machine, torque)
    whole = bench.at(top_speed, top)
    targets = (f"{bench.asked}.{ASKED_VALUE}", *(f"{bench.holder}.{CORNER}{n}:value" for n in (1, 2)))
    parted = cut(whole)
    shaft = f"{bench.holder}.{IMPOSED_SPEED.signal_names(SignalRole.TORQUE)[0]}"
    points = OperatingPoints(parted, targets, stopping, watched=(shaft,))
    if all(math.isnan(limit) for limit in HeatNetwork(parted).limits.values()):
        raise DriveProblem("No body has a limit. Enter one, such as that of the winding's class, on its card.")
    rates = np.linspace(0.0, top_speed, speeds)
    done = 0

    def at_speed(speed: float) -> tuple[float, bool, list[tuple[float, str]]]:
        nonlocal done
        here = AtSpeed(points, HeatNetwork(parted), bench, top, float(speed))
        found = (*here.largest(), here.curves(times, before))
        done += 1
        progress(f"{done} of {speeds} speeds")
        return found

    at_speed_of = [at_speed(rates[0])]  # it makes the code that all others use
    with ThreadPoolExecutor(max_workers=usable_cores()) as pool:
        at_speed_of += pool.map(at_speed, rates[1:])
    largest = np.array([torque for torque, *_ in at_speed_of])
    own = [AS_ASKED if follows else BY_SPEED if at_speed_of[0][1] else BY_DRIVE for _, follows, _ in at_speed_of]
    curves = []
    for k, time in enumerate(times):
        found = [each[k] for *_, each in at_speed_of]
        limits = tuple(name or other for (_, name), other in zip(found, own))
        curves.append(HeldCurve(time, np.array([torque for torque, _ in found]), limits))
    return Held(machine, rates, largest, tuple(curves), before, points.runs)


def _refuse(top: float, top_speed: float, times: Sequence[float], speeds: int, before: float) -> None:
    if not (math.isfinite(top) and top != 0 and 0 < top_speed < math.inf):
        raise DriveProblem("The largest torque is not 0, and the largest speed is above 0. Enter both.")
    if not 1 <= len(times) <= MOST_TIMES or not all(time > 0 for time in times):
        raise DriveProblem(f"One to {MOST_TIMES} times are possible, each above 0: such as for ever, 60 s, 10 s.")
    if not 2 <= speeds <= MOST_SPEEDS:
        raise DriveProblem(f"{speeds} speeds are not possible. Enter 2 to {MOST_SPEEDS}.")
    if not 0 <= before <= 1:
        raise DriveProblem(f"{100 * before:g} % cannot have lasted before. Enter 0 to 100 % of what is held for ever.")


class Beyond(DriveProblem):
    """A limit is passed by far."""


class LimitedWalk(Walk):
    """A walk that is left where a limit is passed by far; what runs away costs no more runs than that."""

    def _refuse_runaway(self, step: Step, texts: tuple[str, ...]) -> None:
        cold, limits = self.network.coldest, self.network.limits
        warmest = np.max(step.temperatures, axis=0)
        for place, temperature in enumerate(warmest):
            limit = limits.get(self.key(place), math.inf)
            if not temperature < cold + MOST_USED * (limit - cold):
                raise Beyond(self.title(place))


class AtSpeed:
    """One speed of the bench: what is used of the limits by what is asked for."""

    def __init__(self, points: OperatingPoints, network: HeatNetwork, bench: Bench, top: float, speed: float):
        self.points, self.network, self.bench, self.top, self.speed = points, network, bench, top, speed

    def texts(self, share: float) -> tuple[str, ...]:
        asked = f"{share * self.top!r} {si_unit(unit(self.bench.unit)[1])}".strip()
        return (asked, *2 * (f"{self.speed!r} rad/s",))

    def walk(self, share: float, time: float) -> Walk:
        stretch = Stretch(LONG if math.isinf(time) else time, self.texts(share))
        duty = Duty(self.points.targets, (stretch,), changes=False)
        return LimitedWalk(self.network, self.points, duty)

    def used(self, share: float, time: float, begin: np.ndarray) -> tuple[float, str, float]:
        """How far the limit is used that is used most, more than 1 is beyond it; the place; and the torque at the
        shaft at the end (N·m), positive where the machine drives."""
        walk, lasting = self.walk(share, time), math.isinf(time)
        try:
            steps = walk.through(walk.closed() if lasting else begin)
        except Beyond as problem:
            return MOST_USED, str(problem), math.nan
        uses = walk.result(steps, steady=lasting).uses
        return min(MOST_USED, uses[0].share), uses[0].what, -float(steps[-1].line.seen[0])

    def largest(self) -> tuple[float, bool]:
        """The torque (N·m) that comes when the most is asked for at the temperatures of the start, and whether it
        follows what is asked up to there."""
        joints = len(self.points.meters)
        cool = self.network.at(self.network.start, np.zeros(joints))[1][:joints]
        most, less = (-float(self.points.line(self.texts(share), cool).seen[0]) for share in (1.0, NEARLY))
        return most, abs(most - less) > FOLLOWS * (1 - NEARLY) * abs(most)

    def curves(self, times: Sequence[float], before: float) -> list[tuple[float, str]]:
        """The torque that is held for each time, and what limits it."""
        begin = self.network.start
        if before > 0:
            share, *_ = self.highest(math.inf, begin)
            begin = self.walk(before * share, math.inf).closed()
        return [(torque, limit) for _, torque, limit in (self.highest(time, begin) for time in times)]

    def highest(self, time: float, begin: np.ndarray) -> tuple[float, float, str]:
        """The share of the largest demand that can be held, the torque, and what limits it; torque is not-a-number
        where not even none can be held, and nothing is named where nothing limits."""
        used, limit, torque = self.used(1.0, time, begin)
        if used <= 1:
            return 1.0, torque, ""
        least, nothing, _ = self.used(0.0, time, begin)
        if least >= 1:
            return 0.0, math.nan, nothing
        # Losses grow with the square of what is asked for, so this is nearly a straight line.
        found = optimize.brentq(
            lambda square: self.used(math.sqrt(square), time, begin)[0] - 1, 0.0, 1.0, xtol=1e-6, rtol=FOUND
        )
        share = math.sqrt(found)
        _, limit, torque = self.used(share, time, begin)
        return share, torque, limit


__all__ = ["held"]
