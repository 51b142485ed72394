"""Parts whose equations are typed: curves through points and signals that come in, against SciPy."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator

import pendel
from pendel.core.check import examine
from pendel.core.drive.document import OwnEquations
from pendel.core.errors import DriveHasFindings
from pendel.core.quantities.curve import monotone_slopes, value_on

PORTS, VALUES, STATES, UNKNOWNS = (
    ("out: dc, u, i", "cool: in, f, 1"),
    ("Q = 60 A*s", "R = 0.1 ohm", "U_1 = 98 V"),
    ("used = -0.05",),
    ("e: V",),
)
CELL = (
    "Q*der(used) = -i",
    "e = table(1 - used, 0 %, 88 V, 40 %, U_1, 50 %, U_1 + 1 V, 100 %, 110 V)",
    "u = e + R*(1 - 0.5*f)*i",
)


def cell(equations=CELL, *, ports=PORTS, values=VALUES, fan="0.5") -> pendel.Drive:
    d = pendel.Drive("Cell")
    d.set("tick", "1 ms")
    d.set("until", "27 s")
    d.add("own", "Cell", own=OwnEquations(ports, values, STATES, UNKNOWNS, equations))
    d.add("power_load", "Load", P="250 W")
    d.add("constant", "Fan", value=fan)
    d.connect("cell.out", "load.dc")
    if "cell.cool" in d.card("cell").ports:
        d.connect("fan.out", "cell.cool")
    return d


def spline(x, y):
    """The curve by SciPy's Hermite cubic, straight beyond its ends."""
    slopes = monotone_slopes(x, y)
    inside = CubicHermiteSpline(x, y, slopes)

    def at(q):
        low, high = min(q - x[0], 0.0), max(q - x[-1], 0.0)
        return float(inside(np.clip(q, x[0], x[-1]))) + slopes[0] * low + slopes[-1] * high

    return at


@pytest.mark.parametrize("fan", ["0", "0.5", "1"])
def test_a_cell_by_typed_equations_is_that_of_scipy_also_beyond_its_points(fan):
    run = cell(fan=fan).run()
    e, r = spline([0, 0.4, 0.5, 1], [88.0, 98, 99, 110]), 0.1 * (1 - 0.5 * float(fan))

    def slope(t, x):
        inside = e(1 - x[0])
        return [250 / ((inside + np.sqrt(inside**2 - 4 * r * 250)) / 2) / 60]

    t = np.linspace(0.3, 27, 40)
    found = solve_ivp(slope, (0, 27), [-0.05], rtol=1e-10, atol=1e-12, t_eval=t)
    assert found.y[0, 0] < -0.03 and found.y[0, -1] > 1.04, "beyond its points on both sides"
    assert run["cell.used"].at(t) == pytest.approx(found.y[0], rel=5e-6, abs=1e-7)
    assert run["cell.e"].at(t) == pytest.approx([e(1 - x) for x in found.y[0]], rel=1e-6)


def test_a_curve_keeps_between_its_points_as_scipys_does():
    """Monotone where the points are; between inner points SciPy's own interpolation of that kind."""
    rng = np.random.default_rng(4)
    for _ in range(40):
        x = np.cumsum(rng.uniform(0.1, 2, 7))
        y = np.cumsum(rng.normal(0.2, 1, 7))
        inner = np.linspace(x[1], x[-2], 60)
        assert [value_on(at, x, y) for at in inner] == pytest.approx(PchipInterpolator(x, y)(inner), abs=1e-9)
        for a, b, low, high in zip(x, x[1:], y, y[1:]):
            values = [value_on(at, x, y) for at in np.linspace(a, b, 30)]
            assert min(low, high) - 1e-9 <= min(values) and max(values) <= max(low, high) + 1e-9
        assert value_on(x[0] - 1, x, y) == pytest.approx(y[0] - (y[1] - y[0]) / (x[1] - x[0]))


