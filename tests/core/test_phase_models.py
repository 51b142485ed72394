"""Machines at unbalanced phases against their equations in phase quantities, with inductances that turn with the rotor:
no transformation, no frame (Krause, Wasynczuk, Sudhoff, Analysis of Electric Machinery, from memory)."""

import math

import numpy as np
import pytest
import scipy.integrate

import pendel

END = 0.06
APART = 2 * np.pi / 3 * np.arange(3)
BETWEEN = np.array([[1.0, -1.0, 0.0], [0.0, 1.0, -1.0]])
TWO = np.array([[1.0, 0.0], [0.0, 1.0], [-1.0, -1.0]])
"""Currents of all phases from two, as an open star point has them."""


class Feed:
    """A three-phase source, a resistor in each phase, and a shaft that is turned from one speed to another."""

    def __init__(self, rng):
        self.U, self.f, self.turned = rng.uniform(80, 300), rng.uniform(10, 80), rng.uniform(-math.pi, math.pi)
        self.R_i, self.L_i = rng.uniform(0.01, 0.2), rng.uniform(0.1e-3, 1e-3)
        self.R = rng.uniform(0.01, 3.0, 3)
        self.speeds = rng.uniform(-150, 150, 2)

    def drive(self, kind, values):
        d = pendel.Drive("Phases")
        d.add(
            "three_phase_source",
            "Source",
            U=f"{self.U!r} V",
            f=f"{self.f!r} Hz",
            angle=f"{self.turned!r} rad",
            R_i=f"{self.R_i!r} Ω",
            L_i=f"{self.L_i!r} H",
        )
        d.add("phase_opener", "Out")
        d.add("phase_opener", "In")
        d.add(kind, "Machine", **values)
        first, last = (f"{float(s)!r} rad/s" for s in self.speeds)
        d.add("imposed_speed", "Dyno", profile=[("0", first), (f"{END} s", last)])
        d.connect("source.out", "out.phases")
        for n, phase in enumerate("abc"):
            d.add("resistor", f"R {phase}", R=f"{float(self.R[n])!r} Ω")
            d.connect(f"out.{phase}", f"r_{phase}.a")
            d.connect(f"r_{phase}.b", f"in.{phase}")
        d.connect("in.phases", "machine.phases")
        d.connect("machine.shaft", "dyno.a")
        d.set("tolerance", "1e-8")
        return d

    def voltages(self, t):
        return math.sqrt(2 / 3) * self.U * np.sin(2 * math.pi * self.f * t + self.turned - APART)

    def speed(self, t):
        return self.speeds[0] + (self.speeds[1] - self.speeds[0]) * t / END

    def angle(self, t):
        return self.speeds[0] * t + (self.speeds[1] - self.speeds[0]) * t * t / (2 * END)


def synchronous(rng, feed):
    """The drive, and its slopes and torque from two phase currents."""
    p, R_s, psi = int(rng.integers(1, 6)), rng.uniform(0.02, 1.0), rng.uniform(0.02, 0.4)
    L_d, L_q = (float(10**e) for e in rng.uniform(-3.3, -2, 2))
    steady, turning = (L_d + L_q) / 3, (L_d - L_q) / 3
    values = {"p": str(p), "R_s": f"{R_s!r} Ω", "L_d": f"{L_d!r} H", "L_q": f"{L_q!r} H", "psi_f": f"{psi!r} Wb"}

    def inductances(angle):
        both, apart = APART[:, None] + APART[None, :], APART[:, None] - APART[None, :]
        L = steady * np.cos(apart) + turning * np.cos(2 * angle - both)
        return L, -2 * turning * np.sin(2 * angle - both), psi * np.cos(angle - APART), -psi * np.sin(angle - APART)

    def slopes(t, two):
        i = TWO @ two
        L, dL, _, d_psi = inductances(p * feed.angle(t))
        drop = (feed.R_i + feed.R + R_s) * i + p * feed.speed(t) * (dL @ i + d_psi)
        return np.linalg.solve(BETWEEN @ (L + feed.L_i * np.eye(3)) @ TWO, BETWEEN @ (feed.voltages(t) - drop))

    def torque(t, two):
        i = TWO @ two
        _, dL, _, d_psi = inductances(p * feed.angle(t))
        return p * (i @ dL @ i / 2 + i @ d_psi)

    return feed.drive("pmsm", values), slopes, torque, 2


