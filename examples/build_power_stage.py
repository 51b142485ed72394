"""Builds the shipped examples of the power stage with the script interface: ``python examples/build_power_stage.py``.

All belong to the made-up Ostrelle funicular; names and values are invented.
"""

from pathlib import Path

import pendel
from pendel.core.drive import commands
from pendel.core.drive.document import OwnEquations, PanelControl

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
    quantities(
        d,
        ("U_bat", "60 V", "battery, open circuit"),
        ("U_out", "150 V", "wanted output"),
        ("R_load", "45 ohm", "equipment, as a resistance"),
        ("K_u", "0.0008 1/V", "voltage loop, gain"),
        ("T_u", "2 ms", "voltage loop, integral time"),
    )
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
    wired(
        d,
        ("battery.dc", "step_up.dc"),
        ("step_up.out", "output.pair"),
        ("output.plus", "equipment.a"),
        ("equipment.b", "output.minus"),
        ("step_up.output_voltage", "voltage_sensor.measured"),
        ("soft_start.out", "voltage_pi.setpoint"),
        ("voltage_sensor.value", "voltage_pi.actual"),
        ("voltage_pi.out", "duty.x"),
        ("duty.out", "step_up.duty"),
    )
    d.tap("u_out", "step_up.output_voltage")
    placed(
        d,
        battery=(5, 10),
        step_up=(43, 10),
        output=(81, 10),
        equipment=(119, 10),
        duty=(5, 50),
        voltage_pi=(43, 50),
        voltage_sensor=(81, 50),
        soft_start=(81, 72),
    )
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
    wired(
        d,
        ("link.dc", "inverter.dc"),
        ("inverter.out", "test_load.in"),
        *((f"demand.{n}", f"modulator.u_{n}") for n in "abc"),
        *((f"modulator.d_{n}", f"inverter.d_{n}") for n in "abc"),
    )
    placed(d, link=(5, 10), inverter=(43, 10), test_load=(81, 10), modulator=(43, 50), demand=(81, 50))
    return d


def rectifier() -> pendel.Drive:
    """The old haul drive's link, fed by a three-phase diode bridge with line inductance."""
    d = pendel.Drive("Ostrelle funicular · link of the old haul drive")
    quantities(
        d,
        ("U_grid", "400 V", "line to line, rms"),
        ("L_line", "0.8 mH", "line reactor"),
        ("C_link", "1.5 mF", "link capacitor"),
        ("R_use", "22 ohm", "what the inverter draws"),
    )
    for name, text in (("until", "0.2 s"), ("tick", "1 ms")):
        d.set(name, text)
    d.add("three_phase_source", "Grid", U="U_grid", f="50 Hz", R_i="40 mohm", L_i="L_line")
    d.add("diode_bridge_3", "Bridge", V_d="1.0 V", R_d="4 mohm")
    d.add("pair_opener", "Link")
    d.add("capacitor", "Link capacitor", C="C_link", R_s="15 mohm")
    d.add("resistor", "Use", R="R_use")
    wired(
        d,
        ("grid.out", "bridge.in"),
        ("bridge.dc", "link.pair"),
        ("link.plus", "link_capacitor.a"),
        ("link_capacitor.b", "link.minus"),
        ("link.plus", "use.a"),
        ("use.b", "link.minus"),
    )
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
    wired(
        d,
        ("error.out", "error_voltage.set"),
        ("reference.out", "sampled_pi.setpoint"),
        ("error.out", "sampled_pi.actual"),
        ("error_voltage.b", "earth.line"),
        ("error_voltage.a", "input_resistor.a"),
        ("input_resistor.b", "amplifier.minus"),
        ("input_resistor.b", "feedback_resistor.a"),
        ("feedback_resistor.b", "feedback_capacitor.a"),
        ("feedback_capacitor.b", "amplifier.out"),
        ("amplifier.plus", "earth.line"),
        ("amplifier.out", "following_stage.a"),
        ("following_stage.b", "earth.line"),
    )
    d.group(
        ["input_resistor", "feedback_resistor", "feedback_capacitor", "amplifier"],
        "Analogue PI",
        face={
            "R_in": "input_resistor.R",
            "R_fb": "feedback_resistor.R",
            "C_fb": "feedback_capacitor.C",
            "f_1": "amplifier.f_1",
        },
    )
    d.tap("u_analogue", "amplifier.output")
    d.tap("u_sampled", "sampled_pi.out")
    placed(
        d,
        error_voltage=(5, 10),
        earth=(5, 48),
        analogue_pi=(48, 10),
        following_stage=(91, 10),
        sampled_pi=(43, 94),
        error=(81, 94),
        reference=(81, 116),
    )
    placed(d, input_resistor=(8, 12), feedback_resistor=(48, 12), feedback_capacitor=(88, 12), amplifier=(88, 48))
    return d


