"""Starting values of states that others fix, entered on whichever of them: rigid trains and networks of capacitors."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import pendel
from pendel.core.errors import DriveHasFindings

SEEDS = st.integers(0, 2**32 - 1)


def train(rng: np.random.Generator, count: int) -> tuple[pendel.Drive, list[str], np.ndarray]:
    """Inertias behind each other and beside, on gears and directly; their keys, and their speeds over the first's."""
    drive = pendel.Drive("Train")
    keys = [drive.add("inertia", f"J {k}", J=repr(float(rng.uniform(1e-3, 1)))) for k in range(count)]
    ratios, free = [1.0], {key: ["a", "b"] for key in keys}
    for k in range(1, count):
        behind = k - 1 if not free[keys[k - 2]] or rng.random() < 0.7 else max(0, k - 2)
        a, b = f"{keys[behind]}.{free[keys[behind]].pop()}", f"{keys[k]}.{free[keys[k]].pop(0)}"
        ratio = round(float(rng.uniform(0.2, 5)), 3) if rng.random() < 0.7 else 1.0
        if ratio == 1.0:
            drive.connect(a, b)
        else:
            gear = drive.add("gear", f"Gear {k}", ratio=repr(ratio), eta="100")
            drive.connect(a, f"{gear}.a")
            drive.connect(f"{gear}.b", b)
        ratios.append(ratios[behind] / ratio)
    return drive, keys, np.array(ratios)


@settings(max_examples=15, deadline=None)
@given(seed=SEEDS, count=st.integers(2, 6))
def test_a_speed_entered_anywhere_on_a_rigid_train_is_that_of_all(seed, count):
    rng = np.random.default_rng(seed)
    drive, keys, ratios = train(rng, count)
    speeds = float(rng.uniform(-50, 50)) * ratios
    entered = int(rng.integers(count))
    drive.start(keys[entered], omega=f"{float(speeds[entered])!r} rad/s")
    run = drive.run(0.01)
    for at in (0, -1):  # nothing brakes
        np.testing.assert_allclose([run[f"{key}.speed"].y[at] for key in keys], speeds, rtol=1e-9)
    # A second one that agrees changes nothing; one that does not is told by name.
    other = keys[(entered + 1) % count]
    agreed = float(speeds[(entered + 1) % count])
    drive.start(other, omega=f"{agreed!r} rad/s")
    np.testing.assert_allclose(drive.run(1e-3)[f"{keys[0]}.speed"].y[0], speeds[0], rtol=1e-9)
    drive.start(other, omega=f"{1.01 * agreed + 1e-3!r} rad/s")
    with pytest.raises(DriveHasFindings, match="its speed is to start at .* makes it start at .* Enter one"):
        drive.run(1e-3)


@settings(max_examples=15, deadline=None)
@given(seed=SEEDS, nodes=st.integers(2, 5), more=st.integers(0, 5))
@example(seed=1, nodes=2, more=4)  # all in parallel
def test_voltages_entered_on_a_tree_of_capacitors_are_those_of_all(seed, nodes, more):
    """Kirchhoff's voltages: those on any spanning tree give all others."""
    rng = np.random.default_rng(seed)
    potentials = np.append(0.0, rng.uniform(-20, 20, nodes - 1))
    edges = [(int(rng.integers(k)), k) for k in range(1, nodes)]
    edges += [tuple(int(x) for x in rng.choice(nodes, 2, replace=False)) for _ in range(more)]
    drive = pendel.Drive("Capacitors")
    drive.add("ground", "Earth")
    pins: dict[int, list[str]] = {0: ["earth.line"], **{k: [] for k in range(1, nodes)}}
    keys = []
    for k, (a, b) in enumerate(edges):
        keys.append(drive.add("capacitor", f"C {k}", C=f"{float(rng.uniform(1, 10))!r} uF"))
        pins[a].append(f"{keys[k]}.a")
        pins[b].append(f"{keys[k]}.b")
    for k in range(1, nodes):
        leak = drive.add("resistor", f"R {k}", R="1 MΩ")
        pins[k].append(f"{leak}.a")
        drive.connect(f"{leak}.b", "earth.line")
    for first, *others in pins.values():
        for pin in others:
            drive.connect(first, pin)
    tree, rows = [], np.zeros((0, nodes))
    for k in rng.permutation(len(edges)):
        row = np.zeros(nodes)
        row[list(edges[k])] = 1, -1
        if np.linalg.matrix_rank(np.vstack([rows, row])) > len(rows):
            tree.append(int(k))
            rows = np.vstack([rows, row])
    voltages = [float(potentials[a] - potentials[b]) for a, b in edges]
    for k in tree:
        drive.start(keys[k], u=f"{voltages[k]!r} V")
    run = drive.run(1e-6)
    np.testing.assert_allclose([run[f"{key}.voltage"].y[0] for key in keys], voltages, rtol=1e-6, atol=1e-9)
