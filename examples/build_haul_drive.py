"""Builds the haul drive of the made-up Ostrelle funicular, and the ready assembly taken from it: ``python examples/build_haul_drive.py``."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file, shelf

PACKAGE = Path(__file__).parent.parent / "src" / "pendel"
CONTROL = ("torque_to_currents", "electrical_angle", "measured_currents", "current_regulator", "voltage_demand", "space_vector")  # fmt: skip
QUANTITIES = (
    ("U_link", "560 V", "DC link"), ("pairs", "4", "pole pairs"), ("R_ph", "40 mohm", "phase resistance, cold"), ("L_d", "0.9 mH", "along the magnet"), ("L_q", "1.4 mH", "across it"),
    ("psi_m", "0.32 Wb", "magnet flux"), ("I_top", "260 A", "inverter's limit, peak"), ("f_c", "400 Hz", "current loops: crossover, proposed for 10 kHz"),
    ("K_d", "2*pi*f_c*L_d", "proposed: cancels the pole along d"), ("T_d", "L_d/R_ph", "proposed"), ("K_q", "2*pi*f_c*L_q", "proposed: cancels the pole along q"), ("T_q", "L_q/R_ph", "proposed"),
)  # fmt: skip


def haul_drive() -> pendel.Drive:
    """Torque control of the haul machine on a test bench that holds its speed."""
    d = pendel.Drive("Ostrelle funicular · haul drive on the test bench")
    for name, text, note in QUANTITIES:
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "100 us"), ("until", "60 ms")):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="U_link", R_i="4 mohm")
    d.add("inverter", "Inverter", choices={"device": "igbt"}, f_p="10 kHz", t_dead="2 us", R_on="3 mohm", V_0="0.9 V", V_d="0.8 V", R_d="3 mohm", t_on="200 ns", t_off="500 ns", I_sat="1500 A",
          E_on="14 mJ", E_off="16 mJ", E_rec="9 mJ", U_ref="600 V", I_ref="300 A")  # fmt: skip
    d.add("pmsm", "Haul machine", p="pairs", R_s="R_ph", L_d="L_d", L_q="L_q", psi_f="psi_m", J_m="0.42 kg*m^2", b_m="0.05", P_fe="600 W", n_fe="1000 rpm", U_dc="U_link", I_max="I_top")  # fmt: skip
    d.add("imposed_speed", "Test bench", profile=[("0 s", "570 rpm"), ("1 s", "570 rpm")])
    d.add("position_sensor", "Resolver")
    for n in "abc":
        d.add("current_sensor", f"Current {n}", bits="14", range="400 A")
    machine = {"psi": "psi_m", "L_d": "L_d", "L_q": "L_q", "U_dc": "U_link"}
    d.add("step", "Torque demand", before="68 N*m", after="400 N*m", t_0="20 ms")
    d.add("torque_to_currents", "Torque to currents", p="pairs", I_max="I_top", **machine)
    d.add("electrical_angle", "Electrical angle", p="pairs")
    d.add("abc_to_dq", "Measured currents")
    d.add("dq_current_regulator", "Current regulator", K_d="K_d", T_d="T_d", K_q="K_q", T_q="T_q", **machine)
    d.add("dq_to_abc", "Voltage demand")
    d.add("three_phase_modulator", "Space vector", U_dc="U_link")
    wires = [
        ("link.dc", "inverter.dc"), ("inverter.out", "haul_machine.phases"), ("haul_machine.shaft", "test_bench.a"), ("haul_machine.angle", "resolver.measured"), ("resolver.value", "electrical_angle.position"),
        ("torque_demand.out", "torque_to_currents.torque"), ("electrical_angle.speed", "torque_to_currents.speed"), ("torque_to_currents.i_d", "current_regulator.set_d"), ("torque_to_currents.i_q", "current_regulator.set_q"),
        ("electrical_angle.angle", "measured_currents.angle"), ("electrical_angle.ahead", "voltage_demand.angle"), ("electrical_angle.speed", "current_regulator.speed"), ("measured_currents.d", "current_regulator.d"),
        ("measured_currents.q", "current_regulator.q"), ("current_regulator.u_d", "voltage_demand.d"), ("current_regulator.u_q", "voltage_demand.q"),
    ]  # fmt: skip
    for n in "abc":
        wires += [(f"haul_machine.current_{n}", f"current_{n}.measured"), (f"current_{n}.value", f"measured_currents.{n}"), (f"voltage_demand.{n}", f"space_vector.u_{n}"), (f"space_vector.d_{n}", f"inverter.d_{n}")]  # fmt: skip
    for a, b in wires:
        d.connect(a, b)
    places = {"link": (5, 10), "inverter": (43, 10), "haul_machine": (86, 10), "test_bench": (124, 10), "current_a": (66, 60), "current_b": (100, 60), "current_c": (134, 60), "resolver": (134, 80), "torque_demand": (100, 98),
              "space_vector": (8, 12), "voltage_demand": (46, 12), "current_regulator": (84, 12), "torque_to_currents": (122, 12), "measured_currents": (84, 40), "electrical_angle": (122, 40)}  # fmt: skip
    control = d.group(list(CONTROL), "Field orientation", face={"K_d": "current_regulator.K_d", "K_q": "current_regulator.K_q", "T_d": "current_regulator.T_d", "T_q": "current_regulator.T_q", "I_max": "torque_to_currents.I_max"})  # fmt: skip
    commands.move_cards(d.document, {**places, control: (28, 80)}, "Place").apply(d.document)
    return d


if __name__ == "__main__":
    drive = haul_drive()
    target = PACKAGE / "examples" / "haul_drive.pendel"
    target.unlink(missing_ok=True)
    drive.save(target)
    ready = PACKAGE / "shelf" / "field_oriented_torque.pendel"
    ready.parent.mkdir(exist_ok=True)
    ready.unlink(missing_ok=True)
    file.save(shelf.only_assembly(drive.document, "field_orientation"), ready)
