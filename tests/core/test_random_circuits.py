"""Random circuits with diodes, switches and transistors against nodal analysis: currents into each node add up to
nothing, the devices' states are the one set that agrees with its own voltages, and SciPy integrates what the chokes and
capacitors then do."""

from itertools import product

import numpy as np
import pytest
import scipy.integrate

import pendel
from pendel.core.drive import commands

END, F = 4e-3, 400.0
V_D, R_D, R_OFF, L_I = 0.8, 0.02, 5e3, 2e-4
V_0, R_ON, TICK = 1.2, 0.05, 50e-6
LEAKS, FREE = (1 / R_OFF, 0.0), (1 / R_D, -V_D)
STATES = {
    ("diode", False): ((*LEAKS, -np.inf, V_D), (1 / R_D, V_D, V_D, np.inf)),
    ("switch", False): ((*LEAKS, -np.inf, np.inf),),
    ("switch", True): ((1 / R_ON, 0.0, -np.inf, np.inf),),
    ("mosfet", False): ((*LEAKS, -V_D, np.inf), (*FREE, -np.inf, -V_D)),
    ("mosfet", True): ((1 / R_ON, 0.0, -np.inf, np.inf),),
    ("igbt", False): ((*LEAKS, -V_D, np.inf), (*FREE, -np.inf, -V_D)),
    ("igbt", True): ((*LEAKS, -V_D, V_0), (*FREE, -np.inf, -V_D), (1 / R_ON, V_0, V_0, np.inf)),
}
"""Of a device and its gate: conductance, drop, and from which to which voltage it is so."""


def branches(rng, nodes, gated=0):
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
    for _ in range(int(rng.integers(1, 5 - gated))):
        a, b = (int(n) for n in rng.choice(nodes, 2, replace=False))
        parts.append(("diode", a, b, ()))
    for _ in range(gated):
        a, b = (int(n) for n in rng.choice(nodes, 2, replace=False))
        kind = ("switch", "mosfet", "igbt")[rng.integers(3)]
        parts.append((kind, a, b, (float(rng.uniform(300, 2000)), float(rng.uniform(0, 6)))))
    return parts


SPANS = {"source": ("i", 2.0), "inductor": ("i", 1.0), "capacitor": ("u", 30.0)}
"""Which state a part has, and within what it may start (A, V)."""


def starts_of(rng, parts):
    """By place of a part; about half of them start at nothing."""
    having = [n for n, (kind, *_) in enumerate(parts) if kind in SPANS]
    return {n: float(rng.uniform(-1, 1)) * SPANS[parts[n][0]][1] if rng.random() < 0.5 else 0.0 for n in having}


def as_drive(parts, nodes, starts):
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
        elif kind == "diode":
            key = d.add("diode", f"P{n}", V_d=f"{V_D} V", R_d=f"{R_D} Ω", R_off=f"{R_OFF} Ω")
        else:
            key = d.add(
                kind if kind == "switch" else "transistor",
                f"P{n}",
                choices={"device": kind} if kind != "switch" else None,
                R_on=f"{R_ON} Ω",
                R_off=f"{R_OFF} Ω",
                **({"V_d": f"{V_D} V", "R_d": f"{R_D} Ω"} if kind != "switch" else {}),
                **({"V_0": f"{V_0} V"} if kind == "igbt" else {}),
            )
            gate = d.add("sine", f"Gate {n}", amplitude="1", f=f"{values[0]!r} Hz", angle=f"{values[1]!r} rad")
            d.connect(f"{gate}.out", f"{key}.on")
        if n in starts:
            d.do(commands.set_start(d.document, key, SPANS[kind][0], repr(starts[n])))
        keys.append(key)
        pins[a].append(f"{key}.a")
        pins[b].append(f"{key}.b")
    for ends in pins.values():
        for end in ends[1:]:
            d.connect(ends[0], end)
    return d, keys


def wave(values, tick):
    return np.sin(2 * np.pi * values[0] * tick * TICK + values[1])


