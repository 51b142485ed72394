"""What a row of a series costs beside the time loop, what two cores give, and how many rows are kept and sorted."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

import pendel
from pendel.core.drive.plans import RANDOM, Plan, Varied
from pendel.core.plant.integrate import integrate
from pendel.core.runs.preparing.simulate import settings_of_run
from pendel.core.series.gathered import Gathered, what_matters
from pendel.core.series.rows import DONE, Row, Series, run_rows
from pendel.core.series.store import RowStore

Tell = Callable[[str, str, str], None]
ROWS, MANY = 60, 100_000


def seconds(act) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def loop_alone(series: Series) -> float:
    """Seconds that the time loops of rows take by themselves."""
    following, spent = series.following, 0.0
    for number in range(ROWS):
        prepared = following.ready(series.row_drive(number))
        inputs = prepared.inputs(settings_of_run(prepared, following.kinds, None))
        spent += seconds(lambda: integrate(prepared.program, inputs))  # noqa: B023
    return spent


def rows_of(row: Tell, name: str, plan: Plan) -> None:
    drive = pendel.open_example(name).document
    series = Series(drive, replace(plan, measures=()))
    list(run_rows(series, range(2), 1))
    loop = loop_alone(series)
    without = seconds(lambda: list(run_rows(series, range(ROWS), 1)))
    reporting = Series(drive, plan)
    list(run_rows(reporting, range(2), 1))
    one = seconds(lambda: list(run_rows(reporting, range(ROWS), 1)))
    two = seconds(lambda: list(run_rows(reporting, range(ROWS), 2)))
    row(f"row of a series over its time loop, {name}, without figures", f"{without / loop:.2f}", "1.15")
    row(f"row of a series over its time loop, {name}, {len(plan.measures)} figures", f"{one / loop:.2f}", "1.35")
    row(f"a series on two cores, {name}", f"{one / two:.2f}", "1.85")


def many_rows(row: Tell) -> None:
    drive = pendel.Drive("Many")
    for name in ("x", "y"):
        drive.define(name, "1")
    varied = tuple(Varied(name, "uniform", ("0", "1")) for name in ("x", "y"))
    plan = Plan(varied, RANDOM, str(MANY), "1", tuple(f"max(a.b{k})" for k in range(10)))
    figures = np.random.default_rng(1).random((MANY, 10))
    gathered = Gathered(drive.document, plan)
    texts = gathered.points.rows(0, MANY)
    rows = [Row(n, texts[n], DONE, "", 1, 0.0, tuple(figures[n]), ("A",) * 10) for n in range(MANY)]
    with tempfile.TemporaryDirectory() as folder:
        store = RowStore(Path(folder) / "many.rows")
        store.begin("", plan, MANY, "now")
        keep = seconds(lambda: [store.add(rows[k : k + 500]) for k in range(0, MANY, 500)])
        read = seconds(lambda: gathered.add(store.rows(store.numbers().tolist())))
        store.close()
    kept = gathered.matching("")
    row(f"{MANY} rows kept, and read", f"{keep:.1f} and {read:.1f} s", "")
    row(f"{MANY} rows sorted", f"{seconds(lambda: gathered.order(3, falling=True, kept=kept)):.3f} s", "0.3 s")
    row(f"{MANY} rows filtered", f"{seconds(lambda: gathered.matching('x < 0.5 and max(a.b3) > 0.2')):.3f} s", "0.3 s")
    row(f"what matters in {MANY} rows", f"{seconds(lambda: what_matters(gathered, 2)):.1f} s", "")


def report(row: Tell) -> None:
    for name in ("car_door_drive", "wayside_supply"):
        rows_of(row, name, next(iter(pendel.open_example(name).document.plans.values())))
    many_rows(row)


if __name__ == "__main__":
    report(lambda *cells: print("|", " | ".join(cells), "|"))
