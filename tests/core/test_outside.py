"""What comes from outside on the board: blocks that are simulated here and are inputs of the shipped controller."""

import shutil
import subprocess

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.drive.file import from_text, to_text
from pendel.core.errors import DriveProblem, PendelError

HARNESS = """#include <stdio.h>
#include "car_door_drive.h"
int main(void)
{
    static car_door_drive_t c;
    double x[4];
    car_door_drive_init(&c);
    while (fread(x, sizeof(double), 4, stdin) == 4) {
        c.in.current_sensor_value = x[0];
        c.in.encoder_speed = x[1];
        c.in.travel_plan_speed = x[2];
        c.in.limit_out = x[3];
        car_door_drive_tick(&c);
        if (fwrite(&c.out.bridge_duty, sizeof(double), 1, stdout) != 1) return 1;
    }
    return 0;
}
"""


def door():
    """The door drive with its plan and a feed-forward of the current as the board's inputs."""
    d = pendel.open_example("car_door_drive")
    d.add("step", "Limit", before="0 A", after="2 A", t_0="0.2 s")
    d.connect("limit.out", "current_pi.feedforward")
    for name in ("travel_plan", "limit"):
        d.set(f"{name}.outside", "yes")
    return d


def test_the_simulation_is_the_same_and_the_controller_has_inputs_instead_of_blocks(tmp_path):
    d = door()
    assert d.check() == []
    run = d.run(0.4)
    for name in ("travel_plan", "limit"):
        d.set(f"{name}.outside", "no")
    inside = d.run(0.4)
    for key in ("door_leaf.position", "pulse_stage.duty", "travel_plan.speed"):
        assert np.array_equal(run[key].y, inside[key].y)
    for form in ("float64", "float32", "fixed32", "fixed16"):
        d = door()
        d.set("number_format", form)
        report = d.firmware(check=True)
        assert not report.unlike, form
        d.write_c(tmp_path / form)
        header, code = ((tmp_path / form / f"car_door_drive.{end}").read_text() for end in "hc")
        assert "/* What is measured or set from outside at each tick. */" in header
        assert "c.in.limit_out = 0;  /* set it by your program */" in (tmp_path / form / "main.c").read_text()
        assert "travel_plan_speed;" in header and "limit_out;" in header
        assert "travel_plan_update" not in code and "limit_update" not in code and "c->in.travel_plan_speed" in code


@pytest.mark.skipif(shutil.which("gcc") is None, reason="no compiler")
def test_shipped_c_fed_by_a_program_of_ones_own_gives_what_the_simulation_gave_to_the_bit(tmp_path):
    d = door()
    d.set("number_format", "float64")
    d.set("controller", "as shipped")
    run = d.run(0.5)
    d.write_c(tmp_path)
    (tmp_path / "harness.c").write_text(HARNESS, encoding="utf-8")
    sources = [str(tmp_path / name) for name in ("harness.c", "car_door_drive.c", "pd_numbers.c")]
    program = str(tmp_path / "harness")
    subprocess.run(["gcc", "-O1", "-ffp-contract=off", *sources, "-o", program, "-lm"], check=True)
    fed = ("current_sensor.value", "encoder.speed", "travel_plan.speed", "limit.out")
    count = min(len(run[name].y) for name in fed)
    inputs = np.stack([run[name].y[:count] for name in fed], axis=1)
    assert len(np.unique(inputs[:, 2])) > 100 and np.ptp(inputs[:, 3]) == 2
    out = subprocess.run(
        [program], input=np.ascontiguousarray(inputs).tobytes(), capture_output=True, check=True
    ).stdout
    assert np.array_equal(np.frombuffer(out), run["pulse_stage.duty"].y[:count])


def test_what_reads_the_controller_cannot_come_from_outside():
    d = pendel.open_example("car_door_drive")
    d.set("current_pi.outside", "yes")
    d.set("controller", "as shipped")
    with pytest.raises(PendelError, match="reads a signal of the controller"):
        d.run(0.1)


def test_the_mark_is_kept_with_the_drive_and_only_yes_or_no(tmp_path, capsys):
    d = door()
    assert from_text(to_text(d.document)).cards["travel_plan"].outside == "yes"
    for name, text in (("travel_plan.outside", "maybe"), ("door_motor.outside", "yes"), ("encoder.outside", "yes")):
        with pytest.raises(DriveProblem):
            d.set(name, text)
    d.set("travel_plan.outside", "no")
    assert '"outside"' in to_text(d.document) and from_text(to_text(d.document)).cards["travel_plan"].outside == ""
    with pytest.raises(PendelError):
        from_text(to_text(d.document).replace('"outside": "yes"', '"outside": "no <b>"'))
    file = tmp_path / "door.pendel"
    pendel.open_example("car_door_drive").save(file)
    assert main(["set", str(file), "travel_plan.outside=yes"]) == 0
    assert pendel.open(file).document.cards["travel_plan"].outside == "yes"
    capsys.readouterr()
