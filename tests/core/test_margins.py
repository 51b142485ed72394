"""Margins of open loops against the limit of stability itself: closed loops that are put there must stand on it."""

import math

import control
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from pendel.core.loops.models.margins import margins, unwrapped_phase

FREQUENCY = np.geomspace(1e-3, 1e4, 60_000)


def loop_of(numerator, denominator):
    """L as a function of j·ω, without a library between."""
    return lambda s: np.polyval(numerator, s) / np.polyval(denominator, s)


def is_stable(numerator, denominator, factor=1.0) -> bool:
    return bool(np.all(np.roots(np.polyadd(factor * np.atleast_1d(numerator), denominator)).real < 0))


def lags_to_the_limit(numerator, denominator) -> list[float]:
    """All lags (degrees) that put L on −1: at the frequencies of |L| = 1, by roots of |N|² − |D|² in ω²."""

    def square(polynomial):
        even = np.polymul(polynomial, np.asarray(polynomial) * (-1.0) ** np.arange(len(polynomial) - 1, -1, -1))
        return np.asarray(even)[:: 2 if len(even) % 2 else 1] * (-1.0) ** np.arange(len(even) // 2, -1, -1)

    roots = np.roots(np.polysub(square(np.asarray(numerator, float)), square(np.asarray(denominator, float))))
    at = np.sqrt([r.real for r in roots if abs(r.imag) < 1e-9 * abs(r) and r.real > 0])
    found = np.degrees(np.angle(loop_of(numerator, denominator)(1j * at)))
    return list((180.0 + found) % 360.0)


@st.composite
def resonant_loops(draw):
    """A PI regulator on two masses and a lag; the crossover is below, at or beyond the resonance."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    anti, damping = 10 ** rng.uniform(0.5, 2.5), 10 ** rng.uniform(-2.5, -0.3)
    resonance = anti * rng.uniform(1.2, 4)
    gain, integral, lag = (
        anti * 10 ** rng.uniform(-2, 1),
        anti * 10 ** rng.uniform(-3, -0.5),
        10 ** rng.uniform(-4, -2),
    )
    numerator = gain * np.polymul([1, integral], [1 / anti**2, 2 * damping / anti, 1])
    denominator = np.polymul(np.polymul([1, 0, 0], [lag, 1]), [1 / resonance**2, 2 * damping / resonance, 1])
    return numerator, denominator


@settings(max_examples=200, deadline=None)
@given(resonant_loops())
def test_the_margins_of_a_stable_loop_bring_it_to_its_limit_and_no_less_does(loop):
    numerator, denominator = loop
    assume(is_stable(numerator, denominator))
    found = margins(FREQUENCY, loop_of(numerator, denominator)(2j * np.pi * FREQUENCY), stable=True)
    lags = lags_to_the_limit(numerator, denominator)
    assert found.phase == pytest.approx(min(lags), abs=0.05)
    there = loop_of(numerator, denominator)(2j * np.pi * found.phase_at)
    assert abs(there) == pytest.approx(1.0, abs=1e-3) and np.degrees(np.angle(there)) % 360 == pytest.approx(
        found.phase + 180, abs=0.05
    )
    assert found.elsewhere == (abs(found.phase_at / found.crossover - 1) > 0.01)
    if math.isnan(found.gain):
        assert all(is_stable(numerator, denominator, factor) for factor in np.geomspace(1, 1e4, 60))
    else:
        assert not is_stable(numerator, denominator, found.gain * 1.002)
        for part in np.linspace(0.0, 0.999, 40):
            assert is_stable(numerator, denominator, found.gain**part), (found.gain, part)
    distance = np.abs(1 + loop_of(numerator, denominator)(1j * np.geomspace(1e-2, 1e5, 200_001)))
    assert found.ms == pytest.approx(1 / np.min(distance), rel=1e-3)


@settings(max_examples=60, deadline=None)
@given(resonant_loops())
def test_a_loop_of_one_crossing_has_the_margins_of_python_control(loop):
    numerator, denominator = loop
    whole = control.tf(numerator, denominator)
    gains, phases, _, passes, crossovers, _ = control.stability_margins(whole, returnall=True)
    assume(len(crossovers) == 1 and len(passes) <= 1)
    found = margins(FREQUENCY, loop_of(numerator, denominator)(2j * np.pi * FREQUENCY), stable=True)
    assert found.crossover == pytest.approx(crossovers[0] / 2 / math.pi, rel=1e-4)
    assert found.phase == pytest.approx(phases[0], abs=0.05)
    if len(passes) and (found.phase < 0) == (gains[0] < 1):
        assert found.gain == pytest.approx(gains[0], rel=1e-3)
        assert found.gain_db == pytest.approx(20 * math.log10(gains[0]), abs=0.02)


def test_a_loop_that_holds_only_within_a_range_of_gain_is_told_what_it_may_grow_by():
    """Three integrators and two leads: too little gain is as unstable as too much; the phase rises through −180°
    first."""
    numerator, denominator = 40 * np.polymul([1, 1], [1, 1]), np.polymul([1, 0, 0, 0], [4e-6, 0.004, 1])
    assert is_stable(numerator, denominator) and not is_stable(numerator, denominator, 1e-3)
    found = margins(FREQUENCY, loop_of(numerator, denominator)(2j * np.pi * FREQUENCY), stable=True)
    assert found.gain > 1 and found.phase > 0
    assert not is_stable(numerator, denominator, found.gain * 1.001) and is_stable(
        numerator, denominator, found.gain * 0.999
    )


def test_a_loop_that_is_unstable_is_told_what_is_too_much():
    numerator, denominator = [200.0], np.polymul([1, 0], np.polymul([0.01, 1], [0.02, 1]))
    assert not is_stable(numerator, denominator)
    found = margins(FREQUENCY, loop_of(numerator, denominator)(2j * np.pi * FREQUENCY), stable=False)
    # Routh: 1/s·1/(0.01 s + 1)·1/(0.02 s + 1) stands with a gain up to 1/0.01 + 1/0.02.
    assert found.gain == pytest.approx(150 / 200, rel=1e-3) and found.phase < 0
    assert not found.damped and found.gain_db < 0


def test_a_dead_time_alone_has_its_closed_form_and_goes_round_many_times():
    """L = K/s·exp(−s·T): crossover K, phase margin 90° − K·T, gain margin π/(2·K·T); Åström, Murray, section 10.2."""
    for gain, delay in ((100.0, 1e-3), (30.0, 0.02), (1.0, 1.2)):
        response = gain / (2j * np.pi * FREQUENCY) * np.exp(-2j * np.pi * FREQUENCY * delay)
        near = FREQUENCY * delay < 20  # beyond, the phase turns by more than half a turn from one point to the next
        found = margins(FREQUENCY[near], response[near], stable=True)
        assert found.crossover == pytest.approx(gain / (2 * math.pi), rel=1e-3)
        assert found.phase == pytest.approx(90 - math.degrees(gain * delay), abs=0.02)
        assert found.gain == pytest.approx(math.pi / (2 * gain * delay), rel=1e-3)
        falls = unwrapped_phase(response[near])
        assert np.max(np.diff(falls)) < 1e-9, "the phase of a delay only falls"


@pytest.mark.parametrize("size", [0.5, 2.0])
def test_a_loop_without_a_crossover_has_no_phase_margin(size):
    found = margins(FREQUENCY, np.full(len(FREQUENCY), size, dtype=complex), stable=True)
    assert math.isnan(found.crossover) and math.isnan(found.phase) and math.isnan(found.gain)
    assert found.ms == pytest.approx(1 / (1 + size))
