"""Builds the hybrid works car of the made-up Ostrelle funicular: battery, engine, generator and traction machine on a
planetary gear, and what decides between them: ``python examples/build_day_of_trips.py``."""

from pathlib import Path

import pendel
from pendel.core.drive import commands, file, view_edits
from pendel.core.drive.document import OwnEquations

TARGET = Path(__file__).parent.parent / "src" / "pendel" / "examples" / "day_of_trips.pendel"
ROAD = ((0, 0), (250, 2), (500, 3), (760, 0), (1014, 0))
"""Metres and percent, to the workshop and up to the depot."""
STRATEGY = OwnEquations(
    ports=(
        "power: in, W",
        "speed: in, m/s",
        "charge: in, %",
        "engine: in, rad/s",
        "burn: out, W",
        "on: out",
        "turn: out",
    ),
    values=(
        "P_on = 12 kW",
        "P_off = 4 kW",
        "v_on = 55 km/h",
        "q_low = 52 %",
        "q_aim = 58 %",
        "K_q = 150 kW",
        "P_least = 6 kW",
        "P_most = 26 kW",
        "w_fire = 560 rpm",
    ),
    states=(),
    equations=(
        "electric: on = 0; turn = 0; burn = 0",
        "starting: on = 1; turn = 1; burn = 0",
        "both: on = 1; turn = 1; burn = saturate(power + K_q * (q_aim - charge), P_least, P_most)",
        "charging: on = 1; turn = 1; burn = saturate(power + K_q * (q_aim - charge), P_least, P_most)",
        "electric -> starting: power > P_on or speed > v_on or charge < q_low",
        "starting -> both: engine > w_fire",
        "both -> charging: elapsed > 4 and charge < q_low",
        "both -> electric: elapsed > 4 and power < P_off and speed < v_on and charge > q_low",
        "charging -> electric: charge > q_aim and power < P_off and speed < v_on",
    ),
)
REQUESTED = OwnEquations(
    ports=("demand: in, N*m", "speed: in, m/s", "power: out, W"),
    values=("r = 290 mm",),
    states=(),
    equations=("power = demand * speed / r",),
)
SPLIT = OwnEquations(
    ports=(
        *("demand: in, N*m", "speed: in, m/s", "burn: in, W", "turn: in", "engine: in, rad/s"),
        *("engine_torque: out, N*m", "generator: out, rad/s", "feed: out, N*m", "traction: out, N*m"),
    ),
    values=(
        "k = 2.6",
        "z = 4.1",
        "r = 290 mm",
        "M_best = 68 N*m",
        "w_idle = 1000 rpm",
        "w_top = 4200 rpm",
        "w_start = 1000 rpm",
    ),
    states=(),
    equations=(
        "ring = z * speed / r",
        "best = saturate(burn / M_best, w_idle, w_top)",
        "engine_torque = burn / best",
        "wanted = turn * (best if burn > 1 else w_start)",
        "generator = (1 + k) * wanted - k * ring",
        "given = engine_torque if engine > 0.7 * w_idle else 0",
        "feed = -given / (1 + k)",
        "traction = demand / z - k * given / (1 + k)",
    ),
)