def induction(rng, feed):
    """The same with three rotor circuits, short-circuited; four currents."""
    p, R_s, R_r = int(rng.integers(1, 3)), rng.uniform(0.05, 1.0), rng.uniform(0.05, 1.0)
    L_s, L_r, L_m = rng.uniform(0.5e-3, 4e-3), rng.uniform(0.5e-3, 4e-3), rng.uniform(10e-3, 80e-3)
    values = {
        "p": str(p),
        "R_s": f"{R_s!r} Ω",
        "L_s": f"{L_s!r} H",
        "L_m": f"{L_m!r} H",
        "R_r1": f"{R_r!r} Ω",
        "L_r1": f"{L_r!r} H",
    }
    apart = APART[:, None] - APART[None, :]
    own = 2 / 3 * L_m * np.cos(apart)
    resistances = np.concatenate([feed.R_i + feed.R + R_s, np.full(3, R_r)])
    both_between, both_two = (np.kron(np.eye(2), m) for m in (BETWEEN, TWO))

    def mutual(angle):
        """Rotor winding y lies at the angle it has turned by behind stator winding x; and the slope over the angle."""
        return 2 / 3 * L_m * np.cos(apart - angle), 2 / 3 * L_m * np.sin(apart - angle)

    def slopes(t, four):
        i = both_two @ four
        M, dM = mutual(p * feed.angle(t))
        L = np.block([[own + (L_s + feed.L_i) * np.eye(3), M], [M.T, own + L_r * np.eye(3)]])
        turned = p * feed.speed(t) * np.concatenate([dM @ i[3:], dM.T @ i[:3]])
        fed = np.concatenate([feed.voltages(t), np.zeros(3)])
        return np.linalg.solve(both_between @ L @ both_two, both_between @ (fed - resistances * i - turned))

    def torque(t, four):
        i = both_two @ four
        return p * i[:3] @ mutual(p * feed.angle(t))[1] @ i[3:]

    return feed.drive("induction", values), slopes, torque, 4


def trapezoid(angle, flat):
    """From zero up a flank to 1, and over the flat top (rad) down."""
    corners = np.cumsum([0.0, (math.pi - flat) / 2, flat, math.pi - flat, flat, (math.pi - flat) / 2])
    return np.interp(np.mod(angle, 2 * math.pi), corners, [0.0, 1.0, 1.0, -1.0, -1.0, 0.0])


def trapezoidal(winding):
    """The same with EMFs of straight lines, in star or delta (Krishnan, Permanent Magnet Synchronous and Brushless DC
    Motor Drives, chapter 9, from memory); in delta the currents of all windings count."""
    delta = np.eye(3) - np.roll(np.eye(3), 1, axis=0)  # currents of lines from those of windings
    to_lines = delta if winding == "delta" else TWO
    ahead = math.pi / 6 if winding == "delta" else 0.0

    def machine(rng, feed):
        p, R, L = int(rng.integers(1, 6)), rng.uniform(0.05, 1.0), float(10 ** rng.uniform(-3.5, -2))
        k, flat = rng.uniform(0.05, 0.5), rng.uniform(1.0, 2.5)
        values = {"p": str(p), "R_s": f"{R!r} Ω", "L_s": f"{L!r} H", "k_phase": f"{k!r} V*s", "flat": f"{flat!r} rad"}
        values |= {"round": "0", "choices": {"winding": winding}}
        around = delta.T if winding == "delta" else BETWEEN
        own = np.eye(3) if winding == "delta" else BETWEEN @ TWO
        inverse = np.linalg.inv(L * own + feed.L_i * around @ to_lines)

        def shapes(t):
            return trapezoid(p * feed.angle(t) + ahead - APART, flat)

        def slopes(t, i):
            emf = k * feed.speed(t) * shapes(t)
            fed = around @ (feed.voltages(t) - (feed.R_i + feed.R) * (to_lines @ i))
            return inverse @ (fed - R * (own @ i) - (emf if winding == "delta" else BETWEEN @ emf))

        def torque(t, i):
            return k * shapes(t) @ (i if winding == "delta" else TWO @ i)

        return feed.drive("trapezoidal", values), slopes, torque, to_lines.shape[1]

    machine.to_lines = to_lines
    return machine


@pytest.mark.parametrize("seed", range(2))
@pytest.mark.parametrize("winding", ["star", "delta"])
def test_a_trapezoidal_machine_at_unbalanced_phases_is_that_of_its_windings(winding, seed):
    machine = trapezoidal(winding)
    held_against(machine, np.random.default_rng(seed), machine.to_lines, 1e-3)


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("machine", [synchronous, induction])
def test_a_machine_at_unbalanced_phases_is_that_of_its_phase_quantities(machine, seed):
    held_against(machine, np.random.default_rng(seed), TWO, 1e-4)


def held_against(machine, rng, to_lines, share):
    feed = Feed(rng)
    d, slopes, torque, count = machine(rng, feed)
    run, times = d.run(END), np.linspace(0, END, 61)
    reference = scipy.integrate.solve_ivp(
        slopes, (0, END), np.zeros(count), "DOP853", times, rtol=1e-9, atol=1e-9, max_step=END / 300
    )
    currents = to_lines @ reference.y[: to_lines.shape[1]]
    size = np.max(np.abs(currents))
    for phase, wanted in zip("abc", currents):
        np.testing.assert_allclose(run.at(f"machine.current_{phase}", times), wanted, atol=share * size)
    wanted = np.array([torque(t, y) for t, y in zip(times, reference.y.T)])
    np.testing.assert_allclose(run.at("machine.torque", times), wanted, atol=2 * share * np.max(np.abs(wanted)))
