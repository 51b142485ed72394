"""Blocks that work by whole periods of an angle, against their definitions: Tenti, Paredes, Mattavelli: Conservative
power theory, IEEE Trans. Power Electronics 26 (2011), section II (from memory), of sums of sines in closed form."""

import math
from dataclasses import dataclass

import numpy as np
import pytest

from tests.core.test_field_blocks import outputs

PERIODS = 12
ORDERS = np.array([1, 2, 3, 5, 7])


@dataclass
class Wave:
    """A mean and sines of some orders of w (rad/s)."""

    mean: float
    sizes: np.ndarray
    turns: np.ndarray
    w: float

    @classmethod
    def any(cls, rng, size, w):
        sizes = size * np.array([1.0, *rng.uniform(0, 0.25, len(ORDERS) - 1)])
        return cls(size * rng.uniform(-0.2, 0.2), sizes, rng.uniform(-math.pi, math.pi, len(ORDERS)), w)

    def __call__(self, t):
        return self.mean + np.sin(np.outer(t, ORDERS * self.w) + self.turns) @ self.sizes

    @property
    def integral(self):
        """The one without a mean, of what has no mean."""
        return Wave(0.0, self.sizes / (ORDERS * self.w), self.turns - math.pi / 2, self.w)

    def times(self, other):
        """The mean of a product over a period."""
        return self.mean * other.mean + np.sum(self.sizes * other.sizes * np.cos(self.turns - other.turns)) / 2


def case(seed):
    rng = np.random.default_rng(seed)
    f, per_period = rng.uniform(40, 70), rng.uniform(300, 900)
    tick = 1 / f / per_period
    t = np.arange(int(PERIODS * per_period)) * tick
    u, i = Wave.any(rng, 300.0, 2 * math.pi * f), Wave.any(rng, 10.0, 2 * math.pi * f)
    angle = rng.choice([-1.0, 1.0]) * 2 * math.pi * f * t + rng.uniform(-3, 3)
    if rng.random() < 0.5:  # as most loops give it
        angle = np.angle(np.exp(1j * angle))
    return t, tick, u, i, angle


@pytest.mark.parametrize("seed", range(4))
def test_a_current_is_parted_as_conservative_power_theory_defines(seed):
    t, tick, u, i, angle = case(seed)
    parts = ("active", "reactive", "void", "power", "energy")
    got = outputs("current_parts", parts, {"u": u(t), "i": i(t), "angle": angle}, tick=tick)
    late = t > 0.7 * t[-1]
    swing = u.integral
    wanted = {
        "power": np.full(len(t), u.times(i)),
        "energy": np.full(len(t), swing.times(i)),
        "active": u.times(i) / u.times(u) * u(t),
        "reactive": swing.times(i) / swing.times(swing) * swing(t),
    }
    wanted["void"] = i(t) - wanted["active"] - wanted["reactive"]
    for name, values in wanted.items():
        size = {"power": 300 * 10, "energy": 300 * 10 / u.w}.get(name, 10.0)
        np.testing.assert_allclose(got[name][late], values[late], atol=5e-4 * size, rtol=0, err_msg=name)
    np.testing.assert_allclose(sum(got[n] for n in parts[:3]), i(t), atol=1e-9)


@pytest.mark.parametrize("seed", range(6, 8))
def test_means_and_integrals_over_periods_are_those_of_the_signal(seed):
    t, tick, u, _, angle = case(seed)
    late = t > 0.7 * t[-1]
    mean = outputs("period_mean", ("out",), {"x": u(t), "angle": angle}, tick=tick)["out"]
    np.testing.assert_allclose(mean[late], u.mean, atol=5e-4 * 300, rtol=0)
    out = outputs("unbiased_integral", ("out",), {"x": u(t), "angle": angle}, tick=tick, K="2.5")["out"]
    np.testing.assert_allclose(out[late], 2.5 * u.integral(t)[late], atol=5e-4 * 300 * 2.5 / u.w, rtol=0)