MODES = OwnEquations(
    ports=("amplitude: in, V", "demand: out, A"),
    values=("I_top = 20 A", "U_least = 260 V", "wait = 60 ms"),
    states=(),
    unknowns=(),
    equations=(
        "wait: demand = 0",
        "feed: demand = I_top",
        "rest: demand = 0",
        "wait -> feed: elapsed > wait and amplitude > U_least",
        "feed -> rest: amplitude < U_least",
        "rest -> wait: amplitude > U_least",
    ),
)


def panel(d: pendel.Drive) -> None:
    """What the operator of the valley station has before him."""
    modes = (("0", "waits"), ("1", "feeds"), ("2", "rests"))
    controls = (
        PanelControl("slider", "feeding.I_top", "Feed current", 0, 0, 4, 1, "0 A", "30 A"),
        PanelControl("number", "soft_start.rise", "Soft start, A/s", 4, 0, 2, 1),
        PanelControl("name", "feeding.mode", "Mode", 6, 0, 2, 1, names=modes),
        PanelControl("lamp", "feeding.demand", "Feeding", 8, 0, 2, 1, high="1 A"),
        PanelControl("figure", "grid_angle.amplitude", "Grid voltage, peak", 10, 0, 2, 1),
        PanelControl("strip", "choke.current", "Choke current", 0, 1, 6, 2, "-45 A", "45 A"),
        PanelControl("events", "feeding.mode", "Events", 6, 1, 6, 2, names=modes),
        PanelControl("button", "order.enable", "Enable", 0, 3, 2, 1),
        PanelControl("button", "order.idle", "Set idle", 2, 3, 2, 1),
        PanelControl("button", "order.acknowledge", "Acknowledge", 4, 3, 3, 1),
    )
    for control in controls:
        d.do(commands.set_control(d.document, "", control))
    d.set_live("feeding.I_top=0 A…30 A")


