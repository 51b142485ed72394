"""Twins that must agree: scaled, mirrored, split, turned, shifted, and runs put end to end."""

from __future__ import annotations

from typing import Any

import numpy as np

import pendel
from tests.campaigns.truth.drives import Maker
from tests.campaigns.truth.report import Tallies, Tally

ALLOWED = 2e-5


def rlc(
    m: Maker,
    *,
    volts: float = 1.0,
    amps: float = 1.0,
    time: float = 1.0,
    flipped: bool = False,
    split: bool = False,
    delay: float = 0.0,
    until: float = 0.02,
    starts: dict[str, str] | None = None,
) -> pendel.Drive:
    """A step of voltage on L, R and C; the same numbers for the same maker's seed."""
    rng = np.random.default_rng(m.rng.bit_generator.state["state"]["state"] % 2**32)
    r, inductance, c, u = (v * 10 ** rng.uniform(-0.5, 0.5) for v in (5.0, 5e-3, 50e-6, 40.0))
    r, inductance, c = r / amps, inductance / amps, c * amps
    d = pendel.Drive("Twin")
    d.set("until", repr(until * time)), d.set("tick", repr(1e-3 * time)), d.set("computing_delay", "0")
    d.add("set_voltage", "Feed")
    sign = -1 if flipped else 1
    d.add("step", "Step", before="0", after=repr(sign * volts * u), t_0=repr((1e-3 + delay) * time))
    d.add("ground", "Earth")
    d.add(
        "inductor",
        "L",
        L=f"{inductance * time!r} H",
        R_s="0",
        starts={k: v for k, v in (starts or {}).items() if k == "i"},
    )
    d.add(
        "capacitor",
        "C",
        C=f"{c * time!r} F",
        R_s="0",
        starts={k: v for k, v in (starts or {}).items() if k == "u"},
    )
    d.connect("step.out", "feed.set"), d.connect("earth.line", "feed.b"), d.connect("feed.a", "l.a")
    node = "l.b"
    for n, part in enumerate([0.5, 0.5] if split else [1.0]):
        d.add("resistor", f"R{n}", R=repr(part * r))
        d.connect(node, f"r{n}.a")
        node = f"r{n}.b"
    d.connect(node, "c.a"), d.connect("c.b", "feed.b")
    return d


def twins(seed: int, tallies: Tallies) -> None:
    rng = np.random.default_rng(seed)
    m = Maker("twins", seed)
    plain = rlc(m).run()
    t = np.linspace(0, 0.02, 400)
    i, u = plain.at("l.current", t), plain.at("c.voltage", t)
    size_i, size_u = np.max(np.abs(i)), np.max(np.abs(u))

    def agree(name: str, run, currents: float = 1.0, volts: float = 1.0, time: float = 1.0, shift: float = 0.0) -> None:
        at = t if shift == 0 else t[t < 0.02 - shift]
        other_i, other_u = run.at("l.current", (at + shift) * time), run.at("c.voltage", (at + shift) * time)
        worst = max(
            np.max(np.abs(other_i / currents - i[: len(at)])) / size_i,
            np.max(np.abs(other_u / volts - u[: len(at)])) / size_u,
        )
        tallies[name].note(float(worst) / ALLOWED, f"twins_{seed} {name}")

    k, s = 10 ** rng.uniform(-3, 3), 10 ** rng.uniform(-2, 2)
    agree("voltage scaled", rlc(m, volts=k).run(), k, k)
    agree("current scaled", rlc(m, amps=k).run(), k)
    agree("time scaled", rlc(m, time=s).run(), 1, 1, s)
    agree("mirrored signs", rlc(m, flipped=True).run(), -1, -1)
    agree("a part split in two", rlc(m, split=True).run())
    agree("everything later", rlc(m, delay=0.003).run(), shift=0.003)
    pieces(m, plain, tallies["ten runs end to end"], seed)
    frames(seed, tallies["frame turned by an angle"])
    phases(seed, tallies["phases swapped"], tallies["delta as star"])


