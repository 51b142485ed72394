"""The car door drive as a plain SciPy script: `solve_ivp` from tick to tick. The other yardstick."""

import math

import numpy as np
from scipy.integrate import solve_ivp

CORNERS = np.array([[0, 0], [0.62, 0], [0.63, 160], [0.88, 160], [0.89, 0], [1.2, 0]])


def simulate(p: dict[str, float], until: float, dt: float = 50e-6) -> np.ndarray:
    """States at the ticks: current, speed, stretch, leaf speed, angle, travel; shape (ticks, 6)."""

    def rhs(t, x, d):
        i, w, s, v, _, _ = x
        u = d * p["U"] - (d * d * p["Ri"] + 2 * p["Ron"]) * i
        ds = p["r"] * w / p["n"] - v
        F = p["kb"] * s + p["db"] * ds
        load = p["r"] * F / p["n"]
        eta = 1 / p["eta"] if load * w >= 0 else p["eta"]
        dry = p["Fc"] + float(np.interp(t, CORNERS[:, 0], CORNERS[:, 1]))
        rub = math.copysign(dry, v) if v != 0 else max(-dry, min(dry, F))
        return [
            (u - p["R"] * i - p["k"] * w) / p["L"],
            (p["k"] * i - p["b"] * w - load * eta) / p["J"],
            ds,
            (F - rub - p["br"] * v) / p["m"],
            w,
            v,
        ]

    def pi(e, K, T, h, limit, total):
        grown = total + K * e * h / T
        u = K * e + grown
        out = max(-limit, min(limit, u))
        if not ((u > limit and e > 0) or (u < -limit and e < 0)):
            total = max(-limit, min(limit, grown))
        return out, total

    x, rows = np.zeros(6), []
    s1 = s2 = i_set = following = count = 0.0
    edges = 4 * 512 / (2 * math.pi)
    for n in range(round(until / dt)):
        t = n * dt
        if n % 20 == 0:
            now = math.floor(x[4] * edges)
            speed, count = (now - count) / edges / (20 * dt) * p["r"] / p["n"], now
            tp = t - 0.05
            wish = (
                0
                if tp <= 0
                else 4 * tp
                if tp < 0.1775
                else 0.71
                if tp < 0.985915493
                else 4 * (1.163415493 - tp)
                if tp < 1.163415493
                else 0
            )
            i_set, s1 = pi(wish - speed, p["Kp"], p["Ti"], 20 * dt, p["imax"], s1)
        duty = following
        u, s2 = pi(i_set - x[0], p["Ki"], p["Ta"], dt, 0.96 * p["U"], s2)
        following = max(-0.98, min(0.98, u / p["U"]))
        rows.append(x.copy())
        before = x[3]
        x = solve_ivp(rhs, (t, t + dt), x, args=(duty,), rtol=1e-6, atol=1e-9).y[:, -1]
        if before * x[3] < 0:
            x[3] = 0.0
    return np.array(rows)
