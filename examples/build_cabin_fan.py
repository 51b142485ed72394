"""Builds the cabin fan of the made-up Ostrelle funicular, and the ready assembly taken from it: ``python
examples/build_cabin_fan.py``."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file, shelf

PACKAGE = Path(__file__).parent.parent / "src" / "pendel"
QUANTITIES = (
    ("U_cabin", "24 V", "supply of the cabin"),
    ("pairs", "4", "pole pairs"),
    ("k_e", "24 mV*s/rad", "EMF of a phase, peak"),
    ("R_ph", "180 mohm", "phase resistance"),
    ("J_all", "4.6 kg*cm^2", "rotor and fan wheel"),
    ("T_m", "2*R_ph*J_all/(2*k_e)^2", "mechanical time constant"),
    ("f_w", "5 Hz", "speed loop: crossover, proposed"),
    ("K_w", "2*pi*f_w*T_m*2*k_e", "proposed: cancels the pole of the machine"),
)


def cabin_fan() -> pendel.Drive:
    """A fan on a brushless machine: Hall sensors, block commutation, speed from the time between edges."""
    d = pendel.Drive("Ostrelle funicular · cabin fan")
    for name, text, note in QUANTITIES:
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "50 us"), ("until", "0.8 s")):
        d.set(name, text)
    d.add("dc_source", "Cabin supply", U_0="U_cabin", R_i="30 mohm")
    d.add(
        "inverter",
        "Inverter",
        choices={"below": "opens"},
        f_p="20 kHz",
        t_dead="0.5 us",
        R_on="8 mohm",
        V_d="0.8 V",
        R_d="8 mohm",
        U_ref="24 V",
        I_ref="10 A",
        I_sat="150 A",
    )
    d.add(
        "trapezoidal",
        "Fan motor",
        p="pairs",
        R_s="R_ph",
        L_s="320 uH",
        k_phase="k_e",
        U_dc="U_cabin",
        J_m="0.6 kg*cm^2",
        b_m="20 uN*m*s",
    )
    d.add("inertia", "Fan wheel", J="J_all - 0.6 kg*cm^2")
    d.add("air_load", "Air", M_n="0.1 N*m", w_n="3000 rpm")
    d.add("hall_sensors", "Hall sensors", p="pairs")
    d.add("ramp", "Speed demand", before="0 rpm", after="1800 rpm", t_0="50 ms", duration="250 ms")
    d.add("pi", "Speed regulator", K_p="K_w", T_i="T_m", low="-U_cabin", high="U_cabin")
    d.add("hall_decoder", "Hall decoder", p="pairs")
    d.add("six_step", "Commutation", U_dc="U_cabin")
    wires = [
        ("cabin_supply.dc", "inverter.dc"),
        ("inverter.out", "fan_motor.phases"),
        ("fan_motor.shaft", "fan_wheel.a"),
        ("fan_wheel.b", "air.a"),
        ("fan_motor.angle", "hall_sensors.angle"),
        ("speed_demand.out", "speed_regulator.setpoint"),
        ("hall_decoder.speed", "speed_regulator.actual"),
        ("speed_regulator.out", "commutation.voltage"),
        ("hall_decoder.sector", "commutation.sector"),
    ]
    for n in "abc":
        wires += [(f"hall_sensors.h_{n}", f"hall_decoder.h_{n}"), (f"commutation.d_{n}", f"inverter.d_{n}")]
    for a, b in wires:
        d.connect(a, b)
    control = d.group(
        ["speed_regulator", "hall_decoder", "commutation"],
        "Six-step speed control",
        face={"K_p": "speed_regulator.K_p", "T_i": "speed_regulator.T_i", "U_dc": "commutation.U_dc"},
    )
    places = {
        "cabin_supply": (5, 10),
        "inverter": (43, 10),
        "fan_motor": (86, 10),
        "fan_wheel": (124, 10),
        "air": (160, 10),
        "hall_sensors": (92, 62),
        control: (36, 84),
        "speed_demand": (92, 92),
        "commutation": (8, 12),
        "speed_regulator": (50, 12),
        "hall_decoder": (50, 40),
    }
    commands.move_cards(d.document, places, "Place").apply(d.document)
    return d


if __name__ == "__main__":
    drive = cabin_fan()
    ready = shelf.only_assembly(drive.document, "six_step_speed_control")
    for made, target in (
        (drive.document, PACKAGE / "examples" / "cabin_fan.pendel"),
        (ready, PACKAGE / "shelf" / "six_step_speed.pendel"),
    ):
        target.unlink(missing_ok=True)
        file.save(made, target)