class Nodal:
    """Potentials that follow from the states, for each set of what the devices do; the states' slopes."""

    def __init__(self, parts, nodes):
        self.parts, self.nodes = parts, nodes
        self.states = [n for n, (kind, *_) in enumerate(parts) if kind in ("source", "inductor", "capacitor")]
        self.devices = [n for n, (kind, *_) in enumerate(parts) if (kind, False) in STATES]
        self.along = np.zeros((len(parts), nodes))
        for n, (_, a, b, _) in enumerate(parts):
            self.along[n, a], self.along[n, b] = 1.0, -1.0
        self.across = self.along[self.devices]
        self.fixed = np.zeros((nodes, nodes))
        for n, (kind, _, _, values) in enumerate(parts):
            g = {"resistor": lambda v: 1 / v[0], "inductor": lambda v: 1 / v[2], "capacitor": lambda v: 1 / v[1]}
            if kind in g:
                self.fixed += g[kind](values) * np.outer(self.along[n], self.along[n])
        self.known = {}

    def gates(self, tick):
        """Which devices are driven on from a tick on; what a tick works out acts a tick later."""
        driven = []
        for n in self.devices:
            kind, _, _, values = self.parts[n]
            driven.append(kind != "diode" and tick > 0 and wave(values, tick - 1) > 0.5)
        return tuple(bool(on) for on in driven)

    def sets(self, gates):
        """Every set of what the devices may do: the inverse of its conductances, and its drops."""
        if gates not in self.known:
            rows = []
            for states in product(*(STATES[self.parts[n][0], on] for n, on in zip(self.devices, gates))):
                g, drop, low, high = np.array(states).T
                G = self.fixed + self.across.T @ np.diag(g) @ self.across
                rows.append((np.linalg.inv(G[1:, 1:]), (self.across.T @ (g * drop))[1:], low, high))
            self.known[gates] = rows
        return self.known[gates]

    def potentials(self, x, gates):
        fed = np.zeros(self.nodes)
        for n, value in zip(self.states, x):
            kind, _, _, values = self.parts[n]
            out = {"source": value, "inductor": -value, "capacitor": value / values[1]}[kind]
            fed += out * self.along[n]
        best, least = np.zeros(self.nodes), np.inf
        for inverse, drop, low, high in self.sets(gates):
            v = np.append(0.0, inverse @ (fed[1:] + drop))
            u = self.across @ v
            wrong = np.max(np.maximum(low - u, u - high), initial=0.0)
            if wrong < least:
                best, least = v, wrong
        return best

    def slopes(self, t, x, gates=()):
        u = self.along @ self.potentials(x, gates or (False,) * len(self.devices))
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

    def solved(self, starts, times):
        """The states at these times, from tick to tick as the gates change."""
        ticks = round(END / TICK)
        changes = [k for k in range(1, ticks) if self.gates(k) != self.gates(k - 1)]
        x, columns = np.array([starts[n] for n in self.states]), []
        for begin, end in zip([0, *changes], [*changes, ticks]):
            last = end == ticks
            inside = times[(times >= begin * TICK) & (times <= end * TICK if last else times < end * TICK)]
            span = begin * TICK, end * TICK
            how = {"method": "Radau", "rtol": 1e-7, "atol": 1e-9, "max_step": END / 200, "dense_output": True}
            part = scipy.integrate.solve_ivp(self.slopes, span, x, args=(self.gates(begin),), **how)
            assert part.success
            columns.append(part.sol(inside))
            x = part.y[:, -1]
        return np.hstack(columns)


@pytest.mark.parametrize(("seed", "gated"), [*((seed, 0) for seed in range(3)), *((seed, 2) for seed in (21, 22, 25))])
def test_a_circuit_with_devices_does_what_nodal_analysis_says(seed, gated):
    rng = np.random.default_rng(seed)
    nodes = int(rng.integers(3, 7))
    parts = [*branches(rng, nodes, gated), ("resistor", 1, 0, (80.0,))]
    starts = starts_of(rng, parts)
    d, keys = as_drive(parts, nodes, starts)
    d.set("tolerance", "1e-7")
    d.set("tick", f"{TICK} s")
    run = d.run(END)
    nodal, times = Nodal(parts, nodes), np.linspace(0, END, 81)
    for n, wanted in zip(nodal.states, nodal.solved(starts, times)):
        kind, _, _, values = parts[n]
        signal = {"source": "current", "inductor": "flux", "capacitor": "charge"}[kind]
        got = run.at(f"{keys[n]}.{signal}", times) / (1.0 if kind == "source" else values[0])
        np.testing.assert_allclose(got, wanted, atol=1e-3 * np.max(np.abs(wanted)) + 1e-5, err_msg=f"{keys[n]} {parts}")