def pieces(m: Maker, plain: Any, tally: Tally, seed: int) -> None:
    """Ten runs of 1.6 ms behind the step, each of which starts with what the one before ended with, and one run."""
    begin, length = 4e-3, 1.6e-3
    size = np.max(np.abs(plain["l.current"].y))
    at = {key: float(plain.at(key, [begin])[0]) for key in ("l.current", "c.voltage")}
    t, worst = np.linspace(0, length, 30), 0.0
    for n in range(10):
        starts = {"i": f"{at['l.current']!r} A", "u": f"{at['c.voltage']!r} V"}
        run = rlc(m, delay=-1e-3 - 1e-9, until=length, starts=starts).run()
        gap = run.at("l.current", t) - plain.at("l.current", t + begin + n * length)
        worst = max(worst, float(np.max(np.abs(gap))))
        at = {key: float(run[key].y[-1]) for key in at}
    tally.note(worst / size / ALLOWED, f"twins_{seed} pieces")


def synchronous(seed: int, offset: float) -> pendel.Drive:
    """A permanent-magnet machine that starts near synchronous speed on a grid; all angles begin ``offset`` (electrical
    rad) on."""
    rng = np.random.default_rng(seed)
    pairs, angle = int(rng.integers(1, 5)), rng.uniform(-1.0, 1.0)
    d = pendel.Drive("Frames")
    d.set("until", "60 ms")
    d.add(
        "three_phase_source", "Grid", U="90 V", f="50 Hz", R_i="10 mohm", L_i="0.1 mH", angle=f"{offset + angle!r} rad"
    )
    d.add(
        "pmsm",
        "Motor",
        p=str(pairs),
        J_m=f"{0.02 * 10 ** rng.uniform(-0.5, 0.5)!r} kg*m^2",
        starts={"omega": f"{2 * np.pi * 50 / pairs * rng.uniform(0.9, 1.0)!r} rad/s", "phi": f"{offset / pairs!r} rad"},
    )
    d.connect("grid.out", "motor.phases")
    return d


def frames(seed: int, tally: Tally) -> None:
    offset = float(np.random.default_rng(seed).uniform(-np.pi, np.pi))
    plain, turned = synchronous(seed, 0.0).run(), synchronous(seed, offset).run()
    t = np.linspace(0, 0.06, 600)
    for key in ("motor.i_d", "motor.i_q", "motor.torque"):
        size = np.max(np.abs(plain[key].y))
        gap = np.max(np.abs(turned.at(key, t) - plain.at(key, t)))
        tally.note(float(gap / size) / ALLOWED, f"twins_{seed} {key}")


def star(seed: int, order: str = "abc", delta: bool = False) -> pendel.Drive:
    rng = np.random.default_rng(seed)
    r, inductance = 5 * 10 ** rng.uniform(-1, 1), 5e-3 * 10 ** rng.uniform(-1, 1)
    d = pendel.Drive("Star")
    d.set("until", "30 ms")
    d.add(
        "three_phase_source",
        "Grid",
        U="400 V",
        f="50 Hz",
        R_i="10 mohm",
        L_i="0.1 mH",
        angle=f"{rng.uniform(-180, 180):.3f} deg",
    )
    d.add("phase_opener", "Open")
    d.connect("grid.out", "open.phases")
    lines = [f"open.{n}" for n in order]
    if delta:
        for n in range(3):
            d.add("inductor", f"Coil {n}", L=f"{3 * inductance!r} H", R_s=f"{3 * r!r} ohm")
            d.connect(lines[n], f"coil_{n}.a"), d.connect(lines[(n + 1) % 3], f"coil_{n}.b")
    else:
        d.add("ground", "Earth")
        for n in range(3):
            d.add("inductor", f"Coil {n}", L=f"{inductance!r} H", R_s=f"{r!r} ohm")
            d.connect(lines[n], f"coil_{n}.a")
            if n:
                d.connect("coil_0.b", f"coil_{n}.b")
        d.connect("earth.line", "coil_0.b")
    return d


def phases(seed: int, swapped: Tally, as_star: Tally) -> None:
    plain, turned, delta = star(seed).run(), star(seed, "bca").run(), star(seed, delta=True).run()
    t = np.linspace(0, 0.03, 400)
    size = np.max(np.abs(plain["coil_0.current"].y))
    gap = max(
        np.max(np.abs(turned.at(f"coil_{n}.current", t) - plain.at(f"coil_{(n + 1) % 3}.current", t))) for n in range(3)
    )
    swapped.note(float(gap / size) / ALLOWED, f"twins_{seed} phases")
    line = delta.at("coil_0.current", t) - delta.at("coil_2.current", t)
    as_star.note(float(np.max(np.abs(line - plain.at("coil_0.current", t))) / size) / ALLOWED, f"twins_{seed} delta")
