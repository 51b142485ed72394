"""Random networks of windings, transformers and three-phase parts against modified nodal analysis (Ho, Ruehli, Brennan:
The modified nodal approach to network analysis, IEEE Trans. Circuits and Systems 22, 1975): every part is a matrix of
inductances between its windings, and the whole descriptor system takes steps of Radau IIA (Hairer, Wanner: Solving
Ordinary Differential Equations II, table IV.5.6)."""

import math
from dataclasses import dataclass, field

import numpy as np
import pytest
import scipy.linalg

import pendel
from pendel.core.loops.models.linear import linear_plant
from pendel.core.runs.preparing.simulate import prepare

END, POINTS, F = 0.03, 60, 50.0
PHASES = "abc"
S6 = math.sqrt(6.0)
RADAU = np.array(
    [
        [(88 - 7 * S6) / 360, (296 - 169 * S6) / 1800, (-2 + 3 * S6) / 225],
        [(296 + 169 * S6) / 1800, (88 + 7 * S6) / 360, (-2 - 3 * S6) / 225],
        [(16 - S6) / 36, (16 + S6) / 36, 1 / 9],
    ]
)


@dataclass
class Network:
    """The same circuit twice: a drive, and windings between nodes; node 0 is earth."""

    drive: pendel.Drive = field(default_factory=lambda: pendel.Drive("Network"))
    nodes: int = 1
    pins: dict[int, list[str]] = field(default_factory=dict)
    windings: list[tuple[int, int]] = field(default_factory=list)
    blocks: list[tuple[list[int], np.ndarray, np.ndarray, object]] = field(default_factory=list)
    """Windings, their resistances and inductances, and what drives them (V, of time)."""
    capacitors: list[tuple[int, float, float]] = field(default_factory=list)
    ideal: list[tuple[int, int, float]] = field(default_factory=list)
    watched: dict[str, dict[int, float]] = field(default_factory=dict)
    """Signals as sums of currents of windings."""

    def node(self):
        self.nodes += 1
        return self.nodes - 1

    def pin(self, node, *ports):
        self.pins.setdefault(node, []).extend(ports)

    def winding(self, a, b):
        self.windings.append((a, b))
        return len(self.windings) - 1

    def block(self, ends, R, L, emf=None):
        numbers = [self.winding(a, b) for a, b in ends]
        self.blocks.append((numbers, np.diag(np.atleast_1d(R)), np.atleast_2d(L), emf))
        return numbers

    def watch(self, signal, *parts):
        self.watched[signal] = dict(parts)

    def descriptor(self):
        """E and A of E·dy/dt + A·y = b, with y the currents of windings, voltages of capacitors, and potentials."""
        w, v = len(self.windings), self.nodes - 1
        size = w + len(self.capacitors) + v
        E, A = np.zeros((size, size)), np.zeros((size, size))
        for k, (a, b) in enumerate(self.windings):
            for node, sign in ((a, 1.0), (b, -1.0)):
                if node:
                    A[k, size - v + node - 1] = -sign  # u = R·i + L·di/dt - emf
                    A[size - v + node - 1, k] = sign  # what flows in at a comes out at b
        for numbers, R, L, _ in self.blocks:
            A[np.ix_(numbers, numbers)] += R
            E[np.ix_(numbers, numbers)] += L
        for c, (k, C, R) in enumerate(self.capacitors):
            A[k, k], A[k, w + c], E[w + c, w + c], A[w + c, k] = R, 1.0, C, -1.0
        for first, second, n in self.ideal:  # u_1 = n·u_2 takes the place of the first, n·i_1 + i_2 = 0 of the second
            A[first] -= n * A[second]
            A[second] = 0.0
            A[second, first], A[second, second] = n, 1.0
        return E, A

    def solved(self):
        """Watched currents at evenly spaced times, shape (POINTS, signals), from no current and no charge."""
        E, A = self.descriptor()
        size = len(E)
        steps = 40 * POINTS
        h = END / steps
        stages = np.sum(RADAU, axis=1)
        system = scipy.linalg.lu_factor(np.kron(np.eye(3), E) + h * np.kron(RADAU, A))
        y, rows = np.zeros(size), []
        for n in range(steps):
            forced = np.zeros((3, size))
            for numbers, _, _, emf in self.blocks:
                if emf is not None:
                    forced[:, numbers] = np.array([emf((n + c) * h) for c in stages]).reshape(3, -1)
            z = scipy.linalg.lu_solve(system, (np.kron(np.ones(3), E @ y)) + h * (RADAU @ forced).ravel())
            y = z[-size:]
            if (n + 1) % 40 == 0:
                rows.append([sum(share * y[k] for k, share in parts.items()) for parts in self.watched.values()])
        return np.array(rows)

    def finished(self):
        earth = self.drive.add("ground", "Earth")
        self.pin(0, f"{earth}.line")
        for ends in self.pins.values():
            for end in ends[1:]:
                self.drive.connect(ends[0], end)
        self.drive.set("tolerance", "1e-8")
        return self.drive


