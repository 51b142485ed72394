"""Examples with a value or two far off what they were made for: a run ends or says why, its energy adds up, and what is
asked of it and of the drive comes with sentences of ours."""

from __future__ import annotations

import threading
from random import Random

import numpy as np

import pendel
from pendel.core.drive.examples import EXAMPLES
from pendel.core.errors import PendelError
from pendel.core.plant.recorded import Watch
from pendel.core.quantities.units import unit
from tests.campaigns.faults.report import Boundary

FACTORS = (0.003, 0.03, 0.1, 0.3, 3.0, 10.0, 30.0, 300.0)
LONG = ("day_of_trips", "works_car")
"""Those whose runs are minutes; the others run for a moment."""
MOMENT, PATIENCE = 0.2, 30.0
"""s of a run, and s that it may take: a hundred times of what any takes as it is."""
GAP = 0.05
"""Of the energy that flowed, by fixed steps of examples that choose them, with what is off."""


def far_off(rng: Random, into: Boundary) -> None:
    name = rng.choice([path.stem for path in sorted(EXAMPLES.glob("*.pendel"))])
    drive = pendel.open_example(name)
    if name not in LONG:
        drive.set("until", f"{MOMENT} s")
    said = [name]
    for _ in range(rng.choice((1, 1, 2))):
        said += changed(rng, drive)
    into.meet("\n".join(said).encode(), lambda: used(rng, drive), 2 * PATIENCE)


def changed(rng: Random, drive: pendel.Drive) -> list[str]:
    """Of a value at random, which is not an assembly's and has a size."""
    card = drive.card(rng.choice(list(drive.cards)))
    fields = [v for v in card.kind.values if card.texts[v.name] and v.unit != "*" and card.values[v.name]]
    if not fields:
        return []
    field = rng.choice(fields)
    wanted = card.values[field.name] * rng.choice(FACTORS) / (unit(field.unit)[0] if field.unit else 1.0)
    text = f"{wanted!r} {field.unit}".strip()
    card[field.name] = text
    return [f"{card.key}.{field.name} = {text}"]


def used(rng: Random, drive: pendel.Drive) -> None:
    watch = Watch.private()
    late = threading.Timer(PATIENCE, watch.ask_to_stop)
    drive._watch = watch
    late.start()
    try:
        run = drive.run()
    finally:
        late.cancel()
        assert not watch.stop[0], f"a run takes longer than {PATIENCE:.0f} s"
    energy = run.balance(run.kept.begin, run.kept.end)
    flowed = max(abs(energy.supplied), abs(energy.delivered), abs(energy.stored), energy.heat, 1e-12)
    gap = abs(energy.supplied - energy.delivered - energy.heat - energy.stored) / flowed
    assert gap < GAP or drive.get("method") == "fixed", f"of the energy {gap:.2g} is not accounted for"
    for key in rng.sample(run.keys(), 5):
        assert len(run[key].t) == len(run[key].y) and not np.any(np.isinf(run[key].y))
    list(map(str, run.remarks))
    for ask in (drive.check, drive.judge, drive.modes, drive.firmware):
        try:
            ask()
        except PendelError as told:
            assert str(told).strip()
