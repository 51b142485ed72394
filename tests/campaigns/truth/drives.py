"""Random drives that are valid: supplies, converters at every level, machines, loads, controllers, values over
decades."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

import pendel

LEVELS = ("averaged", "switching", "device")


@dataclass(frozen=True)
class Case:
    """A drive and where it came from."""

    family: str
    seed: int
    drive: pendel.Drive

    @property
    def name(self) -> str:
        return f"{self.family}_{self.seed}"


class Maker:
    """Adds parts with values drawn over decades."""

    def __init__(self, family: str, seed: int):
        self.rng = np.random.default_rng([seed, *family.encode()])
        self.d = pendel.Drive(f"Case {family} {seed}")

    def about(self, value: float, decades: float = 0.7) -> float:
        """A value within so many decades of another, log-uniform; a tenth of the time it is round."""
        drawn = value * 10 ** self.rng.uniform(-decades, decades)
        return float(f"{drawn:.1g}") if self.rng.random() < 0.1 else float(f"{drawn:.5g}")

    def of(self, *options):
        return options[self.rng.integers(len(options))]

    def settings(self, **texts: str) -> None:
        for name, text in texts.items():
            self.d.set(name, text)

    def wire(self, *pairs: str) -> None:
        for pair in pairs:
            self.d.connect(*pair.split(" > "))

    def duty(self, card: str, port: str, low: float, high: float, tick: float) -> None:
        """A constant, a step or a sine, at the rails now and then."""
        kind = self.of("constant", "step", "sine", "rail")
        middle, span = (low + high) / 2, (high - low) / 2
        if kind == "constant":
            self.d.add("constant", "Duty", value=repr(round(middle + span * self.rng.uniform(-0.9, 0.9), 3)))
        elif kind == "rail":
            self.d.add("constant", "Duty", value=repr(self.of(low, high)))
        elif kind == "step":
            a, b = (round(middle + span * self.rng.uniform(-0.9, 0.9), 3) for _ in range(2))
            self.d.add("step", "Duty", before=repr(a), after=repr(b), t_0=f"{self.rng.uniform(5, 40) * tick} s")
        else:
            self.d.add(
                "sine",
                "Duty",
                amplitude=repr(0.8 * span),
                mean=repr(middle),
                f=f"{self.about(0.004 / tick, 0.3)} Hz",
            )
        self.wire(f"duty.out > {card}.{port}")


def ladder(m: Maker) -> None:
    """A source on sections of L and R in series, C or R across; one state follows others at once now and then."""
    f = m.about(60, 0.5)
    if m.rng.random() < 0.5:
        m.d.add(
            "ac_source",
            "Feed",
            U=f"{m.about(100)} V",
            f=f"{f} Hz",
            R_i="0",
            L_i=m.of("0.1 uH", "1 uH", "20 uH"),
        )
    else:
        m.d.add("dc_source", "Pair", U_0=f"{m.about(100)} V", R_i=f"{m.about(0.02)} ohm")
        m.d.add("pair_opener", "Feed")
        m.wire("pair.dc > feed.pair")
    a, b = ("feed.a", "feed.b") if "pair" not in m.d.document.cards else ("feed.plus", "feed.minus")
    m.d.add("ground", "Earth")
    m.wire(f"earth.line > {b}")
    node = a
    for n in range(m.rng.integers(1, 4)):
        m.d.add("inductor", f"L{n}", L=f"{m.about(5e-3, 1.2)} H", R_s=f"{m.about(1.0, 1.0)} ohm")
        m.d.add("capacitor", f"C{n}", C=f"{m.about(100e-6, 1.0)} F", R_s=m.of("0", "0", "0.1 ohm"))
        m.wire(f"{node} > l{n}.a", f"l{n}.b > c{n}.a", f"c{n}.b > {b}")
        node = f"l{n}.b"
    m.d.add("resistor", "Load", R=f"{m.about(20, 1.0)} ohm")
    m.wire(f"{node} > load.a", f"load.b > {b}")
    m.settings(until=f"{m.of(1, 3, 40) / f} s")


def dc_drive(m: Maker) -> None:
    """A bridge, a brushed machine, an inertia, friction; light load and standstill among them."""
    tick = 1e-4
    m.settings(tick="100 us", until=f"{m.of(20, 60) * tick} s", level=m.of(*LEVELS))
    m.d.add("dc_source", "Feed", U_0=f"{m.about(60, 0.5)} V", R_i=f"{m.about(0.03)} ohm")
    m.d.add(
        "four_quadrant_bridge",
        "Bridge",
        choices={"device": m.of("mosfet", "igbt"), "pattern": m.of("three levels", "two levels")},
        f_p=m.of("10 kHz", "20 kHz"),
        t_dead=m.of("0", "1 us", "2 us"),
        V_d=f"{m.about(0.8, 0.2)} V",
        R_on=f"{m.about(5e-3)} ohm",
        t_on="0",
        t_off="0",
    )
    m.d.add(
        "brushed_dc",
        "Motor",
        R_a=f"{m.about(0.5)} ohm",
        L_a=f"{m.about(0.6e-3)} H",
        k_t=f"{m.about(0.1)} N*m/A",
        J_m=f"{m.about(2e-4)} kg*m^2",
        b_m=f"{m.about(2e-5)} N*m*s",
    )
    m.d.add("inertia", "Flywheel", J=f"{m.about(2e-4)} kg*m^2", starts={"omega": m.of("0", "0", "50 rad/s")})
    m.wire("feed.dc > bridge.dc", "bridge.out > motor.winding", "motor.shaft > flywheel.a")
    if m.rng.random() < 0.6:
        m.d.add(
            "load_torque",
            "Load",
            profile=[("0", "0"), ("1 ms", f"{m.about(0.2)} N*m"), ("9 s", f"{m.about(0.2)} N*m")],
            choices={"acts": m.of("rubs", "pulls")},
        )
        m.wire("flywheel.b > load.a")
    m.duty("bridge", "duty", -1.0, 1.0, tick)


def inverter(m: Maker) -> None:
    """Three legs on a star load or a synchronous machine, modulated open loop."""
    tick = 1e-4
    m.settings(tick="100 us", until=f"{m.of(20, 50) * tick} s", level=m.of(*LEVELS))
    link = m.about(400, 0.3)
    m.d.add("dc_source", "Feed", U_0=f"{link} V", R_i=f"{m.about(0.02)} ohm")
    m.d.add(
        "inverter",
        "Inverter",
        choices={"device": m.of("mosfet", "igbt"), "carrier": m.of("triangle", "sawtooth")},
        f_p="10 kHz",
        t_dead=m.of("0", "1 us", "3 us"),
        t_on="0",
        t_off="0",
    )
    m.d.add(
        "three_phase_sine",
        "Wish",
        amplitude=repr(round(m.rng.uniform(0, 0.62) * link, 2)),
        f=f"{m.about(60, 0.4)} Hz",
        shift=f"{m.rng.uniform(-180, 180):.1f} deg",
    )
    m.d.add(
        "three_phase_modulator",
        "Modulator",
        U_dc=f"{link} V",
        choices={"scheme": m.of("space vector", "sine", "third harmonic", "clamped 60", "clamped low", "block")},
    )
    m.wire(
        "feed.dc > inverter.dc",
        *(f"wish.{n} > modulator.u_{n}" for n in "abc"),
        *(f"modulator.d_{n} > inverter.d_{n}" for n in "abc"),
    )
    kind = m.of("star", "pmsm", "induction")
    if kind == "star":
        m.d.add("star_load", "Load", R=f"{m.about(5)} ohm", L=f"{m.about(5e-3, 1.0)} H")
        m.wire("inverter.out > load.in")
    else:
        values = (
            {
                "R_s": f"{m.about(0.2)} ohm",
                "L_d": f"{m.about(2e-3, 0.4)} H",
                "L_q": f"{m.about(3e-3, 0.4)} H",
                "psi_f": f"{m.about(0.2, 0.4)} Wb",
            }
            if kind == "pmsm"
            else {}
        )
        m.d.add(kind, "Machine", J_m=f"{m.about(0.05)} kg*m^2", **values)
        m.wire("inverter.out > machine.phases")


def rectifier(m: Maker) -> None:
    """A grid behind inductance, diodes, a choke or a capacitor, light load among them."""
    m.settings(until="30 ms")
    m.d.add(
        "three_phase_source",
        "Grid",
        U=f"{m.about(200, 0.4)} V",
        f="50 Hz",
        R_i=f"{m.about(0.05)} ohm",
        L_i=f"{m.about(1e-3, 0.6)} H",
    )
    m.d.add("diode_bridge_3", "Bridge")
    m.d.add("pair_opener", "Ends")
    m.d.add("resistor", "Load", R=f"{m.about(20, 1.2)} ohm")
    m.wire("grid.out > bridge.in", "bridge.dc > ends.pair")
    if m.rng.random() < 0.5:
        m.d.add("inductor", "Choke", L=f"{m.about(10e-3)} H", R_s="10 mohm")
        m.wire("ends.plus > choke.a", "choke.b > load.a", "load.b > ends.minus")
    else:
        m.d.add("capacitor", "Bank", C=f"{m.about(300e-6)} F", R_s="20 mohm", starts={"u": f"{m.of(0, 100)} V"})
        m.wire("ends.plus > load.a", "load.b > ends.minus", "ends.plus > bank.a", "bank.b > ends.minus")


def dc_converter(m: Maker) -> None:
    """Step-down, step-up and inverting, in both modes of conduction."""
    m.settings(
        tick="20 us",
        until=f"{m.of(1, 3)} ms",
        level=m.of("averaged", "switching"),
        computing_delay=m.of("0", "1"),
    )
    m.d.add("dc_source", "Feed", U_0=f"{m.about(24, 0.3)} V", R_i=m.of("0", "10 mohm"))
    m.d.add(
        m.of("step_down", "step_up", "inverting"),
        "Converter",
        f_p="50 kHz",
        L=f"{m.about(100e-6, 0.6)} H",
        C=f"{m.about(100e-6, 0.5)} F",
        R_L="5 mohm",
        R_C="5 mohm",
        V_d=m.of("0", "0.4 V"),
    )
    m.d.add("pair_opener", "Ends")
    m.d.add("resistor", "Load", R=f"{m.about(20, 1.3)} ohm")
    m.wire("feed.dc > converter.dc", "converter.out > ends.pair", "ends.plus > load.a", "load.b > ends.minus")
    m.duty("converter", "duty", 0.1, 0.7, 2e-5)


def mechanics(m: Maker) -> None:
    """Masses on springs with play and friction; standstill, sticking and sliding."""
    m.settings(until=f"{m.of(0.05, 0.3)} s", tick="1 ms")
    m.d.add(
        "imposed_torque",
        "Motor",
        profile=[("0", "0"), ("5 ms", f"{m.about(3)} N*m"), ("60 ms", f"{-m.about(1)} N*m"), ("9 s", "0")],
    )
    for n in range(3):
        m.d.add("inertia", f"Mass {n}", J=f"{m.about(0.01)} kg*m^2", starts={"omega": m.of("0", "0", "3 rad/s")})
    m.d.add("elastic_shaft", "Shaft 0", k=f"{m.about(800)} N*m/rad", d=f"{m.about(0.5)} N*m*s")
    m.d.add(
        "elastic_shaft",
        "Shaft 1",
        k=f"{m.about(4000)} N*m/rad",
        d=f"{m.about(1)} N*m*s",
        play=m.of("0", "0.5 deg"),
    )
    sliding = m.about(0.3)
    m.d.add(
        "friction",
        "Rub",
        M_c=f"{sliding} N*m",
        M_s=f"{sliding * m.of(1.0, 1.3)} N*m",
        b=f"{m.about(1e-3)} N*m*s",
    )
    m.wire(
        "motor.a > mass_0.a",
        "mass_0.b > shaft_0.a",
        "shaft_0.b > mass_1.a",
        "mass_1.b > shaft_1.a",
        "shaft_1.b > mass_2.a",
        "mass_2.b > rub.a",
    )


def loop(m: Maker) -> None:
    """A machine with current and speed loops at two rates and an encoder."""
    m.settings(tick="100 us", until="20 ms", level=m.of(*LEVELS), computing_delay=m.of("0", "1"))
    m.d.add("dc_source", "Feed", U_0="48 V", R_i="30 mohm")
    m.d.add("four_quadrant_bridge", "Bridge", f_p="20 kHz", t_dead=m.of("0", "0.5 us"), t_on="0", t_off="0")
    m.d.add("brushed_dc", "Motor", R_a=f"{m.about(0.5, 0.3)} ohm", L_a=f"{m.about(0.6e-3, 0.3)} H")
    m.d.add("inertia", "Flywheel", J=f"{m.about(2e-4, 0.4)} kg*m^2")
    m.d.add("current_sensor", "Ampere")
    m.d.add("speed_sensor", "Speed", every="4")
    m.d.add("pi", "Current PI", K_p="0.02", T_i="2 ms", low="-1", high="1")
    m.d.add("pi", "Speed PI", K_p=f"{m.about(0.1, 0.3)}", T_i="20 ms", low="-20", high="20", every="4")
    m.d.add("step", "Wish", before="0", after=f"{m.of(0, 30, 150)} rad/s", t_0="2 ms")
    m.wire(
        "feed.dc > bridge.dc",
        "bridge.out > motor.winding",
        "motor.shaft > flywheel.a",
        "motor.current > ampere.measured",
        "motor.speed > speed.measured",
        "wish.out > speed_pi.setpoint",
        "speed.value > speed_pi.actual",
        "speed_pi.out > current_pi.setpoint",
        "ampere.value > current_pi.actual",
        "current_pi.out > bridge.duty",
    )


FAMILIES: dict[str, Callable[[Maker], None]] = {
    f.__name__: f for f in (ladder, dc_drive, inverter, rectifier, dc_converter, mechanics, loop)
}


def case(family: str, seed: int) -> Case:
    """The drive of a family and a seed; the same each time."""
    maker = Maker(family, seed)
    FAMILIES[family](maker)
    return Case(family, seed, maker.d)