def valley_feeder() -> pendel.Drive:
    """The valley station feeds its spare power to the grid: a half bridge behind a choke, synchronised, in fixed steps
    as on a processor in real time. Modes decide when it feeds."""
    d = pendel.Drive("Ostrelle funicular · valley-station feeder")
    quantities(
        d,
        ("U_link", "800 V", "both halves of the link"),
        ("L_out", "2 mH", "choke"),
        ("I_feed", "20 A", "peak, fed in phase with the grid"),
        ("f_c", "900 Hz", "current loop: crossover, proposed for 20 kHz"),
        ("K_i", "2*pi*f_c*L_out", "proposed"),
    )
    for name, text in (
        ("until", "0.16 s"),
        ("tick", "50 us"),
        ("level", "switching"),
        ("method", "fixed"),
        ("step", "1 us"),
    ):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="U_link", R_i="20 mohm")
    d.add("split_half_bridge", "Feeder leg", f_p="20 kHz", t_dead="1 us")
    d.add("pair_opener", "Pole and middle")
    d.add("inductor", "Choke", L="L_out", R_s="60 mohm")
    d.add("ac_source", "Grid", U="230 V", f="50 Hz", R_i="80 mohm", L_i="60 uH")
    d.add("current_sensor", "Current sensor")
    d.add("voltage_sensor", "Grid sensor")
    d.add("pll_1", "Grid angle")
    d.add("own_modes", "Feeding", own=MODES, I_top="I_feed")
    d.add("slew_limiter", "Soft start", rise="1000", fall="1000")
    d.add("constant", "No reactive current", value="0 A")
    d.add("inverse_park", "Wanted current")
    d.add("pi", "Current PI", K_p="K_i", T_i="2 ms", low="-390 V", high="390 V")
    d.add("sum", "With the grid's voltage")
    d.add("gain", "Share of the link", K="1/U_link")
    # Without it the two halves of the link drift apart over seconds.
    d.add("voltage_sensor", "Middle sensor")
    d.add("constant", "Half the link", value="U_link/2")
    d.add("compare", "Imbalance")
    d.add("pt1", "Balance", K="0.08", T="20 ms")
    d.add("sum", "Current setpoint")
    d.add("constant", "Middle", value="0.5")
    d.add("sum", "Duty")
    wired(
        d,
        ("link.dc", "feeder_leg.dc"),
        ("feeder_leg.out", "pole_and_middle.pair"),
        ("pole_and_middle.plus", "choke.a"),
        ("choke.b", "grid.a"),
        ("grid.b", "pole_and_middle.minus"),
        ("choke.current", "current_sensor.measured"),
        ("grid.voltage", "grid_sensor.measured"),
        ("grid_sensor.value", "grid_angle.u"),
        ("grid_angle.amplitude", "feeding.amplitude"),
        ("feeding.demand", "soft_start.x"),
        ("soft_start.out", "wanted_current.d"),
        ("no_reactive_current.out", "wanted_current.q"),
        ("grid_angle.angle", "wanted_current.angle"),
        ("wanted_current.alpha", "current_setpoint.a"),
        ("feeder_leg.middle_voltage", "middle_sensor.measured"),
        ("half_the_link.out", "imbalance.setpoint"),
        ("middle_sensor.value", "imbalance.actual"),
        ("imbalance.out", "balance.x"),
        ("balance.out", "current_setpoint.b"),
        ("current_setpoint.out", "current_pi.setpoint"),
        ("current_sensor.value", "current_pi.actual"),
        ("current_pi.out", "with_the_grid_s_voltage.a"),
        ("grid_sensor.value", "with_the_grid_s_voltage.b"),
        ("with_the_grid_s_voltage.out", "share_of_the_link.x"),
        ("share_of_the_link.out", "duty.a"),
        ("middle.out", "duty.b"),
        ("duty.out", "feeder_leg.duty"),
    )
    d.tap("i_feed", "choke.current")
    placed(
        d,
        link=(5, 10),
        feeder_leg=(43, 10),
        pole_and_middle=(81, 10),
        choke=(119, 10),
        grid=(157, 10),
        duty=(5, 56),
        share_of_the_link=(43, 56),
        with_the_grid_s_voltage=(81, 56),
        current_pi=(119, 56),
        current_sensor=(157, 56),
        middle=(5, 80),
        grid_sensor=(81, 80),
        current_setpoint=(119, 80),
        wanted_current=(157, 80),
        no_reactive_current=(119, 104),
        soft_start=(157, 104),
        grid_angle=(81, 104),
        feeding=(157, 128),
        balance=(119, 128),
        imbalance=(81, 128),
        half_the_link=(43, 128),
        middle_sensor=(43, 104),
    )
    panel(d)
    return d


CHOICES = (
    ("0", "idle"),
    ("1", "power"),
    ("2", "reactive"),
    ("3", "power + reactive"),
    ("4", "harmonics"),
    ("5", "power + harmonics"),
    ("6", "full filtering"),
    ("7", "power + filtering"),
)


def filter_panel(d: pendel.Drive) -> None:
    controls = (
        PanelControl("selector", "mode.after", "Mode", 0, 0, 4, 1, names=CHOICES),
        PanelControl("slider", "power_setpoint.value", "Power, A peak", 4, 0, 4, 1, "-30 A", "30 A"),
        PanelControl("slider", "third_harmonic.amplitude", "Third harmonic of the grid, V", 8, 0, 4, 1, "0 V", "50 V"),
        PanelControl("strip", "grid_lead.current", "Grid current", 0, 1, 6, 2, "-50 A", "50 A"),
        PanelControl("strip", "choke.current", "Choke current", 6, 1, 6, 2, "-50 A", "50 A"),
        PanelControl("figure", "grid_angle.amplitude", "Grid voltage, peak", 0, 3, 3, 1),
        PanelControl("figure", "load_parts.power", "Load power", 3, 3, 4, 1),
        PanelControl("events", "mode.out", "Events", 7, 3, 5, 2, names=CHOICES),
        PanelControl("button", "order.enable", "Enable", 0, 4, 2, 1),
        PanelControl("button", "order.idle", "Set idle", 2, 4, 2, 1),
        PanelControl("button", "order.acknowledge", "Acknowledge", 4, 4, 3, 1),
    )
    for control in controls:
        d.do(commands.set_control(d.document, "", control))
    d.set_live("mode.after=0…7")
    d.set_live("power_setpoint.value=-30 A…30 A")


