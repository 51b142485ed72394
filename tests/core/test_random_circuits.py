"""Random circuits with diodes against nodal analysis: currents into each node add up to nothing, the diodes' states are
the one set that agrees with its own voltages, and SciPy integrates what the chokes and capacitors then do."""

from itertools import product

import numpy as np
import pytest
import scipy.integrate

import pendel

END, F = 4e-3, 400.0
V_D, R_D, R_OFF, L_I = 0.8, 0.02, 5e3, 2e-4


def branches(rng, nodes):
    """Parts as (kind, node, node, values); node 0 is earth. Resistors lead to every node."""
    parts = [("source", 1, 0, (float(rng.uniform(5, 60)), float(rng.uniform(0.1, 1.0))))]
    for k in range(2, nodes):
        parts.append(("resistor", k, int(rng.integers(k)), (float(10 ** rng.uniform(0, 2)),)))
    for _ in range(int(rng.integers(3, 7))):
        a, b = (int(n) for n in rng.choice(nodes, 2, replace=False))
        kind = ("inductor", "capacitor", "resistor")[rng.integers(3)]
        values = {
            "inductor": (float(10 ** rng.uniform(-4, -2)), float(rng.uniform(0.1, 1)), float(rng.uniform(100, 1000))),
            "capacitor": (float(10 ** rng.uniform(-6, -4)), float(rng.uniform(0.2, 2))),
            "resistor": (float(10 ** rng.uniform(0, 2)),),
        }[kind]
        parts.append((kind, a, b, values))
    for _ in range(int(rng.integers(1, 5))):
        a, b = (int(n) for n in rng.choice(nodes, 2, replace=False))
        parts.append(("diode", a, b, ()))
    return parts


def as_drive(parts, nodes):
    d = pendel.Drive("Circuit")
    d.add("ground", "Earth")
    pins = {0: ["earth.line"], **{k: [] for k in range(1, nodes)}}
    keys = []
    for n, (kind, a, b, values) in enumerate(parts):
        if kind == "source":
            key = d.add(
                "ac_source", f"P{n}", U=f"{values[0]!r} V", f=f"{F!r} Hz", R_i=f"{values[1]!r} Ω", L_i=f"{L_I!r} H"
            )
        elif kind == "resistor":
            key = d.add("resistor", f"P{n}", R=f"{values[0]!r} Ω")
        elif kind == "inductor":
            L, R_s, R_p = values
            key = d.add("inductor", f"P{n}", L=f"{L!r} H", R_s=f"{R_s!r} Ω", R_p=f"{R_p!r} Ω")
        elif kind == "capacitor":
            key = d.add("capacitor", f"P{n}", C=f"{values[0]!r} F", R_s=f"{values[1]!r} Ω")
        else:
            key = d.add("diode", f"P{n}", V_d=f"{V_D} V", R_d=f"{R_D} Ω", R_off=f"{R_OFF} Ω")
        keys.append(key)
        pins[a].append(f"{key}.a")
        pins[b].append(f"{key}.b")
    for ends in pins.values():
        for end in ends[1:]:
            d.connect(ends[0], end)
    return d, keys


class Nodal:
    """Potentials that follow from the states, for each set of conducting diodes; the states' slopes."""

    def __init__(self, parts, nodes):
        self.parts, self.nodes = parts, nodes
        self.states = [n for n, (kind, *_) in enumerate(parts) if kind in ("source", "inductor", "capacitor")]
        diodes = [n for n, (kind, *_) in enumerate(parts) if kind == "diode"]
        self.along = np.zeros((len(parts), nodes))
        for n, (_, a, b, _) in enumerate(parts):
            self.along[n, a], self.along[n, b] = 1.0, -1.0
        self.across = self.along[diodes]
        self.sets = [np.array(on) for on in product((False, True), repeat=len(diodes))]
        fixed = np.zeros((nodes, nodes))
        for n, (kind, _, _, values) in enumerate(parts):
            g = {"resistor": lambda v: 1 / v[0], "inductor": lambda v: 1 / v[2], "capacitor": lambda v: 1 / v[1]}
            if kind in g:
                fixed += g[kind](values) * np.outer(self.along[n], self.along[n])
        self.inverses, self.drops = [], []
        for on in self.sets:
            G = fixed + self.across.T @ np.diag(np.where(on, 1 / R_D, 1 / R_OFF)) @ self.across
            self.inverses.append(np.linalg.inv(G[1:, 1:]))
            self.drops.append((self.across.T @ np.where(on, V_D / R_D, 0.0))[1:])

    def potentials(self, x):
        fed = np.zeros(self.nodes)
        for n, value in zip(self.states, x):
            kind, _, _, values = self.parts[n]
            out = {"source": value, "inductor": -value, "capacitor": value / values[1]}[kind]
            fed += out * self.along[n]
        best, least = np.zeros(self.nodes), np.inf
        for on, inverse, drop in zip(self.sets, self.inverses, self.drops):
            v = np.append(0.0, inverse @ (fed[1:] + drop))
            u = self.across @ v
            wrong = np.max(np.where(on, V_D - u, u - V_D), initial=0.0)
            if wrong < least:
                best, least = v, wrong
        return best

    def slopes(self, t, x):
        u = self.along @ self.potentials(x)
        slopes = []
        for n, value in zip(self.states, x):
            kind, _, _, values = self.parts[n]
            if kind == "source":
                emf = np.sqrt(2) * values[0] * np.sin(2 * np.pi * F * t)
                slopes.append((emf - values[1] * value - u[n]) / L_I)
            elif kind == "inductor":
                slopes.append((u[n] - values[1] * value) / values[0])
            else:
                slopes.append((u[n] - value) / values[1] / values[0])
        return slopes


@pytest.mark.parametrize("seed", range(8))
def test_a_circuit_with_diodes_does_what_nodal_analysis_says(seed):
    rng = np.random.default_rng(seed)
    nodes = int(rng.integers(3, 7))
    parts = [*branches(rng, nodes), ("resistor", 1, 0, (80.0,))]
    d, keys = as_drive(parts, nodes)
    d.set("tolerance", "1e-7")
    run = d.run(END)
    nodal, times = Nodal(parts, nodes), np.linspace(0, END, 81)
    reference = scipy.integrate.solve_ivp(
        nodal.slopes, (0, END), np.zeros(len(nodal.states)), "Radau", times, rtol=1e-7, atol=1e-9, max_step=END / 200
    )
    assert reference.success
    for n, wanted in zip(nodal.states, reference.y):
        kind, _, _, values = parts[n]
        signal = {"source": "current", "inductor": "flux", "capacitor": "charge"}[kind]
        got = run.at(f"{keys[n]}.{signal}", times) / (1.0 if kind == "source" else values[0])
        np.testing.assert_allclose(got, wanted, atol=1e-3 * np.max(np.abs(wanted)) + 1e-5, err_msg=f"{keys[n]} {parts}")
