"""Random trains of inertias on elastic shafts with dry friction against small implicit steps, in which friction takes
away what speed it can and holds what is left (Moreau's time stepping: no events, no modes, nothing of ours)."""

import numpy as np
import pytest

import pendel

END, STEP, COARSE = 0.12, 2e-6, 4e-6


def a_train(rng):
    """Inertias (kg·m²), shafts (N·m/rad, N·m·s), viscous and dry friction of each bearing (N·m·s, N·m)."""
    count = int(rng.integers(2, 6))
    J = 10 ** rng.uniform(-3, -1.5, count)
    k = np.minimum(J[1:], J[:-1]) * (2 * np.pi * rng.uniform(8, 60, count - 1)) ** 2
    d = 2 * rng.uniform(0.0, 0.1, count - 1) * np.sqrt(k * J[1:])
    pull = float(np.sum(J) * rng.uniform(30, 300))  # N·m
    dry = np.where(rng.random(count) < 0.7, pull * rng.uniform(0.02, 0.9, count), 0.0)
    return J, k, d, pull * rng.uniform(0, 1e-3, count), dry, pull


def corners(rng, least, most):
    times = np.unique(np.round([0.0, *rng.uniform(0, END, 5)], 5))
    return times, np.round(rng.uniform(least, most, len(times)), 4)


def speeds_at_first(rng, J, pull):
    """rad/s; some bodies move from the beginning on."""
    return np.where(rng.random(len(J)) < 0.5, rng.uniform(-0.05, 0.05, len(J)) * pull / J * END, 0.0)


def as_drive(J, k, d, viscous, dry, driven, rubbing, first):
    drive = pendel.Drive("Train")
    for n in range(len(J)):
        drive.add("inertia", f"J {n}", J=repr(float(J[n])), starts={"omega": repr(float(first[n]))})
        before = f"j_{n}.a"
        if dry[n] or viscous[n]:
            level = repr(float(dry[n]))
            drive.add("friction", f"F {n}", M_c=level, M_s=level, b=repr(float(viscous[n])))
            drive.connect(f"f_{n}.b", f"j_{n}.a")
            before = f"f_{n}.a"
        if n:
            drive.add("elastic_shaft", f"S {n}", k=repr(float(k[n - 1])), d=repr(float(d[n - 1])), play="0")
            drive.connect(f"j_{n - 1}.b", f"s_{n}.a")
            drive.connect(f"s_{n}.b", before)
        else:
            drive.add("imposed_torque", "Pull", profile=[(repr(float(t)), repr(float(y))) for t, y in zip(*driven)])
            drive.connect("pull.a", before)
    drive.add("load_torque", "Rub", profile=[(repr(float(t)), repr(float(y))) for t, y in zip(*rubbing)])
    drive.connect("rub.a", f"j_{len(J) - 1}.b")
    return drive


def stepped(J, k, d, viscous, dry, driven, rubbing, first):
    """Speeds (rad/s) and angles (rad) after each thousandth part, shape (parts, 2, inertias)."""
    speed, angle, rows = first, np.zeros(len(J)), []
    steps = round(END / STEP)
    times = STEP * np.arange(1, steps + 1)
    pulls, rubs = np.interp(times, *driven), np.interp(times, *rubbing)
    level = dry.copy()
    every = steps // 120
    for n in range(steps):
        shaft = k * (angle[:-1] - angle[1:]) + d * (speed[:-1] - speed[1:])
        torque = -viscous * speed
        torque[:-1] -= shaft
        torque[1:] += shaft
        torque[0] += pulls[n]
        level[-1] = dry[-1] + rubs[n]
        free = speed + STEP * torque / J
        speed = np.sign(free) * np.maximum(np.abs(free) - STEP * level / J, 0.0)
        angle = angle + STEP * speed
        if (n + 1) % every == 0:
            rows.append((speed, angle))
    return np.array(rows)


@pytest.mark.parametrize("seed", [0, 1, 13, 34])  # from 13 on starts were lost once
def test_a_train_with_dry_friction_sticks_and_slides_as_small_implicit_steps_do(seed):
    rng = np.random.default_rng(seed)
    J, k, d, viscous, dry, pull = a_train(rng)
    driven, rubbing = corners(rng, -pull, pull), corners(rng, 0.0, 0.6 * pull)
    train = J, k, d, viscous, dry, driven, rubbing, speeds_at_first(rng, J, pull)
    run, wanted = as_drive(*train).run(END), stepped(*train)
    times = np.linspace(0, END, 121)[1:]
    for n in range(len(J)):
        for place, signal in enumerate(("speed", "angle")):
            got = run.at(f"j_{n}.{signal}", times)
            size = np.max(np.abs(wanted[:, place]))
            np.testing.assert_allclose(got, wanted[:, place, n], atol=4e-3 * size + 1e-9, err_msg=f"j_{n}.{signal}")


