"""An induction machine that is put on the grid."""

from __future__ import annotations

import math
from collections.abc import Mapping

from pendel.core.catalogue.goals.goal import Entry, Fact, Goal, Looked, Sheet
from pendel.core.catalogue.goals.parts import LOAD_INERTIA, MACHINE

CIRCUIT = (
    Entry("pairs", "Pole pairs", "", "2", MACHINE),
    Entry("R_s", "Stator resistance, a phase", "ohm", "0.6", MACHINE),
    Entry("L_s", "Stator leakage, a phase", "mH", "3", MACHINE),
    Entry("L_m", "Main inductance, a phase", "mH", "80", MACHINE),
    Entry("R_r", "Cage resistance, seen from the stator", "ohm", "0.45", MACHINE),
    Entry("L_r", "Cage leakage, seen from the stator", "mH", "3.5", MACHINE),
    Entry("J_m", "Rotor inertia", "kg*m^2", "0.03", MACHINE),
)
CIRCUIT_VALUES = {"p": "pairs", "R_s": "R_s", "L_s": "L_s", "L_m": "L_m", "R_r1": "R_r", "L_r1": "L_r", "J_m": "J_m"}


def nameplate(sheet: Sheet, volt: str, hertz: str) -> dict[str, str]:
    """Rated values that fit the circuit, at a quarter of the slip at pull-out (common practice, no source)."""
    sheet.quantities(
        ("s_top", f"R_r/sqrt(R_s^2 + (2*pi*{hertz}*(L_s + L_r))^2)", "slip at pull-out"),
        ("n_rated", f"(1 - min(0.2, s_top/4))*2*pi*{hertz}/pairs", "at a quarter of it"),
    )
    return {"U_n": volt, "f_n": hertz, "n_n": "n_rated"}


def build(sheet: Sheet, options: Mapping[str, str]) -> None:
    sheet.settings(until="t_see")
    sheet.quantity("J_all", "J_m + J_load", "all that turns")
    sheet.add("three_phase_source", "Grid", (5, 10), U="U_grid", f="f_grid")
    sheet.add("induction", "Machine", (45, 10), values={**CIRCUIT_VALUES, **nameplate(sheet, "U_grid", "f_grid")})
    sheet.add("inertia", "Load inertia", (85, 10), J=LOAD_INERTIA)
    sheet.add("air_load", "Load", (123, 10), M_n="M_load", w_n="2*pi*f_grid/pairs")
    sheet.wire(("grid.out", "machine.phases"), ("machine.shaft", "load_inertia.a"), ("load_inertia.b", "load.a"))


def at_slip(v: Mapping[str, float], slip: float) -> tuple[float, float]:
    """Torque and rms current of a phase by the T circuit (Chapman, Electric Machinery Fundamentals, 7.4)."""
    w, u = 2 * math.pi * v["f_grid"], v["U_grid"] / math.sqrt(3)
    rotor = complex(v["R_r"] / slip, w * v["L_r"])
    main = complex(0, w * v["L_m"])
    both = rotor * main / (rotor + main)
    stator = u / (complex(v["R_s"], w * v["L_s"]) + both)
    in_rotor = stator * both / rotor
    return 3 * v["pairs"] / w * abs(in_rotor) ** 2 * v["R_r"] / slip, abs(stator)


def look(v: Mapping[str, float], options: Mapping[str, str]) -> Looked:
    slips = [0.001 * k for k in range(1, 1001)]
    torques = [at_slip(v, slip)[0] for slip in slips]
    pull_out = max(torques)
    steep = torques.index(pull_out)
    works = next((s for s, m in zip(slips[: steep + 1], torques) if m >= v["M_load"] * (1 - s) ** 2), None)
    start, current = at_slip(v, 1.0)
    synchronous = 2 * math.pi * v["f_grid"] / v["pairs"]
    looked = Looked(
        [
            Fact("synchronous speed", synchronous, "rpm"),
            Fact("pull-out torque", pull_out, "N*m"),
            Fact("slip at pull-out", slips[steep], "%"),
            Fact("starting torque", start, "N*m"),
            Fact("starting current, rms", current, "A"),
        ]
    )
    if works is None:
        looked.problems.append(
            f"The load of {v['M_load']:.4g} N·m is more than the machine's {pull_out:.4g} N·m at most. Take a lower "
            "load."
        )
    else:
        looked.facts.append(Fact("speed with the load", synchronous * (1 - works), "rpm"))
        looked.facts.append(Fact("current with the load, rms", at_slip(v, works)[1], "A"))
    return looked


GOAL = Goal(
    "induction_grid",
    "Induction machine on the grid",
    "start, load that grows with speed",
    (
        *CIRCUIT,
        Entry("U_grid", "Grid voltage, line to line", "V", "400", "Grid"),
        Entry("f_grid", "Grid frequency", "Hz", "50", "Grid"),
        Entry("J_load", "Inertia at the shaft", "kg*m^2", "0.05", "Load", zero=True),
        Entry("M_load", "Torque at synchronous speed, grows with its square", "N*m", "30", "Load"),
        Entry("t_see", "Time that is looked at", "s", "1", "Load"),
    ),
    build,
    look,
)