def text(value, unit=""):
    return f"{float(value)!r} {unit}".strip()


def log(rng, low, high):
    return float(10 ** rng.uniform(low, high))


def add_source(net, rng, name):
    """A three-phase source with harmonics; its port, and the nodes of its phases."""
    U, angle, R, L = rng.uniform(50, 500), rng.uniform(-180, 180), log(rng, -2, 0), log(rng, -4, -3)
    share, order, turn = rng.uniform(0, 0.2), float(rng.integers(2, 8)), rng.uniform(-180, 180)
    key = net.drive.add(
        "three_phase_source",
        name,
        U=text(U, "V"),
        f=text(F, "Hz"),
        angle=text(angle, "deg"),
        R_i=text(R, "Ω"),
        L_i=text(L, "H"),
        rows=[(text(order), text(100 * share, "%"), text(turn, "deg"))],
    )
    star = 0 if rng.random() < 0.5 else net.node()
    if star == 0:
        net.pin(0, f"{key}.star")
    phases = [net.node() for _ in PHASES]

    def emf(t):
        turned = 2 * math.pi * (F * t + angle / 360 - np.arange(3) / 3)
        return math.sqrt(2 / 3) * U * (np.sin(turned) + share * np.sin(order * turned + math.radians(turn)))

    numbers = net.block([(star, p) for p in phases], [R] * 3, L * np.eye(3), emf)
    for n, k in zip(PHASES, numbers):
        net.watch(f"{key}.current_{n}", (k, 1.0))
    return f"{key}.out", phases


def add_reactor(net, rng, name, port, phases):
    R, L = log(rng, -2, 0), log(rng, -4, -2)
    key = net.drive.add("line_reactor", name, R=text(R, "Ω"), L=text(L, "H"))
    net.drive.connect(port, f"{key}.in")
    behind = [net.node() for _ in PHASES]
    numbers = net.block(list(zip(phases, behind)), [R] * 3, L * np.eye(3))
    for n, k in zip(PHASES, numbers):
        net.watch(f"{key}.current_{n}", (k, 1.0))
    return f"{key}.out", behind


def t_circuit(n, L_1, L_2, L_m):
    return np.array([[L_1 + L_m, L_m / n], [L_m / n, L_2 + L_m / n**2]])


