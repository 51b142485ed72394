"""Gives the examples what they say of themselves and how they are looked at: ``python examples/describe.py``, after any
of them was built anew. Texts lie in ``examples/texts``."""

from pathlib import Path

import pendel
from pendel.core.drive import file
from pendel.core.drive.view_edits import set_view, view_of_runs
from pendel.core.drive.views import View

HERE = Path(__file__).parent
TARGETS = HERE.parent / "src" / "pendel" / "examples"
FIELD = [
    ["haul_machine.torque"],
    ["haul_machine.i_d", "haul_machine.i_q"],
    ["haul_machine.current_a", "haul_machine.current_b", "haul_machine.current_c"],
    ["inverter.line_voltage"],
]
STRIPS = {
    "analogue_controller": [["error.out"], ["amplifier.output", "sampled_pi.out"], ["input_resistor.current"]],
    "cabin_fan": [
        ["hall_decoder.speed", "speed_demand.out"],
        ["fan_motor.torque", "air.load"],
        ["fan_motor.current_a", "fan_motor.current_b", "fan_motor.current_c"],
    ],
    "haul_drive": FIELD,
    "haul_drive_rope": [["haul_machine.speed"], ["car.speed"], ["rope.force"], ["haul_machine.torque"]],
    "haul_drive_tables": FIELD,
    "haul_inverter": [
        ["inverter.line_voltage"],
        ["test_load.current_a", "test_load.current_b", "test_load.current_c"],
    ],
    "works_machine": [
        ["machine.torque", "torque_demand.out"],
        ["machine.i_d", "machine.i_q"],
        ["machine.current_a", "machine.current_b", "machine.current_c"],
    ],
    "old_haul_link": [["bridge.output_voltage", "link_capacitor.voltage"], ["grid.current_a"], ["grid.power"]],
}


def described(path: Path) -> None:
    drive = pendel.open(path)
    drive.describe((HERE / "texts" / f"{path.stem}.md").read_text("utf-8"))
    if path.stem in STRIPS:
        drive.lay_out(STRIPS[path.stem])
    elif view_of_runs(drive.document) != View():
        drive.do(set_view(drive.document, View()))
    file.save(drive.document, path)
    path.with_suffix(".pendel.bak").unlink(missing_ok=True)


if __name__ == "__main__":
    for each in sorted(TARGETS.glob("*.pendel")):
        described(each)
