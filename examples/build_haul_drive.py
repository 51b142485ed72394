"""Builds the haul drive of the made-up Ostrelle funicular, and the ready assembly taken from it: ``python
examples/build_haul_drive.py``."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file, shelf

PACKAGE = Path(__file__).parent.parent / "src" / "pendel"
CONTROL = (
    "torque_to_currents",
    "electrical_angle",
    "measured_currents",
    "current_regulator",
    "voltage_demand",
    "space_vector",
)
QUANTITIES = (
    ("U_link", "560 V", "DC link"),
    ("pairs", "4", "pole pairs"),
    ("R_ph", "40 mohm", "phase resistance, cold"),
    ("L_d", "0.9 mH", "along the magnet"),
    ("L_q", "1.4 mH", "across it"),
    ("psi_m", "0.32 Wb", "magnet flux"),
    ("I_top", "260 A", "inverter's limit, peak"),
    ("f_c", "400 Hz", "current loops: crossover, proposed for 10 kHz"),
    ("K_d", "2*pi*f_c*L_d", "proposed: cancels the pole along d"),
    ("T_d", "L_d/R_ph", "proposed"),
    ("K_q", "2*pi*f_c*L_q", "proposed: cancels the pole along q"),
    ("T_q", "L_q/R_ph", "proposed"),
)


def haul_drive() -> pendel.Drive:
    """Torque control of the haul machine on a test bench that holds its speed."""
    d = pendel.Drive("Ostrelle funicular · haul drive on the test bench")
    for name, text, note in QUANTITIES:
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "100 us"), ("until", "60 ms")):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="U_link", R_i="4 mohm")
    d.add(
        "inverter",
        "Inverter",
        choices={"device": "igbt"},
        f_p="10 kHz",
        t_dead="2 us",
        R_on="3 mohm",
        V_0="0.9 V",
        V_d="0.8 V",
        R_d="3 mohm",
        t_on="200 ns",
        t_off="500 ns",
        I_sat="1500 A",
        E_on="14 mJ",
        E_off="16 mJ",
        E_rec="9 mJ",
        U_ref="600 V",
        I_ref="300 A",
    )
    d.add(
        "pmsm",
        "Haul machine",
        p="pairs",
        R_s="R_ph",
        L_d="L_d",
        L_q="L_q",
        psi_f="psi_m",
        J_m="0.42 kg*m^2",
        b_m="0.05",
        P_fe="600 W",
        n_fe="1000 rpm",
        U_dc="U_link",
        I_max="I_top",
    )
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
        ("link.dc", "inverter.dc"),
        ("inverter.out", "haul_machine.phases"),
        ("haul_machine.shaft", "test_bench.a"),
        ("haul_machine.angle", "resolver.measured"),
        ("resolver.value", "electrical_angle.position"),
        ("torque_demand.out", "torque_to_currents.torque"),
        ("electrical_angle.speed", "torque_to_currents.speed"),
        ("torque_to_currents.i_d", "current_regulator.set_d"),
        ("torque_to_currents.i_q", "current_regulator.set_q"),
        ("electrical_angle.angle", "measured_currents.angle"),
        ("electrical_angle.ahead", "voltage_demand.angle"),
        ("electrical_angle.speed", "current_regulator.speed"),
        ("measured_currents.d", "current_regulator.d"),
        ("measured_currents.q", "current_regulator.q"),
        ("current_regulator.u_d", "voltage_demand.d"),
        ("current_regulator.u_q", "voltage_demand.q"),
    ]
    for n in "abc":
        wires += [
            (f"haul_machine.current_{n}", f"current_{n}.measured"),
            (f"current_{n}.value", f"measured_currents.{n}"),
            (f"voltage_demand.{n}", f"space_vector.u_{n}"),
            (f"space_vector.d_{n}", f"inverter.d_{n}"),
        ]
    for a, b in wires:
        d.connect(a, b)
    places = {
        "link": (5, 10),
        "inverter": (43, 10),
        "haul_machine": (86, 10),
        "test_bench": (124, 10),
        "current_a": (66, 60),
        "current_b": (100, 60),
        "current_c": (134, 60),
        "resolver": (134, 80),
        "torque_demand": (100, 98),
        "space_vector": (8, 12),
        "voltage_demand": (46, 12),
        "current_regulator": (84, 12),
        "torque_to_currents": (122, 12),
        "measured_currents": (84, 40),
        "electrical_angle": (122, 40),
    }
    control = d.group(
        list(CONTROL),
        "Field orientation",
        face={
            "K_d": "current_regulator.K_d",
            "K_q": "current_regulator.K_q",
            "T_d": "current_regulator.T_d",
            "T_q": "current_regulator.T_q",
            "I_max": "torque_to_currents.I_max",
        },
    )
    commands.move_cards(d.document, {**places, control: (28, 80)}, "Place").apply(d.document)
    return d


OLD = (
    ("U_grid", "6 kV", "line to line"),
    ("pairs", "2", "pole pairs"),
    ("R_s", "0.19 ohm", "stator"),
    ("L_ss", "1.3 mH", "stator leakage"),
    ("L_main", "38 mH", "main inductance"),
    ("R_cage", "0.16 ohm", "cage"),
    ("L_cage", "1.5 mH", "cage leakage"),
    ("psi_w", "0.9 Wb", "wanted rotor flux"),
    ("share", "L_main/(L_main + L_cage)", "of the rotor flux in the stator"),
    ("L_short", "L_ss + L_main*(1 - share)", "leakage seen from the stator"),
    ("T_rotor", "(L_main + L_cage)/R_cage", "rotor time constant"),
    ("f_c", "250 Hz", "current loops: crossover, proposed for 5 kHz"),
    ("K_i", "2*pi*f_c*L_short", "proposed"),
    ("T_i", "L_short/(R_s + R_cage)", "proposed"),
    ("K_psi", "2*pi*4 Hz*T_rotor/L_main", "proposed: flux loop at 4 Hz"),
    ("J_all", "1.6 kg*m^2", "machine and rope drum"),
    ("k_m", "1.5*pairs*share*psi_w", "torque per ampere along q"),
    ("K_w", "2*pi*5 Hz*J_all/k_m", "proposed: speed loop at 5 Hz"),
)


def old_haul_drive() -> pendel.Drive:
    """The induction machine of the old haul drive on a rectifier and an inverter, oriented to its rotor flux."""
    d = pendel.Drive("Ostrelle funicular · old haul drive")
    for name, text, note in OLD:
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "200 us"), ("until", "1.6 s")):
        d.set(name, text)
    d.add("three_phase_source", "Grid", U="U_grid", f="50 Hz", R_i="0.3 ohm", L_i="3 mH")
    d.add(
        "three_phase_transformer",
        "Transformer",
        choices={"group": "Dy11"},
        ratio="15",
        R_1="9 ohm",
        L_1="60 mH",
        R_2="12 mohm",
        L_2="0.1 mH",
        L_m="120 H",
    )
    d.add("diode_bridge_3", "Rectifier", V_d="1 V", R_d="5 mohm")
    d.add("pair_opener", "Link lines")
    d.add("capacitor", "Link capacitor", C="3.3 mF", R_s="15 mohm", starts={"u": "540 V"})
    d.add(
        "inverter",
        "Inverter",
        choices={"device": "igbt"},
        f_p="5 kHz",
        t_dead="2.5 us",
        R_on="8 mohm",
        V_0="1.0 V",
        V_d="0.9 V",
        R_d="8 mohm",
        I_sat="600 A",
    )
    machine = {"p": "pairs", "R_r1": "R_cage", "L_r1": "L_cage"}
    d.add("induction", "Old machine", R_s="R_s", L_s="L_ss", L_m="L_main", J_m="0.4 kg*m^2", **machine)
    d.add("inertia", "Drum", J="J_all - 0.4 kg*m^2")
    d.add(
        "load_torque",
        "Rope pull",
        choices={"acts": "pulls"},
        profile=[("0 s", "0"), ("1.1 s", "0"), ("1.12 s", "90"), ("9 s", "90")],
    )
    d.add("speed_sensor", "Tachometer")
    for n in "abc":
        d.add("current_sensor", f"Current {n}")
    cage = {"p": "pairs", "L_m": "L_main", "L_r": "L_cage", "R_r": "R_cage"}
    d.add("ramp", "Speed demand", before="0 rpm", after="900 rpm", t_0="0.4 s", duration="0.5 s")
    d.add("constant", "Flux demand", value="psi_w")
    d.add("pi", "Speed regulator", K_p="K_w", T_i="180 ms", low="-95 A", high="95 A")
    d.add("pi", "Flux regulator", K_p="K_psi", T_i="T_rotor", low="0 A", high="60 A")
    d.add("rotor_flux_model", "Flux model", **cage)
    d.add(
        "dq_current_regulator",
        "Current regulator",
        K_d="K_i",
        T_d="T_i",
        K_q="K_i",
        T_q="T_i",
        L_d="L_short",
        L_q="L_short",
        psi="share*psi_w",
        U_dc="540 V",
    )
    d.add("dq_to_abc", "Voltage demand")
    d.add("three_phase_modulator", "Space vector", U_dc="540 V")
    d.add("speed_estimator", "Speed estimate", R_s="R_s", L_s="L_ss", **cage)
    wires = [
        ("grid.out", "transformer.first"),
        ("transformer.second", "rectifier.in"),
        ("rectifier.dc", "link_lines.pair"),
        ("link_lines.plus", "link_capacitor.a"),
        ("link_capacitor.b", "link_lines.minus"),
        ("link_lines.pair", "inverter.dc"),
        ("inverter.out", "old_machine.phases"),
        ("old_machine.shaft", "drum.a"),
        ("drum.b", "rope_pull.a"),
        ("old_machine.speed", "tachometer.measured"),
        ("tachometer.value", "flux_model.speed"),
        ("tachometer.value", "speed_regulator.actual"),
        ("speed_demand.out", "speed_regulator.setpoint"),
        ("flux_demand.out", "flux_regulator.setpoint"),
        ("flux_model.flux", "flux_regulator.actual"),
        ("flux_regulator.out", "current_regulator.set_d"),
        ("speed_regulator.out", "current_regulator.set_q"),
        ("flux_model.d", "current_regulator.d"),
        ("flux_model.q", "current_regulator.q"),
        ("flux_model.field", "current_regulator.speed"),
        ("current_regulator.u_d", "voltage_demand.d"),
        ("current_regulator.u_q", "voltage_demand.q"),
        ("flux_model.ahead", "voltage_demand.angle"),
    ]
    for n in "abc":
        wires += [
            (f"old_machine.current_{n}", f"current_{n}.measured"),
            (f"current_{n}.value", f"flux_model.{n}"),
            (f"current_{n}.value", f"speed_estimate.{n}"),
            (f"voltage_demand.{n}", f"space_vector.u_{n}"),
            (f"voltage_demand.{n}", f"speed_estimate.u_{n}"),
            (f"space_vector.d_{n}", f"inverter.d_{n}"),
        ]
    for a, b in wires:
        d.connect(a, b)
    inner = [
        "flux_regulator",
        "flux_demand",
        "flux_model",
        "current_regulator",
        "voltage_demand",
        "space_vector",
    ]
    control = d.group(
        inner,
        "Rotor-flux orientation",
        face={"psi": "flux_demand.value", "K_d": "current_regulator.K_d", "K_q": "current_regulator.K_q"},
    )
    places = {
        "grid": (5, 10),
        "transformer": (5, 42),
        "rectifier": (41, 10),
        "link_lines": (77, 10),
        "inverter": (113, 10),
        "old_machine": (149, 10),
        "link_capacitor": (77, 42),
        "drum": (149, 42),
        "rope_pull": (113, 42),
        "current_a": (80, 84),
        "current_b": (114, 84),
        "current_c": (148, 84),
        "tachometer": (148, 104),
        "speed_regulator": (80, 122),
        "speed_demand": (122, 122),
        "speed_estimate": (28, 130),
        control: (28, 104),
        "space_vector": (8, 12),
        "voltage_demand": (46, 12),
        "current_regulator": (84, 12),
        "flux_regulator": (122, 12),
        "flux_demand": (160, 12),
        "flux_model": (122, 40),
    }
    commands.move_cards(d.document, places, "Place").apply(d.document)
    return d


GRID = (
    ("U_second", "400 V", "line to line, behind the transformer"),
    ("U_link", "650 V", "wanted link voltage"),
    ("L_in", "2.5 mH", "line reactor"),
    ("R_in", "25 mohm", "line reactor"),
    ("f_g", "300 Hz", "grid current loops: crossover, proposed for 5 kHz"),
    ("K_g", "2*pi*f_g*L_in", "proposed: cancels the pole of the reactor"),
    ("T_g", "12 ms", "proposed: shorter than L_in/R_in, so that it holds against the grid"),
    ("K_u", "2*pi*15 Hz*3.3 mF", "proposed: link loop at 15 Hz, in current of the link"),
)
GRID_CONTROL = (
    "link_regulator",
    "link_demand",
    "grid_angle",
    "grid_currents",
    "grid_regulator",
    "reactive_demand",
    "grid_demand",
    "grid_modulator",
)


def old_haul_feedback() -> pendel.Drive:
    """The old haul drive with an active front end in place of its rectifier: a brake run feeds back."""
    d = old_haul_drive()
    doc = d.document
    d.set("title", "Ostrelle funicular · old haul drive, feeding back")
    for name, text, note in GRID:
        commands.set_quantity(doc, name, text, note).apply(doc)
    commands.remove_cards(doc, ["rectifier"]).apply(doc)
    commands.set_start(doc, "link_capacitor", "u", "650 V").apply(doc)
    # From 1.1 s on the descending car pulls the machine, which brakes it.
    commands.set_profile(doc, "rope_pull", [("0 s", "0"), ("1.1 s", "0"), ("1.12 s", "-90"), ("9 s", "-90")]).apply(doc)
    for card in ("current_regulator", "space_vector"):
        d.set(f"{card}.U_dc", "U_link")
    d.add("line_reactor", "Reactor", L="L_in", R="R_in")
    d.add(
        "inverter",
        "Front end",
        choices={"device": "igbt"},
        f_p="5 kHz",
        t_dead="2.5 us",
        R_on="8 mohm",
        V_0="1.0 V",
        V_d="0.9 V",
        R_d="8 mohm",
        I_sat="600 A",
    )
    d.add("voltage_sensor", "Link voltage")
    for n in "abc":
        d.add("current_sensor", f"Grid current {n}")
        d.add("voltage_sensor", f"Grid voltage {n}")
    d.add("constant", "Link demand", value="U_link")
    d.add("pi", "Link regulator", K_p="K_u*2*U_link/(sqrt(6)*U_second)", T_i="40 ms", low="-120 A", high="120 A")
    d.add("constant", "Reactive demand", value="0 A")
    d.add("pll_3", "Grid angle", choices={"axis": "q"}, f_0="50 Hz", f_b="20 Hz")
    d.add("abc_to_dq", "Grid currents")
    d.add(
        "dq_current_regulator",
        "Grid regulator",
        K_d="K_g",
        T_d="T_g",
        K_q="K_g",
        T_q="T_g",
        L_d="L_in",
        L_q="L_in",
        psi="U_second*sqrt(2/3)/(2*pi*50 Hz)",
        U_dc="U_link",
    )
    d.add("dq_to_abc", "Grid demand")
    d.add("three_phase_modulator", "Grid modulator", U_dc="U_link")
    wires = [
        ("transformer.second", "reactor.out"),
        ("reactor.in", "front_end.out"),
        ("front_end.dc", "link_lines.pair"),
        ("front_end.link_voltage", "link_voltage.measured"),
        ("link_voltage.value", "link_regulator.setpoint"),
        ("link_demand.out", "link_regulator.actual"),
        ("link_regulator.out", "grid_regulator.set_q"),
        ("reactive_demand.out", "grid_regulator.set_d"),
        ("grid_angle.angle", "grid_currents.angle"),
        ("grid_angle.ahead", "grid_demand.angle"),
        ("grid_angle.speed", "grid_regulator.speed"),
        ("grid_currents.d", "grid_regulator.d"),
        ("grid_currents.q", "grid_regulator.q"),
        ("grid_regulator.u_d", "grid_demand.d"),
        ("grid_regulator.u_q", "grid_demand.q"),
    ]
    for n in "abc":
        wires += [
            (f"reactor.current_{n}", f"grid_current_{n}.measured"),
            (f"grid_current_{n}.value", f"grid_currents.{n}"),
            (f"reactor.voltage_out_{n}", f"grid_voltage_{n}.measured"),
            (f"grid_voltage_{n}.value", f"grid_angle.{n}"),
            (f"grid_demand.{n}", f"grid_modulator.u_{n}"),
            (f"grid_modulator.d_{n}", f"front_end.d_{n}"),
        ]
    for a, b in wires:
        d.connect(a, b)
    control = d.group(
        list(GRID_CONTROL),
        "Grid current control",
        face={
            "U_link": "link_demand.value",
            "K_d": "grid_regulator.K_d",
            "K_q": "grid_regulator.K_q",
            "I_d": "reactive_demand.value",
        },
    )
    shift = 72  # what stood there moves aside
    places = {key: (card.x + shift, card.y) for key, card in doc.cards.items() if not card.inside}
    places |= {
        "grid": (5, 10),
        "transformer": (41, 10),
        "reactor": (77, 10),
        "front_end": (113, 10),
        "link_voltage": (114, 84),
        control: (40, 130),
        **{f"grid_current_{n}": (5 + 36 * k, 84) for k, n in enumerate("abc")},
        **{f"grid_voltage_{n}": (5 + 36 * k, 104) for k, n in enumerate("abc")},
        "grid_modulator": (8, 12),
        "grid_demand": (46, 12),
        "grid_regulator": (84, 12),
        "link_regulator": (122, 12),
        "link_demand": (160, 12),
        "grid_currents": (84, 40),
        "reactive_demand": (160, 34),
        "grid_angle": (122, 56),
    }
    places["rotor_flux_orientation"], places["speed_estimate"] = (118, 106), (118, 134)
    commands.move_cards(doc, places, "Place").apply(doc)
    return d


if __name__ == "__main__":
    for build, name, control, title in (
        (haul_drive, "haul_drive", "field_orientation", "field_oriented_torque"),
        (old_haul_drive, "old_haul_drive", "rotor_flux_orientation", "rotor_flux_orientation"),
        (old_haul_feedback, "old_haul_feedback", "grid_current_control", "grid_current_control"),
    ):
        drive = build()
        ready = shelf.only_assembly(drive.document, control)
        for made, target in (
            (drive.document, PACKAGE / "examples" / f"{name}.pendel"),
            (ready, PACKAGE / "shelf" / f"{title}.pendel"),
        ):
            target.unlink(missing_ok=True)  # so that no previous version is kept beside it
            file.save(made, target)