def test_a_table_of_tables_is_a_surface_in_two_variables():
    """By SciPy's Hermite cubics along one variable, then along the other; between two points each it is bilinear."""
    charges, fans = [0.0, 0.3, 0.6, 1.0], [0.0, 0.5, 1.0]
    ohms = [[0.3, 0.2, 0.15, 0.12], [0.25, 0.19, 0.15, 0.1], [0.1, 0.1, 0.08, 0.05]]
    rows = [", ".join(f"{q}, {r} ohm" for q, r in zip(charges, row)) for row in ohms]
    surface = "table(f, " + ", ".join(f"{f}, table(1 - used, {row})" for f, row in zip(fans, rows)) + ")"
    for fan in ("0.2", "0.7", "1.3"):
        run = cell((CELL[0], CELL[1], f"u = e + {surface}*i"), fan=fan).run("10 s")
        t, (u, i, used) = run["cell.u"].t, (run[f"cell.{name}"].y for name in ("u", "i", "used"))
        begun = int(np.searchsorted(t, 0.01))  # the fan's signal comes a tick later
        for k in range(begun, len(u), max(1, len(u) // 20)):
            q = 1 - used[k]
            r = spline(fans, [spline(charges, row)(q) for row in ohms])(float(fan))
            e = spline([0, 0.4, 0.5, 1], [88.0, 98, 99, 110])(q)
            assert u[k] == pytest.approx(e + r * i[k], rel=1e-9)
    d = cell()
    d.define("z", "table(3 V, 2 V, table(5 A, 4 A, 1, 6 A, 3), 6 V, table(5 A, 4 A, 9, 6 A, 5))")
    assert examine(d.document).quantities["z"] == pytest.approx(0.75 * 2 + 0.25 * 7)


def test_values_and_quantities_look_up_along_points_with_units():
    d = cell()
    d.define("R_t", "table(30 °C, 20 °C, 1 ohm, 120 °C, 1.4 ohm)")
    d.define("table", "3 V")  # a name that drives may have had before
    d.set("load.P", "table(R_t, 1 ohm, 200 W, 2 ohm, 300 W)")
    told = examine(d.document)
    assert told.quantities["R_t"] == pytest.approx(1.04) and told.quantities["table"] == 3
    assert told.values["load"]["P"] == pytest.approx(204)
    d.define("R_t", "table(30 °C, 120 °C, 1 ohm, 20 °C, 1.4 ohm)")
    assert any("do not rise" in str(f) for f in d.check())


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("table(1 - used, 0, 88 V, 1, 110 V, 2)", "table takes a value and two points or more"),
        ("table(used)", "table takes a value and two points or more"),
        (f"table(used{''.join(f', {k}, {k} V' for k in range(101))})", "table takes 100 points at most"),
        ("table(used, 1, 88 V, 0, 110 V)", "do not rise from point to point"),
        ("table(used, 0, 88 V, 0, 110 V)", "do not rise from point to point"),
        ("table(e, 1, 88 V, 2, 110 V)", "A place along table()"),
        ("table(used, 0, 88 V, 1, 3 A)", "A height of table()"),
        ("table(used, 0, 88 A, 1, 3 A)", "The right side"),
        ("table(e, 0 V, 88 V, e, 110 V)", "e is neither"),
        ("table(used, 0, 88 V, 1, table(used, 1, 88 V, 0, 99 V))", "do not rise from point to point"),
    ],
)
def test_a_curve_that_is_none_is_told_with_its_line(line, words):
    with pytest.raises(DriveHasFindings) as caught:
        cell((CELL[0], f"e = {line}", CELL[2])).run()
    sentences = [str(f) for f in caught.value.findings]
    assert any("equations line 2" in each and words in each for each in sentences), sentences


@pytest.mark.parametrize(
    ("port", "words"),
    [
        ("cool: in", "without a unit, 1"),
        ("cool: in, f, nonsense", "nonsense"),
        ("out: in, f, 1", "The port out stands here twice"),
        ("cool: in, u, 1", "u is defined twice"),
        ("cool: tube, f, g", "links are dc, line, shaft, rod, heat, in"),
    ],
)
def test_a_signal_port_that_is_none_is_told(port, words):
    with pytest.raises(DriveHasFindings) as caught:
        cell(ports=(PORTS[0], port)).run()
    assert any(words in str(f) for f in caught.value.findings), caught.value


def test_a_typed_part_with_a_signal_is_linear_and_its_input_counts():
    """From the signal to the voltage: ∂u/∂f = −0.5·R·i, and slower, by the charge that goes."""
    d = cell()
    way = d.transfer("fan.out", "cell.u", at=20.0)
    i = d.run()["cell.i"].at(np.array([20.0]))[0]
    u = 250 / -i
    r = 0.075
    held = -0.05 * i / (1 - r * 250 / u**2)  # at once: u = e + R i with u i = −250 W
    assert abs(way.response(np.array([50.0]))[0]) == pytest.approx(abs(held), rel=0.02)