def add_three_phase_transformer(net, rng, name, port, phases):
    group = ("Yy0", "Yd1", "Dy11")[rng.integers(3)]
    ratio, R_1, R_2 = rng.uniform(0.3, 3), log(rng, -2, 0), log(rng, -2, 0)
    L_1, L_2, L_m = log(rng, -4, -2.5), log(rng, -4, -2.5), log(rng, -1.5, 0.5)
    key = net.drive.add(
        "three_phase_transformer",
        name,
        ratio=text(ratio),
        R_1=text(R_1, "Ω"),
        L_1=text(L_1, "H"),
        R_2=text(R_2, "Ω"),
        L_2=text(L_2, "H"),
        L_m=text(L_m, "H"),
        choices={"group": group},
    )
    net.drive.connect(port, f"{key}.first")
    seconds = [net.node() for _ in PHASES]
    turns = {"Yy0": ratio, "Yd1": ratio / math.sqrt(3), "Dy11": ratio * math.sqrt(3)}[group]
    ends = []
    for kind, lines in zip(group.upper(), (phases, seconds)):  # a winding from each line to the point or the next line
        point = net.node() if kind == "Y" else None
        ends.append([(lines[k], lines[(k + 1) % 3] if point is None else point) for k in range(3)])
    numbers = []
    for k in range(3):
        numbers.append(net.block([ends[0][k], ends[1][k]], [R_1, R_2], t_circuit(turns, L_1, L_2, L_m)))
    for side, kind in enumerate(group.upper()[:2]):
        for k, n in enumerate(PHASES):
            parts = [(numbers[k][side], 1.0)] + ([(numbers[k - 1][side], -1.0)] if kind == "D" else [])
            net.watch(f"{key}.current_{('first', 'second')[side]}_{n}", *parts)
    return f"{key}.second", seconds


def add_star(net, rng, name, port, phases):
    R, L = log(rng, 0, 2), log(rng, -3, -1)
    key = net.drive.add("star_load", name, R=text(R, "Ω"), L=text(L, "H"))
    net.drive.connect(port, f"{key}.in")
    star = 0 if rng.random() < 0.5 else net.node()
    if star == 0:
        net.pin(0, f"{key}.star")
    numbers = net.block([(p, star) for p in phases], [R] * 3, L * np.eye(3))
    for n, k in zip(PHASES, numbers):
        net.watch(f"{key}.current_{n}", (k, 1.0))


def add_single(net, rng, name, lines):
    """A part between any of some lines."""
    picks = [int(n) for n in rng.choice(lines, 4, replace=len(lines) < 4)]
    a, b, c, d = picks
    if a == b or c == d:
        return
    kind = ("resistor", "capacitor", "inductor", "coupled_inductors", "transformer", "ideal_transformer")[
        rng.integers(6)
    ]
    if kind == "resistor":
        R = log(rng, 0, 2)
        key = net.drive.add(kind, name, R=text(R, "Ω"))
        numbers = net.block([(a, b)], [R], [[0.0]])
    elif kind == "capacitor":
        C, R = log(rng, -6, -4), rng.uniform(0.2, 2)
        key = net.drive.add(kind, name, C=text(C, "F"), R_s=text(R, "Ω"))
        numbers = [net.winding(a, b)]
        net.capacitors.append((numbers[0], C, R))
    elif kind == "inductor":
        L, R = log(rng, -3, -1), log(rng, -1, 0.5)
        key = net.drive.add(kind, name, L=text(L, "H"), R_s=text(R, "Ω"))
        numbers = net.block([(a, b)], [R], [[L]])
    elif kind == "coupled_inductors":
        L_1, L_2, k, R_1, R_2 = (
            log(rng, -3, -1),
            log(rng, -3, -1),
            rng.uniform(-0.98, 0.98),
            *10 ** rng.uniform(-1, 1, 2),
        )
        key = net.drive.add(
            kind, name, L_1=text(L_1, "H"), L_2=text(L_2, "H"), k=text(k), R_1=text(R_1, "Ω"), R_2=text(R_2, "Ω")
        )
        M = k * math.sqrt(L_1 * L_2)
        numbers = net.block([(a, b), (c, d)], [R_1, R_2], [[L_1, M], [M, L_2]])
    elif kind == "transformer":
        n, R_1, R_2, R_fe = rng.uniform(0.3, 3), *10 ** rng.uniform(-1, 1, 2), log(rng, 1.5, 3.5)
        L_1, L_2, L_m = log(rng, -4, -2.5), log(rng, -4, -2.5), log(rng, -1.5, 0.5)
        iron = rng.random() < 0.5
        key = net.drive.add(
            kind,
            name,
            ratio=text(n),
            R_1=text(R_1, "Ω"),
            R_2=text(R_2, "Ω"),
            L_1=text(L_1, "H"),
            L_2=text(L_2, "H"),
            L_m=text(L_m, "H"),
            R_fe=text(R_fe, "Ω") if iron else "",
        )
        L = np.zeros((3, 3))
        L[:2, :2], L[2] = t_circuit(n, L_1, L_2, L_m), [L_m, L_m / n, L_m]
        L[:, 2] = L[2]
        if iron:  # as a third winding, of the turns of the first, closed on itself
            numbers = net.block([(a, b), (c, d), (0, 0)], [R_1, R_2, R_fe], L)[:2]
        else:
            numbers = net.block([(a, b), (c, d)], [R_1, R_2], L[:2, :2])
    else:
        n = rng.uniform(0.3, 3)
        key = net.drive.add(kind, name, ratio=text(n))
        numbers = [net.winding(a, b), net.winding(c, d)]
        net.ideal.append((*numbers, n))
    for node, port in zip(picks if len(numbers) == 2 else picks[:2], PHASES + "d"):
        net.pin(node, f"{key}.{port}")
    for m, k in enumerate(numbers, 1):
        net.watch(f"{key}.current_{m}" if len(numbers) == 2 else f"{key}.current", (k, 1.0))


