"""Gains for a wished crossover, the plant's main lag cancelled where it is within reach."""

from __future__ import annotations

import math

import numpy as np

from pendel.core.errors import DriveProblem
from pendel.core.loops.tuning.rules.declare import LoopSeen, Rule, Wishes
from pendel.core.loops.tuning.rules.lag_plant import Gains, LagPlant


def for_crossover(
    response_at: complex, f_c: float, plant: LagPlant, *, phase_margin: float, has_integral: bool
) -> Gains:
    """Gains that let |L| cross 1 at ``f_c`` (Hz).

    The integral time cancels the plant's main lag where that is within reach of the crossover; else it is the
    shortest that leaves ``phase_margin`` (degrees).
    """
    omega = 2.0 * math.pi * f_c
    T_i = plant.T_1
    if plant.T_1 * omega > 20.0:
        room = math.radians(180.0 - phase_margin) + math.atan2(response_at.imag, response_at.real)
        room = (room + math.pi) % (2 * math.pi) - math.pi
        T_i = 1.0 / (omega * math.tan(min(max(room, 0.05), 1.2)))
    controller = abs(1.0 + 1.0 / (1j * omega * T_i)) if has_integral else 1.0
    return Gains(1.0 / (controller * abs(response_at)), T_i)


def propose(loop: LoopSeen, wishes: Wishes) -> dict[str, float]:
    nyquist = 0.5 / loop.dt
    wish = wishes.crossover or 0.05 / loop.dt
    if not 0 < wish < nyquist:
        raise DriveProblem(
            f"A crossover of {wish:g} Hz is beyond half the sampling frequency, {nyquist:g} Hz. Choose a lower one."
        )
    at = complex(loop.plant_at(np.array([wish]))[0])
    gains = for_crossover(
        at, wish, loop.picture(wish), phase_margin=wishes.phase_margin, has_integral=loop.has_integral
    )
    # Below a resonance almost all is integral; its time is then no shorter than a sample.
    wanted = Gains(1.0, max(gains.T_i, loop.dt)).named(loop.has_integral)
    sized = abs(loop.regulator_at(wanted, np.array([wish]))[0])
    return {**wanted, "K_p": 1.0 / (sized * abs(at))}


RULE = Rule("crossover", "crossover and pole cancelling", propose, takes_crossover=True, scales_only=True)