def valley_filter() -> pendel.Drive:
    """The same station beside a load that draws reactive and distorted current: one current controller serves the
    modes, which feed or take power and keep the load's reactive current, its harmonics, or both from the grid."""
    d = pendel.Drive("Ostrelle funicular · valley-station filter")
    quantities(
        d,
        ("U_link", "800 V", "both halves of the link"),
        ("L_out", "2 mH", "choke"),
        ("f_c", "2000 Hz", "current loop: crossover, 30° phase margin"),
        ("T_i", "0.8 ms", "current loop: integral time"),
        ("T_s", "50 us", "tick"),
        ("K_i", "2*pi*f_c*L_out", "current loop: gain"),
    )
    for name, text in (
        ("until", "0.2 s"),
        ("tick", "50 us"),
        ("level", "switching"),
        ("method", "fixed"),
        ("step", "1 us"),
    ):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="U_link", R_i="20 mohm")
    d.add("split_half_bridge", "Leg", f_p="20 kHz", t_dead="1 us")
    d.add("pair_opener", "Pole and middle")
    d.add("inductor", "Choke", L="L_out", R_s="60 mohm")
    d.add("resistor", "Grid lead", R="10 mohm")
    d.add("ac_source", "Grid", U="230 V", f="50 Hz", R_i="80 mohm", L_i="60 uH")
    d.add("set_voltage", "Distortion")
    d.add("sine", "Third harmonic", amplitude="0 V", f="150 Hz")
    d.add("resistor", "Voltage divider", R="100 kohm")
    d.add("resistor", "Load lead", R="10 mohm")
    d.add("inductor", "Transformer", L="60 mH", R_s="10 ohm")
    d.add("inductor", "Rectifier choke", L="4 mH", R_s="50 mohm")
    d.add("diode_bridge", "Rectifier")
    d.add("pair_opener", "Rectified")
    d.add("capacitor", "Smoothing", C="1 mF", R_s="30 mohm")
    d.add("resistor", "Lights", R="60 ohm")
    for name in ("Current sensor", "Load sensor"):
        d.add("current_sensor", name)
    for name in ("Grid sensor", "Middle sensor"):
        d.add("voltage_sensor", name)
    d.add("pll_1", "Grid angle")
    d.add("current_parts", "Load parts")
    d.add("constant", "Power setpoint", value="15 A")
    d.add("constant", "No reactive current", value="0 A")
    d.add("inverse_park", "In phase")
    d.add("reference_selector", "References")
    d.add("step", "Mode", before="0", after="6", t_0="0.1 s")
    d.add("constant", "Half the link", value="U_link/2")
    d.add("compare", "Imbalance")
    d.add("pt1", "Balance", K="0.08", T="20 ms")
    d.add("sum", "Current setpoint")
    d.add("compare", "Current error")
    d.add("function_z", "Current controller", rows=(("T_s/T_i-1", "-1"), ("1", "1")))
    d.add("gain", "Loop gain", K="K_i")
    d.add("sum", "With the grid's voltage")
    d.add("gain", "Share of the link", K="1/U_link")
    d.add("constant", "Middle", value="0.5")
    d.add("sum", "Duty")
    d.add("limiter", "Duty limits", low="0.02", high="0.98")
    d.add("capacitor", "Filter", C="4.7 uF", R_s="3 ohm")
    wired(
        d,
        ("link.dc", "leg.dc"),
        ("leg.out", "pole_and_middle.pair"),
        ("pole_and_middle.plus", "choke.a"),
        ("choke.b", "grid_lead.b"),
        ("grid_lead.a", "grid.a"),
        ("grid.b", "distortion.a"),
        ("pole_and_middle.minus", "filter.b"),
        ("filter.b", "voltage_divider.b"),
        ("voltage_divider.b", "distortion.b"),
        ("third_harmonic.out", "distortion.set"),
        ("filter.a", "voltage_divider.a"),
        ("voltage_divider.a", "load_lead.a"),
        ("load_lead.b", "transformer.a"),
        ("transformer.b", "distortion.b"),
        ("load_lead.b", "rectifier_choke.a"),
        ("rectifier_choke.b", "rectifier.a"),
        ("rectifier.b", "transformer.b"),
        ("rectifier.dc", "rectified.pair"),
        ("rectified.plus", "smoothing.a"),
        ("smoothing.b", "rectified.minus"),
        ("rectified.plus", "lights.a"),
        ("lights.b", "rectified.minus"),
        ("choke.current", "current_sensor.measured"),
        ("load_lead.current", "load_sensor.measured"),
        ("voltage_divider.voltage", "grid_sensor.measured"),
        ("leg.middle_voltage", "middle_sensor.measured"),
        ("grid_sensor.value", "grid_angle.u"),
        ("grid_sensor.value", "load_parts.u"),
        ("load_sensor.value", "load_parts.i"),
        ("grid_angle.angle", "load_parts.angle"),
        ("power_setpoint.out", "in_phase.d"),
        ("no_reactive_current.out", "in_phase.q"),
        ("grid_angle.angle", "in_phase.angle"),
        ("in_phase.alpha", "references.power"),
        ("load_parts.reactive", "references.reactive"),
        ("load_parts.void", "references.void"),
        ("mode.out", "references.mode"),
        ("references.out", "current_setpoint.a"),
        ("half_the_link.out", "imbalance.setpoint"),
        ("middle_sensor.value", "imbalance.actual"),
        ("imbalance.out", "balance.x"),
        ("balance.out", "current_setpoint.b"),
        ("current_setpoint.out", "current_error.setpoint"),
        ("current_sensor.value", "current_error.actual"),
        ("current_error.out", "current_controller.x"),
        ("current_controller.out", "loop_gain.x"),
        ("loop_gain.out", "with_the_grid_s_voltage.a"),
        ("grid_sensor.value", "with_the_grid_s_voltage.b"),
        ("with_the_grid_s_voltage.out", "share_of_the_link.x"),
        ("share_of_the_link.out", "duty.a"),
        ("middle.out", "duty.b"),
        ("duty.out", "duty_limits.x"),
        ("duty_limits.out", "leg.duty"),
        ("choke.b", "filter.a"),
    )
    d.tap("i_grid", "grid_lead.current")
    d.tap("i_load", "load_lead.current")
    inside = ("load_lead", "transformer", "rectifier_choke", "rectifier", "rectified", "smoothing", "lights")
    d.group(list(inside), "Load", face={"L": "transformer.L", "R": "lights.R"})
    placed(
        d,
        link=(5, 10),
        leg=(43, 10),
        pole_and_middle=(81, 10),
        choke=(119, 10),
        filter=(119, 48),
        grid_lead=(157, 10),
        grid=(195, 10),
        distortion=(233, 10),
        voltage_divider=(157, 48),
        load=(195, 48),
        third_harmonic=(233, 56),
        duty_limits=(5, 96),
        duty=(43, 96),
        share_of_the_link=(81, 96),
        with_the_grid_s_voltage=(119, 96),
        loop_gain=(157, 96),
        current_controller=(195, 96),
        current_error=(233, 96),
        current_sensor=(271, 96),
        middle=(5, 120),
        middle_sensor=(43, 120),
        grid_sensor=(119, 120),
        current_setpoint=(195, 120),
        references=(233, 120),
        mode=(271, 120),
        half_the_link=(5, 144),
        imbalance=(43, 144),
        balance=(81, 144),
        grid_angle=(119, 144),
        load_sensor=(157, 144),
        load_parts=(195, 144),
        in_phase=(233, 144),
        power_setpoint=(271, 144),
        no_reactive_current=(233, 168),
    )
    placed(
        d,
        load_lead=(8, 12),
        transformer=(48, 48),
        rectifier_choke=(48, 12),
        rectifier=(88, 12),
        rectified=(128, 12),
        smoothing=(168, 12),
        lights=(168, 48),
    )
    filter_panel(d)
    return d


EXAMPLES = {
    "valley_filter": valley_filter,
    "valley_feeder": valley_feeder,
    "wayside_supply": wayside_supply,
    "haul_inverter": inverter_bench,
    "old_haul_link": rectifier,
    "analogue_controller": analogue_controller,
}

if __name__ == "__main__":
    for name, build in EXAMPLES.items():
        path = FOLDER / f"{name}.pendel"
        path.unlink(missing_ok=True)  # so that no previous version is kept beside it
        build().save(path)
