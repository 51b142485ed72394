"""Scripts to begin from, made for the drive at hand. Texts of the drive stand in them as Python writes texts, and
nowhere else."""

from __future__ import annotations

from collections.abc import Mapping

from pendel.core.check.targets import targets
from pendel.core.drive.document import Drive

SPEEDS = ("rad/s", "m/s")
HEAD = """import pendel

d = pendel.here()
name, before = {name!r}, {before!r}
"""
OVERLAY = """for factor in (0.8, 1.0, 1.25):
    d.set(name, f"({before})*{factor}")
    run = d.run()
    d.keep(run, f"{name} × {factor}")
    print(factor, run)
d.set(name, before)
d.show(signal)
"""
SWEEP = """factors, figures = (0.7, 0.85, 1.0, 1.15, 1.3), []
texts = [f"({before})*{factor}" for factor in factors]
for row in d.series({name: texts}, figures=[f"max({signal})"]).run():
    figures.append(row.figures[f"max({signal})"])
    print(row.values, row.figures)

import matplotlib.pyplot as plt

plt.plot(factors, figures, marker="o")
plt.xlabel(f"factor of {name}")
plt.ylabel(f"max({signal})")
plt.grid()
plt.show()
"""
LOOPS = """for factor in (0.5, 1.0, 2.0):
    d.set(name, f"({before})*{factor}")
    for loop in d.judge():
        print(f"{name} × {factor}: {loop.name}: {loop.crossover:.0f} Hz, {loop.phase_margin:.0f}°")
d.set(name, before)
"""
BATCH = """import csv

with open("rows.csv", "w", newline="") as file:
    rows = csv.writer(file)
    rows.writerow(["factor", "mean", "largest"])
    for factor in (0.8, 0.9, 1.0, 1.1, 1.2):
        d.set(name, f"({before})*{factor}")
        trace = d.run()[signal]
        rows.writerow([factor, trace.y.mean(), trace.y.max()])
d.set(name, before)
print("rows.csv is written")
"""


def beginnings(drive: Drive, signals: Mapping[str, str]) -> dict[str, str]:
    """Scripts by their names; each runs on this drive as it stands. ``signals`` are the keys that a run shows,
    with their units."""
    name, before = varied_of(drive)
    signal = next((key for key, unit in signals.items() if unit in SPEEDS), next(iter(signals), "card.signal"))
    head = HEAD.format(name=name, before=before)
    with_signal = head + f"signal = {signal!r}\n"
    return {
        "Vary and overlay": with_signal + OVERLAY,
        "Sweep and plot a figure": with_signal + SWEEP,
        "Judge the loops for three values": head + LOOPS,
        "Batch to CSV": with_signal + BATCH,
    }


def varied_of(drive: Drive) -> tuple[str, str]:
    """Something of the drive that a script may vary, and its text: a quantity first."""
    known = list(targets(drive)) if not drive.quantities else []
    found = next((t for t in known if "." in t.name and t.text and t.unit is not None), None)
    if drive.quantities:
        name, quantity = next(iter(drive.quantities.items()))
        return name, quantity.text
    return (found.name, found.text) if found is not None else ("until", drive.settings["until"])
