"""Builds the shipped examples of the power stage with the script interface: ``python examples/build_power_stage.py``.

All belong to the made-up Ostrelle funicular; names and values are invented.
"""

from pathlib import Path

import pendel
from pendel.core.drive import commands

FOLDER = Path(__file__).parent.parent / "src" / "pendel" / "examples"


def wired(d: pendel.Drive, *pairs: tuple[str, str]) -> None:
    for a, b in pairs:
        d.connect(a, b)


def placed(d: pendel.Drive, **places: tuple[int, int]) -> None:
    commands.move_cards(d.document, places, "Place").apply(d.document)


def quantities(d: pendel.Drive, *rows: tuple[str, str, str]) -> None:
    for name, text, note in rows:
        commands.set_quantity(d.document, name, text, note).apply(d.document)


def wayside_supply() -> pendel.Drive:
    """A battery feeds the wayside equipment through a step-up converter with a voltage loop."""
    d = pendel.Drive("Ostrelle funicular · wayside supply")
    quantities(d, ("U_bat", "60 V", "battery, open circuit"), ("U_out", "150 V", "wanted output"), ("R_load", "45 ohm", "equipment, as a resistance"),
               ("K_u", "0.0008 1/V", "voltage loop, gain"), ("T_u", "2 ms", "voltage loop, integral time"))  # fmt: skip
    for name, text in (("until", "0.25 s"), ("tick", "20 us")):
        d.set(name, text)
    d.add("dc_source", "Battery", U_0="U_bat", R_i="40 mohm")
    d.add(
        "step_up",
        "Step-up",
        L="220 uH",
        C="470 uF",
        R_L="35 mohm",
        R_C="12 mohm",
        R_on="9 mohm",
        V_d="0.7 V",
        f_p="50 kHz",
    )
    d.add("pair_opener", "Output")
    d.add("resistor", "Equipment", R="R_load")
    d.add("voltage_sensor", "Voltage sensor")
    d.add("ramp", "Soft start", before="U_bat", after="U_out", t_0="5 ms", duration="60 ms")
    d.add("pi", "Voltage PI", K_p="K_u", T_i="T_u", low="0", high="0.8")
    d.add("gain", "Duty", K="1")
    wired(d, ("battery.dc", "step_up.dc"), ("step_up.out", "output.pair"), ("output.plus", "equipment.a"), ("equipment.b", "output.minus"),
          ("step_up.output_voltage", "voltage_sensor.measured"), ("soft_start.out", "voltage_pi.setpoint"), ("voltage_sensor.value", "voltage_pi.actual"),
          ("voltage_pi.out", "duty.x"), ("duty.out", "step_up.duty"))  # fmt: skip
    d.tap("u_out", "step_up.output_voltage")
    placed(d, battery=(5, 10), step_up=(43, 10), output=(81, 10), equipment=(119, 10), duty=(5, 50), voltage_pi=(43, 50), voltage_sensor=(81, 50), soft_start=(81, 72))  # fmt: skip
    return d


def inverter_bench() -> pendel.Drive:
    """The haul drive's inverter on a load in star, for comparing modulation schemes."""
    d = pendel.Drive("Ostrelle funicular · haul inverter on its test load")
    quantities(
        d,
        ("U_dc", "560 V", "link voltage"),
        ("U_ph", "0.5*U_dc", "wanted phase voltage, peak"),
        ("f_out", "50 Hz", "output frequency"),
    )
    for name, text in (
        ("until", "0.06 s"),
        ("tick", "100 us"),
        ("level", "switching"),
        ("computing_delay", "0"),
    ):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="U_dc", R_i="0")
    d.add("inverter", "Inverter", f_p="10 kHz", R_on="8 mohm", R_d="6 mohm", V_d="1.1 V", t_dead="2 us")
    d.add("star_load", "Test load", R="4.5 ohm", L="6 mH")
    d.add("three_phase_sine", "Demand", amplitude="U_ph", f="f_out")
    d.add("three_phase_modulator", "Modulator", U_dc="U_dc")
    wired(d, ("link.dc", "inverter.dc"), ("inverter.out", "test_load.in"), *((f"demand.{n}", f"modulator.u_{n}") for n in "abc"), *((f"modulator.d_{n}", f"inverter.d_{n}") for n in "abc"))  # fmt: skip
    placed(d, link=(5, 10), inverter=(43, 10), test_load=(81, 10), modulator=(43, 50), demand=(81, 50))
    return d