def day_of_trips() -> pendel.Drive:
    d = pendel.Drive("Ostrelle funicular · a day of trips")
    for name, text, note in (
        ("m_car", "1480 kg", "car with battery, tools and one driver"),
        ("turning", "4 %", "of the mass, in wheels and shafts"),
        ("r_wheel", "290 mm", "wheel"),
        ("f_0", "125 N", "rolling"),
        ("f_2", "0.42 N*s^2/m^2", "air"),
        ("k_gear", "2.6", "ring over sun"),
        ("z_axle", "4.1", "ring over axle"),
    ):
        commands.set_quantity(d.document, name, text, note).apply(d.document)
    for name, text in (("tick", "0.1 s"), ("until", "195 s")):
        d.set(name, text)
    d.add("battery", "Battery", Q="20 Ah", charge_0="62 %", R="30 mohm", R_1="15 mohm")
    d.add("machine_envelope", "Traction", M_max="190 N*m", P_max="26 kW", T_lag="80 ms", P_M="2200 W")
    d.add(
        "machine_envelope",
        "Generator",
        M_max="60 N*m",
        P_max="18 kW",
        T_lag="50 ms",
        P_0="40 W",
        P_M="900 W",
        K_w="0.3 N*m*s",
    )
    d.add("inertia", "Generator rotor", J="0.012 kg*m^2")
    d.add("engine", "Engine")
    d.add("planetary", "Power split", k="k_gear")
    d.add("gear", "Axle gear", ratio="z_axle", eta="97")
    d.add("brake", "Brakes", M_max="1400 N*m")
    d.add("car", "Works car", m="m_car", turning="turning", r="r_wheel", f_0="f_0", f_1="0.8", f_2="f_2")
    d.rows("works_car", [(f"{x} m", f"{slope} %") for x, slope in ROAD])
    d.add("converter_by_losses", "On-board supply")
    d.add("power_load", "Lights and heater", P="420 W")
    d.add("heat_capacity", "Converter body", C="260 J/K", T_0="25 °C", T_max="85 °C")
    d.add("heat_resistance", "To its air", R="1.1 K/W")
    d.add("ambient", "Air", T="25 °C")
    d.add("profile", "Plan", profile=[("0 s", "0 km/h"), ("1 s", "0 km/h")])
    d.profile("plan", "urban")
    d.add("speed_sensor", "Speed")
    d.add("charge_sensor", "Charge")
    d.add("speed_sensor", "Engine speed")
    mass = "m_car*(1 + turning)"
    d.add(
        "driver", "Driver", r="r_wheel", m=mass, f_0="f_0", f_2="f_2", low="-420 N*m", high="800 N*m", full="1000 N*m"
    )
    d.add("own_block", "Requested power", own=REQUESTED, r="r_wheel")
    d.add("own_modes", "Strategy", own=STRATEGY)
    d.add("own_block", "Split", own=SPLIT, k="k_gear", z="z_axle", r="r_wheel")
    for a, b in (
        ("battery.dc", "traction.dc"),
        ("battery.dc", "generator.dc"),
        ("battery.dc", "on_board_supply.dc"),
        ("on_board_supply.out", "lights_and_heater.dc"),
        ("on_board_supply.heat", "converter_body.a"),
        ("converter_body.b", "to_its_air.a"),
        ("to_its_air.b", "air.a"),
        ("generator.shaft", "generator_rotor.a"),
        ("generator_rotor.b", "power_split.sun"),
        ("engine.shaft", "power_split.carrier"),
        ("power_split.ring", "axle_gear.a"),
        ("traction.shaft", "axle_gear.a"),
        ("axle_gear.b", "brakes.a"),
        ("brakes.b", "works_car.axle"),
        ("works_car.speed", "speed.measured"),
        ("battery.charge", "charge.measured"),
        ("engine.speed", "engine_speed.measured"),
        ("plan.out", "driver.setpoint"),
        ("speed.value", "driver.actual"),
        ("driver.out", "split.demand"),
        ("driver.brake", "brakes.press"),
        ("speed.value", "split.speed"),
        ("engine_speed.value", "split.engine"),
        ("driver.out", "requested_power.demand"),
        ("speed.value", "requested_power.speed"),
        ("requested_power.power", "strategy.power"),
        ("speed.value", "strategy.speed"),
        ("charge.value", "strategy.charge"),
        ("engine_speed.value", "strategy.engine"),
        ("strategy.burn", "split.burn"),
        ("strategy.turn", "split.turn"),
        ("strategy.on", "engine.on"),
        ("split.engine_torque", "engine.torque"),
        ("split.generator", "generator.speed"),
        ("split.feed", "generator.torque"),
        ("split.traction", "traction.torque"),
    ):
        d.connect(a, b)
    places = {
        "battery": (5, 10),
        "traction": (43, 10),
        "generator": (157, 43),
        "generator_rotor": (157, 10),
        "engine": (119, 43),
        "power_split": (119, 10),
        "axle_gear": (81, 10),
        "brakes": (81, 43),
        "works_car": (43, 43),
        "on_board_supply": (5, 43),
        "lights_and_heater": (5, 76),
        "converter_body": (43, 76),
        "to_its_air": (81, 76),
        "air": (119, 76),
        "plan": (162, 138),
        "speed": (162, 160),
        "charge": (85, 116),
        "engine_speed": (85, 138),
        "driver": (124, 138),
        "requested_power": (85, 160),
        "strategy": (44, 116),
        "split": (5, 116),
    }
    commands.move_cards(d.document, places, "Place").apply(d.document)
    far = [key for key, wire in d.document.wires.items() if wire.b.card in ("charge", "speed", "engine_speed")]
    view_edits.set_named(d.document, far, True).apply(d.document)
    return d


if __name__ == "__main__":
    TARGET.unlink(missing_ok=True)
    file.save(day_of_trips().document, TARGET)
