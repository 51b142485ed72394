"""Gains searched within limits: the best of all that keep them, and which limit stops there."""

from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.drive.file import load, save
from pendel.core.errors import DriveProblem, Stopped
from pendel.core.loops.tuning.tuning import loop_statuses
from pendel.core.loops.tuning.within_limits import Goal, Limits, Search, tune

EXAMPLES = Path(pendel.__file__).parent / "examples"


def door():
    return load(EXAMPLES / "car_door_drive.pendel")


@pytest.fixture(scope="module")
def study():
    return {s.loop.key: s.study for s in loop_statuses(door())}["current_pi"]


def test_no_gains_of_a_fine_grid_are_better(study):
    """Integral gain under a limit of Ms, as in Åström, Hägglund: Advanced PID Control, section 6: against 900 gains of
    a grid."""
    search = Search(study, Limits(phase_margin=0.0, ms=1.5, overshoot=1e3), Goal.DISTURBANCE)
    found = search.run()
    best = found.best
    assert best.keeps and found.stopping == ("ms",) and best.analysis.margins.ms == pytest.approx(1.5, abs=0.03)
    grid = [
        search.judge({"K_p": k, "T_i": t})
        for k in best.gains["K_p"] * np.geomspace(0.3, 3, 15)
        for t in best.gains["T_i"] * np.geomspace(0.3, 3, 15)
    ]
    rivals = [t.value for t in grid if t.keeps]
    assert rivals and best.value <= min(rivals) + 0.01


@pytest.mark.parametrize("goal", [Goal.SETTLING, Goal.EFFORT])
def test_each_goal_is_better_by_itself_and_keeps_the_limits(study, goal):
    limits = Limits(phase_margin=50.0, ms=1.6, overshoot=10.0, crossover=300.0)
    by_goal = {g: Search(study, limits, g).run().best for g in (Goal.DISTURBANCE, goal)}
    rival = Search(study, limits, goal).judge(by_goal[Goal.DISTURBANCE].gains)
    assert by_goal[goal].value < rival.value
    for best in by_goal.values():
        m = best.analysis.margins
        assert m.stable and m.phase >= 50.0 and m.ms <= 1.6 and m.crossover >= 300.0
        assert best.analysis.measures.overshoot <= 10.0


def test_limits_that_fight_are_named_and_a_search_can_be_stopped(study):
    with pytest.raises(DriveProblem, match=r"phase margin and the least crossover cannot both be kept"):
        Search(study, Limits(phase_margin=60.0, crossover=3000.0, ms=1e9, overshoot=1e9), Goal.DISTURBANCE).run()
    with pytest.raises(DriveProblem, match="Give a least crossover"):
        Search(study, Limits(), Goal.EFFORT).run()
    with pytest.raises(DriveProblem, match="above 1"):
        Limits(ms=1.0)
    with pytest.raises(DriveProblem, match="at most 10"):
        Limits(crossover=20.0, fastest=10.0)
    seen = []
    with pytest.raises(Stopped):
        Search(study, Limits(), Goal.DISTURBANCE).run(stopping=lambda: len(seen) > 1, come=seen.append)
    assert len(seen) == 2


def test_a_cascade_is_tuned_inside_out_in_one_step_and_from_the_terminal(tmp_path, capsys):
    drive = door()
    tuned = tune(drive, Limits(overshoot=10.0), Goal.DISTURBANCE)
    assert list(tuned.found) == ["current_pi", "speed_pi"] and not tuned.left
    tuned.command.apply(drive)
    for status in loop_statuses(drive):
        m = status.judged.margins
        assert m.stable and m.phase >= 44.9 and m.ms <= 1.701 and status.judged.measures.overshoot <= 10.1
    path = tmp_path / "door.pendel"
    save(door(), path)
    assert main(["tune", str(path), "--loop", "current_pi", "--ms", "1.4", "--crossover", "200 Hz"]) == 0
    assert "stopped by" in capsys.readouterr().out
    judged = {s.loop.key: s.judged for s in loop_statuses(load(path))}["current_pi"]
    assert judged.margins.ms == pytest.approx(1.4, abs=0.03)
    assert main(["tune", str(path), "--goal", "speed"]) == 2 and "no goal" in capsys.readouterr().err
    assert main(["tune", str(path), "--loop", "rail"]) == 2 and "closes no loop" in capsys.readouterr().err
    # A peak in A of the one regulator is none in V of the other.
    assert main(["tune", str(path), "--effort", "30"]) == 2 and "is in A and V" in capsys.readouterr().err