def rectifier() -> pendel.Drive:
    """The old haul drive's link, fed by a three-phase diode bridge with line inductance."""
    d = pendel.Drive("Ostrelle funicular · link of the old haul drive")
    quantities(d, ("U_grid", "400 V", "line to line, rms"), ("L_line", "0.8 mH", "line reactor"), ("C_link", "1.5 mF", "link capacitor"), ("R_use", "22 ohm", "what the inverter draws"))  # fmt: skip
    for name, text in (("until", "0.2 s"), ("tick", "1 ms")):
        d.set(name, text)
    d.add("three_phase_source", "Grid", U="U_grid", f="50 Hz", R_i="40 mohm", L_i="L_line")
    d.add("diode_bridge_3", "Bridge", V_d="1.0 V", R_d="4 mohm")
    d.add("pair_opener", "Link")
    d.add("capacitor", "Link capacitor", C="C_link", R_s="15 mohm")
    d.add("resistor", "Use", R="R_use")
    wired(d, ("grid.out", "bridge.in"), ("bridge.dc", "link.pair"), ("link.plus", "link_capacitor.a"), ("link_capacitor.b", "link.minus"), ("link.plus", "use.a"), ("use.b", "link.minus"))  # fmt: skip
    placed(d, grid=(5, 10), bridge=(43, 10), link=(81, 10), link_capacitor=(119, 10), use=(119, 43))
    return d


def analogue_controller() -> pendel.Drive:
    """An op-amp as PI controller beside a sampled one on the same error: U = −(R_2/R_1 + 1/(R_1·C·s))·e."""
    d = pendel.Drive("Ostrelle funicular · analogue current controller of the door")
    quantities(
        d,
        ("R_1", "10 kohm", "input resistor"),
        ("R_2", "33 kohm", "feedback resistor"),
        ("C_2", "22 nF", "feedback capacitor"),
    )
    for name, text in (("until", "5 ms"), ("tick", "20 us"), ("computing_delay", "0")):
        d.set(name, text)
    d.add("step", "Error", before="0 V", after="0.4 V", t_0="0.5 ms")
    d.add("set_voltage", "Error voltage")
    d.add("ground", "Earth")
    d.add("resistor", "Input resistor", R="R_1")
    d.add("resistor", "Feedback resistor", R="R_2")
    d.add("capacitor", "Feedback capacitor", C="C_2")
    d.add("op_amp", "Amplifier", choices={"model": "limited"}, f_1="3 MHz", slew="13 V/us")
    d.add("resistor", "Following stage", R="10 kohm")
    d.add("step", "Reference", before="0 V", after="0 V", t_0="0 s")
    d.add("pi", "Sampled PI", K_p="R_2/R_1", T_i="R_2*C_2", low="-12 V", high="12 V")
    wired(d, ("error.out", "error_voltage.set"), ("reference.out", "sampled_pi.setpoint"), ("error.out", "sampled_pi.actual"), ("error_voltage.b", "earth.line"), ("error_voltage.a", "input_resistor.a"),
          ("input_resistor.b", "amplifier.minus"), ("input_resistor.b", "feedback_resistor.a"), ("feedback_resistor.b", "feedback_capacitor.a"), ("feedback_capacitor.b", "amplifier.out"),
          ("amplifier.plus", "earth.line"), ("amplifier.out", "following_stage.a"), ("following_stage.b", "earth.line"))  # fmt: skip
    d.group(["input_resistor", "feedback_resistor", "feedback_capacitor", "amplifier"], "Analogue PI",
            face={"R_in": "input_resistor.R", "R_fb": "feedback_resistor.R", "C_fb": "feedback_capacitor.C", "f_1": "amplifier.f_1"})  # fmt: skip
    d.tap("u_analogue", "amplifier.output")
    d.tap("u_sampled", "sampled_pi.out")
    placed(d, error_voltage=(5, 10), earth=(5, 48), analogue_pi=(48, 10), following_stage=(91, 10), sampled_pi=(43, 94), error=(81, 94), reference=(81, 116))  # fmt: skip
    placed(
        d, input_resistor=(8, 12), feedback_resistor=(48, 12), feedback_capacitor=(88, 12), amplifier=(88, 48)
    )
    return d


EXAMPLES = {"wayside_supply": wayside_supply, "haul_inverter": inverter_bench, "old_haul_link": rectifier, "analogue_controller": analogue_controller}  # fmt: skip

if __name__ == "__main__":
    for name, build in EXAMPLES.items():
        path = FOLDER / f"{name}.pendel"
        path.unlink(missing_ok=True)  # so that no previous version is kept beside it
        build().save(path)