class Hoist:
    """A train with backlash and lossy gears between its inertias, and at its end, where there is one, a rope on a drum
    with a weight that falls until the rope is taut.

    A gear leaves η·M of what drives it, or M/η where it is driven back, so its loss is a dry friction whose level
    follows its torque, and differs by the way it turns."""

    def __init__(self, rng):
        self.J, k, d, self.viscous, self.dry, self.pull = a_train(rng)
        count = len(k)
        self.ratio = np.where(rng.random(count) < 0.6, rng.uniform(0.5, 3.0, count), 1.0)
        self.eta = np.where(self.ratio == 1.0, 1.0, rng.uniform(0.6, 1.0, count))
        self.k, self.d = k / self.ratio**2, d / self.ratio**2
        self.half = np.where(rng.random(count) < 0.6, rng.uniform(0.0, 0.05, count), 0.0)
        self.driven = corners(rng, -self.pull, self.pull)
        self.first = speeds_at_first(rng, self.J, self.pull)
        self.roped = rng.random() < 0.6
        self.r, self.m = rng.uniform(0.05, 0.3), float(self.J[-1] * rng.uniform(5, 50))
        self.k_rope = self.m * (2 * np.pi * rng.uniform(8, 40)) ** 2
        self.d_rope = 2 * rng.uniform(0.0, 0.3) * np.sqrt(self.k_rope * self.m)

    def drive(self):
        d = pendel.Drive("Hoist")
        end = ""
        for n, J in enumerate(self.J):
            d.add("inertia", f"J {n}", J=repr(float(J)), starts={"omega": repr(float(self.first[n]))})
            chain = [(f"j_{n}.a", f"j_{n}.b")]
            if self.dry[n] or self.viscous[n]:
                level = repr(float(self.dry[n]))
                d.add("friction", f"F {n}", M_c=level, M_s=level, b=repr(float(self.viscous[n])))
                chain.insert(0, (f"f_{n}.a", f"f_{n}.b"))
            if n and self.ratio[n - 1] != 1.0:
                d.add("gear", f"G {n}", ratio=repr(float(self.ratio[n - 1])), eta=repr(float(100 * self.eta[n - 1])))
                chain.insert(0, (f"g_{n}.a", f"g_{n}.b"))
            if n:
                k, damping, play = self.k[n - 1], self.d[n - 1], 2 * self.half[n - 1]
                values = {"k": repr(float(k)), "d": repr(float(damping)), "play": f"{float(play)!r} rad"}
                d.add("elastic_shaft", f"S {n}", **values)
                chain.insert(0, (f"s_{n}.a", f"s_{n}.b"))
            else:
                d.add("imposed_torque", "Pull", profile=texts(self.driven))
                end = "pull.a"
            for first, last in chain:
                d.connect(end, first)
                end = last
        if self.roped:
            d.add("drum", "Drum", r=f"{self.r!r} m")
            d.add("rope", "Rope", k=repr(float(self.k_rope)), d=repr(float(self.d_rope)))
            d.add("mass", "Weight", m=repr(self.m))
            d.add("load_force", "Earth", choices={"acts": "pulls"}, profile=texts(([0, 9], [9.81 * self.m] * 2)))
            for a, b in ((end, "drum.shaft"), ("drum.rope", "rope.a"), ("rope.b", "weight.a"), ("weight.b", "earth.a")):
                d.connect(a, b)
        return d

    def stepped(self):
        """Speeds (rad/s, m/s) of all inertias and the weight, shape (parts, bodies)."""
        J, rows = np.append(self.J, self.m), []
        speed, angle = np.append(self.first, 0.0), np.zeros(len(J))
        steps = round(END / COARSE)
        pulls = np.interp(COARSE * np.arange(1, steps + 1), *self.driven)
        loses = 1 - self.eta, 1 / self.eta - 1
        gearing = len(self.ratio)
        for n in range(steps):
            slip = angle[:gearing] - self.ratio * angle[1 : gearing + 1]
            rate = speed[:gearing] - self.ratio * speed[1 : gearing + 1]
            ahead, behind = (self.k * (slip - way * self.half) + self.d * rate for way in (1, -1))
            shaft = np.where(slip > self.half, np.maximum(ahead, 0.0), 0.0)
            shaft += np.where(slip < -self.half, np.minimum(behind, 0.0), 0.0)
            shaft = np.where(self.half == 0.0, ahead, shaft)
            torque = np.append(-self.viscous * speed[:-1], -9.81 * self.m)
            torque[:gearing] -= shaft
            torque[1 : gearing + 1] += self.ratio * shaft
            torque[0] += pulls[n]
            if self.roped:
                stretch, growth = self.r * angle[-2] - angle[-1], self.r * speed[-2] - speed[-1]
                force = max(0.0, self.k_rope * stretch + self.d_rope * growth) if stretch > 0 else 0.0
                torque[-2] -= self.r * force
                torque[-1] += force
            forward, backward = np.append(self.dry, 0.0), np.append(self.dry, 0.0)
            size = self.ratio * np.abs(shaft)
            forward[1 : gearing + 1] += size * np.where(shaft > 0, *loses)
            backward[1 : gearing + 1] += size * np.where(shaft < 0, *loses)
            free = speed + COARSE * torque / J
            speed = np.maximum(free - COARSE * forward / J, 0.0) + np.minimum(free + COARSE * backward / J, 0.0)
            angle = angle + COARSE * speed
            if (n + 1) % (steps // 120) == 0:
                rows.append(speed)
        return np.array(rows)


def texts(points):
    return [(repr(float(t)), repr(float(y))) for t, y in zip(*points)]


@pytest.mark.parametrize("seed", [0, 5, 7])
def test_backlash_lossy_gears_and_a_rope_do_as_small_implicit_steps_do(seed):
    hoist = Hoist(np.random.default_rng(seed))
    run, wanted = hoist.drive().run(END), hoist.stepped()
    times = np.linspace(0, END, 121)[1:]
    for n, column in enumerate(wanted.T[: len(hoist.J)]):
        got = run.at(f"j_{n}.speed", times)
        np.testing.assert_allclose(got, column, atol=6e-3 * np.max(np.abs(wanted[:, :-1])), rtol=0, err_msg=f"j_{n}")
    if hoist.roped:
        size = np.max(np.abs(wanted[:, -1]))
        np.testing.assert_allclose(run.at("weight.speed", times), wanted[:, -1], atol=6e-3 * size, rtol=0)
