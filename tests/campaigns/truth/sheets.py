"""Drives made of data sheets that nobody tried: what is made without a word against it holds what its goal promises."""

from __future__ import annotations

from random import Random

import pendel
from pendel.core.catalogue.goals.goal import looked_at, made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.errors import DriveProblem
from tests.campaigns.truth.report import Tally

PAIRS = (1, 2, 3, 5, 8, 12)
OFF = 0.7
"""Decades by which an entry may be off its usual value."""
MARGIN, MISSED = 45.0, 0.03
"""Degrees, and share of the speed or voltage, with its signals, that was asked for."""
ENDS = {"n_set": ("motor.speed", "machine.speed"), "U_out": ("step_up.output_voltage", "step_down.output_voltage")}


def sheets(seed: int, tally: Tally) -> None:
    """One drive; where the goal says beforehand what is wrong, it is counted as skipped."""
    rng = Random(seed)
    goal = rng.choice(list(GOALS.values()))
    options = rng.choice(list(goal.ways()))
    up = {"U_out": "100 V"} if options.get("way") == "up" else {}
    usual = made(goal, up, options)
    asked = [each.name for each in goal.asked(options)]
    texts = dict(up)
    for name in rng.sample(asked, min(rng.choice((1, 1, 2, 3)), len(asked))):
        texts[name] = other(rng, name, usual.quantities[name].text)
    check(goal.id, options, texts, tally, f"sheet {seed}")


def other(rng: Random, name: str, text: str) -> str:
    number, _, unit = text.partition(" ")
    if name == "pairs":
        return str(rng.choice(PAIRS))
    return f"{float(number) * 10 ** rng.uniform(-OFF, OFF):.4g} {unit}".strip()


def check(goal: str, options: dict[str, str], texts: dict[str, str], tally: Tally, name: str = "sheet") -> None:
    where = f"{name} {goal} {'-'.join(options.values())} {texts}"
    try:
        drive = pendel.new(goal, options=options, **texts)
        looked = looked_at(GOALS[goal], drive.document, options)
    except DriveProblem:
        tally.skipped += 1
        return
    if looked.problems:
        tally.skipped += 1
        return
    wrong = [found.sentence for found in drive.check()]
    run = drive.run()
    blind = options.get("sensor") == "none"  # whether an estimate holds is told by the run's remarks
    wrong += [] if blind else [str(remark) for remark in run.remarks if "swings" in str(remark)]
    for loop in [] if blind else drive.judge():
        if not loop.problem and not (loop.stable and loop.phase_margin > MARGIN):
            wrong.append(f"{loop.name}: {loop.phase_margin:.3g}°, stable {loop.stable}")
    if not looked.doubts and not run.remarks and options.get("regulate", "speed") == "speed":
        for wanted, signals in ENDS.items():
            target = drive.get(wanted) if wanted in drive.document.quantities else 0.0
            for signal in signals if target else ():
                if signal in run.keys() and abs(run[signal].y[-1] - target) > MISSED * target:
                    wrong.append(f"{signal} ends at {run[signal].y[-1]:.4g}, wanted {target:.4g}")
    if wrong:
        tally.fault(where, "; ".join(wrong)[:300], drive)
    else:
        tally.count += 1