def a_network(rng):
    net = Network()
    port, phases = add_source(net, rng, "Grid")
    for n in range(int(rng.integers(4))):
        add = add_three_phase_transformer if rng.random() < 0.5 else add_reactor
        port, phases = add(net, rng, f"T{n}", port, phases)
    if rng.random() < 0.4:
        add_star(net, rng, "Star", port, phases)
    opener = net.drive.add("phase_opener", "Open")
    net.drive.connect(port, f"{opener}.phases")
    lines = [0, *phases, *(net.node() for _ in range(int(rng.integers(1, 3))))]
    for n, node in zip(PHASES, phases):
        net.pin(node, f"{opener}.{n}")
    for n, node in enumerate(lines[1:]):  # a way for every current
        R, other = log(rng, 0.5, 2), lines[int(rng.integers(n + 1))]
        key = net.drive.add("resistor", f"R{n}", R=text(R, "Ω"))
        net.pin(node, f"{key}.a")
        net.pin(other, f"{key}.b")
        net.watch(f"{key}.current", (net.block([(node, other)], [R], [[0.0]])[0], 1.0))
    for n in range(int(rng.integers(2, 6))):
        add_single(net, rng, f"P{n}", lines)
    return net


@pytest.mark.parametrize("seed", range(5))
def test_currents_of_a_network_are_those_of_nodal_analysis(seed):
    net = a_network(np.random.default_rng(seed))
    run = net.finished().run(END)
    wanted, times = net.solved(), np.linspace(0, END, POINTS + 1)[1:]
    size = np.max(np.abs(wanted))
    for signal, column in zip(net.watched, wanted.T):
        atol = 3e-4 * (np.max(np.abs(column)) + 0.01 * size)
        np.testing.assert_allclose(run.at(signal, times), column, atol=atol, rtol=0, err_msg=signal)


@pytest.mark.parametrize("seed", range(30, 34))
def test_eigenvalues_of_the_linear_plant_are_those_of_the_pencil(seed):
    """With a shift s the pencil's eigenvalues p become 1/(s − p), those at infinity zero; a pencil taken as it is would
    tell some of hers to a part in ten only. The potential of what floats is arbitrary, so the inverse is Moore's."""
    net, shift = a_network(np.random.default_rng(seed)), -3e3
    plant = linear_plant(prepare(net.finished().document), ())
    E, A = net.descriptor()
    inverted = np.linalg.eigvals(np.linalg.pinv(A + shift * E) @ E)
    got = np.linalg.eigvals(plant.A)
    left = list(1 / (shift - got))
    assert len(left) == np.sum(np.abs(inverted) > 1e-9)
    for each in inverted[np.abs(inverted) > 1e-9]:
        nearest = min(left, key=lambda other: abs(other - each))
        assert abs(nearest - each) < 1e-5 * abs(each) + 1e-9, (shift - 1 / each, got)
        left.remove(nearest)
