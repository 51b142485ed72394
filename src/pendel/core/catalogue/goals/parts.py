"""What several goals are put together from."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Looked, Sheet

RPM = math.pi / 30
LINK = "Supply and converter"
LOAD = "Load"
MACHINE = "Machine"
LOAD_INERTIA = "max(J_load, J_m/10000)"
"""Of what is at the shaft; one of nothing would be no card, and no state."""
SAG = 0.95
"""Share of the link voltage that a converter gives for good: the rest goes into dead time and on-resistance (common
practice, no source)."""


def supply(volt: str, *, pulse: str = "20") -> tuple[Entry, ...]:
    return (
        Entry("U_link", "Link voltage", "V", volt, LINK),
        Entry("f_p", "Pulse frequency", "kHz", pulse, LINK),
    )


def shaft_load(inertia: str, torque: str, speed: str, unit: str = "kg*m^2") -> tuple[Entry, ...]:
    return (
        Entry("J_load", "Inertia at the shaft", unit, inertia, LOAD, zero=True),
        Entry("M_load", "Load torque", "N*m", torque, LOAD, zero=True),
        Entry("n_set", "Speed that is wanted", "rpm", speed, LOAD),
    )


def link_and_inverter(sheet: Sheet, *, low_voltage: bool = False) -> None:
    sheet.add("dc_source", "Link", (5, 10), U_0="U_link", R_i="4 mohm")
    values = {"f_p": "f_p", "t_dead": "0.02/f_p"}
    sheet.add("inverter", "Inverter", (43, 10), choices={"device": "mosfet" if low_voltage else "igbt"}, values=values)
    sheet.wire(("link.dc", "inverter.dc"))


def without_sensor(options: Mapping[str, str]) -> bool:
    return options["sensor"] == "none"


def compensation(sheet: Sheet, ripple: str, at: tuple[int, int] = (5, 82)) -> None:
    """Of the inverter's dead time and drops, without which an estimate of the voltage is none at low speed."""
    values = {"t_dead": "0.02/f_p", "f_p": "f_p", "U_dev": "1.2 V", "U_dc": "U_link", "i_0": ripple}
    sheet.add("dead_time_compensation", "Dead time", at, values=values)


def duties(phase: str, *, compensated: bool) -> list[tuple[str, str]]:
    """Wires from a modulator to the inverter of a phase, through `compensation` where there is one."""
    if not compensated:
        return [(f"space_vector.d_{phase}", f"inverter.d_{phase}")]
    return [
        (f"space_vector.d_{phase}", f"dead_time.d_{phase}"),
        (f"current_{phase}.value", f"dead_time.{phase}"),
        (f"dead_time.out_{phase}", f"inverter.d_{phase}"),
    ]


ENCODER = {"lines": "4096", "every": "10"}


def finest_speed(sheet: Sheet, torque: str) -> str:
    """A quantity: at which crossover of the speed loop, over the pulse frequency, one step of the encoder in its ten
    ticks asks for 8 % of the torque. From some 12 % on runs show a loop that swings by one or two of these steps."""
    sheet.quantities(
        ("w_step", "2*pi*f_p/(10*4*4096)", "one step of the encoder in ten ticks, as a speed"),
        (
            "k_step",
            f"0.08*{torque}/(2*pi*J_all*w_step*f_p)*(1 rad)^2",
            "of f_p: at this crossover such a step asks for 8 % of the torque",
        ),
    )
    return "k_step"


def tell_steps(looked: Looked, v: Mapping[str, float], usual: float) -> None:
    """Where the encoder holds the speed loop below its usual share of the pulse frequency."""
    if v.get("k_step", math.inf) < usual:
        looked.doubts.append(
            f"Steps of the encoder hold the speed loop at {v['f_w']:.3g} Hz. Take a finer one, or read its speed "
            "less often."
        )


def rigid_load(sheet: Sheet, shaft: str, *, step_at: str, at: tuple[int, int] = (124, 10)) -> None:
    """An inertia, and a torque that rubs from a time on."""
    sheet.add("inertia", "Load inertia", at, J=LOAD_INERTIA)
    corners = [("0 s", "0 N*m"), (step_at, "0 N*m"), (f"{step_at} + 1 ms", "M_load"), ("1000 s", "M_load")]
    sheet.add("load_torque", "Load", (at[0] + 36, at[1]), profile=corners)
    sheet.wire((shaft, "load_inertia.a"), ("load_inertia.b", "load.a"))


def reach(looked: Looked, *, needed: float, link: float, speed: float, what: str = "the link") -> None:
    """Whether a link gives the voltage that a machine needs at its speed with its load."""
    looked.facts.append(Fact(f"voltage at {speed / RPM:.0f} rpm with the load", needed, "V"))
    if needed > link:
        looked.problems.append(
            f"{needed:.4g} V are needed at {speed / RPM:.0f} rpm with this load, and {what} of {link:.4g} V gives "
            f"{SAG * link:.4g} V at most. Raise it, or take a lower speed."
        )
    elif needed > SAG * link:
        looked.doubts.append(f"At {speed / RPM:.0f} rpm {what} is used up: {needed:.4g} V of {link:.4g} V.")
