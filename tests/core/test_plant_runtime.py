"""The small C parts of a run by themselves: surfaces, pulse channels that open, memory of records."""

import ctypes
import gc
from importlib import resources
from pathlib import Path

import numpy as np
import pytest
import scipy.interpolate

import pendel
from pendel.core.catalogue.machines.co_energy import Beyond, CoEnergy
from pendel.core.drive.file import load as load_drive
from pendel.core.plant import rows as rows_of_record
from pendel.core.plant import runtime, simulator
from pendel.core.plant.compiler import build_library
from pendel.core.runs.preparing.simulate import prepare, run_drive

EXAMPLES = Path(pendel.__file__).parent / "examples"
ORDERS = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2), (3, 0), (2, 1), (1, 2), (0, 3))


@pytest.fixture(scope="module")
def surface():
    """The C function on one spline, and the spline for SciPy."""
    source = resources.files("pendel.core.plant").joinpath("surfaces.c").read_text("utf-8")
    library = ctypes.CDLL(
        str(
            build_library(
                source + "\nvoid look(const double *s, int nx, int ny, int third, double x, double y, double *out)\n"
                "{ surface(s, nx, ny, third, x, y, out); }\n"
            )
        )
    )
    library.look.argtypes = [
        ctypes.c_void_p,
        ctypes.c_int,
        ctypes.c_int,
        ctypes.c_int,
        ctypes.c_double,
        ctypes.c_double,
        ctypes.c_void_p,
    ]
    rims = (
        Beyond((-1.5, -0.25), (1.0, 1.0), (-3.0, 4.0), 0.7),
        Beyond((1.5, 4.0), (1.0, 1.0), (2.0, 1.0), 0.3),
    )
    made = CoEnergy((-2.0, 1.0), (0.25, 0.5), (9, 7), np.random.default_rng(4).normal(size=(13, 11)), rims, 0.0)
    numbers = np.array(made.numbers)

    def look(x, y):
        out, low = np.zeros(10), np.full(10, 7.0)
        library.look(numbers.ctypes.data, 9, 7, 1, x, y, out.ctypes.data)
        library.look(numbers.ctypes.data, 9, 7, 0, x, y, low.ctypes.data)
        assert list(low) == [*out[:6], 7.0, 7.0, 7.0, 7.0], "without the third derivatives, nothing else differs"
        return out

    return look, made


def test_a_surface_and_its_derivatives_are_scipys(surface):
    look, made = surface
    knots = [low + step * np.arange(-4, cells + 5) for low, step, cells in zip(made.low, made.step, made.cells)]
    inside = np.random.default_rng(5).uniform([-1.5, 1.5], [-0.25, 4.0], (60, 2))
    for x, y in [*inside, (-1.5, 1.5), (-0.25, 4.0), (-1.0, 2.0)]:
        for got, (by_x, by_y) in zip(look(x, y), ORDERS):
            along = scipy.interpolate.BSpline(knots[1], made.coefficients.T, 4)(y, nu=by_y)
            wanted = scipy.interpolate.BSpline(knots[0], along, 4)(x, nu=by_x)
            assert got == pytest.approx(wanted, rel=1e-9, abs=1e-8)


def test_beyond_its_rims_a_surface_is_what_python_says_and_its_derivatives_are_its_slopes(surface):
    look, made = surface
    h = 1e-6
    for x, y in ((-1.9, 2.2), (-4.0, 2.0), (0.3, 3.0), (5.0, 1.2), (-1.0, 4.4), (-1.7, 9.0), (-0.1, -3.0)):
        at = look(x, y)
        for got, order in zip(at[:6], ORDERS):
            assert got == pytest.approx(made.derivative(x, y, *order)[0, 0], rel=1e-9, abs=1e-9)
        by_x, by_y = (look(x + h, y) - look(x - h, y)) / (2 * h), (look(x, y + h) - look(x, y - h)) / (2 * h)
        for n, order in enumerate(ORDERS[:6]):
            further = [ORDERS.index((order[0] + 1, order[1])), ORDERS.index((order[0], order[1] + 1))]
            assert at[further] == pytest.approx([by_x[n], by_y[n]], rel=1e-5, abs=1e-5)


def legs(duties, **values):
    """An inverter whose legs get duties that change at given times; ``duties`` by leg, points of (s, duty)."""
    d = pendel.Drive("Legs")
    for name, text in (("tick", "50 us"), ("until", "1 ms"), ("level", "device"), ("computing_delay", "0")):
        d.set(name, text)
    d.add("dc_source", "Feed", U_0="100", R_i="10")
    d.add("inverter", "Inv", choices={"below": "opens"}, f_p="20", **values)
    d.add("star_load", "Load", R="5", L="2")
    d.connect("feed.dc", "inv.dc")
    d.connect("inv.out", "load.in")
    for n in "abc":
        d.add("profile", f"Duty {n}", profile=duties[n])
        d.connect(f"duty_{n}.out", f"inv.d_{n}")
    return d.run()


@pytest.mark.parametrize("values", [{}, {"t_dead": "1 us"}, {"t_dead": "0.5 us", "t_on": "300 ns", "t_off": "400 ns"}])
def test_a_leg_opens_at_once_and_closes_with_its_dead_time(values):
    """Both gates are off while the duty is below zero, never both on in between, and the pulses before and after are
    whole."""
    points = [
        ("0", "0.3"),
        ("0.30001 ms", "0.3"),
        ("0.30002 ms", "-1"),
        ("0.60001 ms", "-1"),
        ("0.60002 ms", "0.7"),
    ]
    still = [("0", "0.5"), ("1 ms", "0.5")]
    run = legs({"a": points, "b": still, "c": still}, **values)
    t = np.arange(0.2e-6, 1e-3, 0.05e-6)
    upper, lower = (run.at(f"inv.gate_a_{side}", t) > 0.5 for side in ("upper", "lower"))
    dead, on, off = {1: (1e-6, 40e-9, 120e-9), 3: (0.5e-6, 0.3e-6, 0.4e-6)}.get(len(values), (0.0, 40e-9, 120e-9))
    opened = (t > 0.35e-3 + off + 2e-6) & (t < 0.65e-3)
    assert not np.any(upper[opened]) and not np.any(lower[opened])
    if values:
        assert not np.any(upper & lower)
    before, after = (t > 0.05e-3) & (t < 0.3e-3), (t > 0.7e-3) & (t < 0.95e-3)
    for span, share in ((before, 0.3), (after, 0.7)):
        assert np.mean(upper[span]) == pytest.approx(share - (dead + on - off) / 50e-6, abs=1.5e-3)
    assert np.max(np.abs(run.at("inv.current_a", t[opened][-200:]))) < 1e-3  # the diodes let it end


def test_memory_of_a_record_is_reused_only_when_nobody_shows_it():
    d = pendel.open_drive(pendel.__path__[0] + "/examples/cabin_fan.pendel")
    prepared = prepare(d.document)
    first = run_drive(prepared, until=0.02)
    kept, place = first.rows.copy(), first.rows.ctypes.data
    told, second_place = first.ticks.copy(), first.ticks.ctypes.data
    second = run_drive(prepared, until=0.02)
    assert second.rows.ctypes.data != place
    part = first.rows[5:20]
    del first
    gc.collect()
    third = run_drive(prepared, until=0.02)
    assert third.rows.ctypes.data != place  # a part of it is still shown
    assert third.ticks.ctypes.data == second_place
    np.testing.assert_array_equal(part, kept[5:20])
    del part
    gc.collect()
    assert len(simulator.SPARE_ROWS.blocks) == 1
    fourth = run_drive(prepared, until=0.02)
    assert fourth.rows.ctypes.data == place
    for run in (second, third, fourth):
        np.testing.assert_array_equal(run.rows, kept)
        np.testing.assert_array_equal(run.ticks, told)


def leg_between_two_sources(method):
    """A leg at half its duty on a choke whose current an alternating source swings to and fro."""
    d = pendel.Drive("Leg")
    for name, text in (("tick", "50 us"), ("until", "10 ms"), ("level", "switching"), ("method", method)):
        d.set(name, text)
    d.add("dc_source", "Link", U_0="400", R_i="20")
    d.add("half_bridge", "Leg", f_p="20", t_dead="2 us")
    d.add("pair_opener", "Out")
    d.add("inductor", "Coil", L="2", R_s="100")
    d.add("ac_source", "Grid", U="40", f="400", R_i="50", L_i="0.2")
    d.add("dc_source", "Middle", U_0="200", R_i="0")
    d.add("pair_opener", "Ends")
    d.add("step", "Duty", before="0.5", after="0.5")
    for a, b in (
        ("link.dc", "leg.dc"),
        ("leg.out", "out.pair"),
        ("out.plus", "coil.a"),
        ("coil.b", "grid.a"),
        ("grid.b", "ends.plus"),
        ("ends.pair", "middle.dc"),
        ("ends.minus", "out.minus"),
        ("duty.out", "leg.duty"),
    ):
        d.connect(a, b)
    return d


@pytest.mark.parametrize("method", ["auto", "fast", "stiff"])
def test_sets_of_modes_that_a_run_jumps_to_are_solutions(method):
    """At an edge the loop first tries the set of modes in which the same edge ended before, which is wrong wherever a
    current has changed its sign. Whatever it takes, no guard of the recorded modes is above zero: no diode blocks
    forward or conducts backward, by more than a step may err (V, A)."""
    run = leg_between_two_sources(method).run()
    structure, rows, parameters = run.kept.structure, run.kept.rows, run.kept.parameters
    library = runtime.load(structure.source)
    nx, nu, _ = structure.row_shape
    settled = np.append(np.diff(rows[:, 0]) > 0, True)  # of rows at one instant, the last
    guards, dx, hoisted = np.zeros(len(structure.transitions)), np.zeros(nx), np.zeros(library.pd_hoisted() + 1)
    for row in rows[settled]:
        x, u, s = (part.copy() for part in np.split(row[1:], [nx, nx + nu]))
        library.pd_hoist(*map(address, (parameters, s, hoisted)))
        library.pd_guarded(ctypes.c_double(row[0]), *map(address, (x, u, s, parameters, hoisted, dx, guards)))
        ends = [g for g, (mode, begun, _) in zip(guards, structure.transitions) if s[mode] == begun]
        assert max(ends) <= 1e-4
    coil = run.at("coil.current", np.linspace(1e-3, 10e-3, 2000))
    assert np.max(coil) > 3 and np.min(coil) < -3


@pytest.mark.parametrize(("method", "most"), [("auto", 2e-6), ("fast", 2e-4)])
def test_steps_of_low_order_are_not_believed_after_a_jump(method, most):
    """A step that tells no error of its own is proven by those before it, which know nothing of what a jump sets going:
    the choke's current when its duty jumps, an op-amp with 50 ns behind 20 µs ticks. References: order 5 at 1e-10,
    order 4 (stiff)."""
    d = leg_between_two_sources("explicit")
    d.set("duty.after", "0.9")
    d.set("duty.t_0", "5 ms")
    d.set("tolerance", "1e-10")
    wanted = d.run()["coil.current"]
    d.set("method", method)
    d.set("tolerance", "1e-6")
    got = d.run().at("coil.current", wanted.t)
    assert np.max(np.abs(got - wanted.y)) < most * np.max(np.abs(wanted.y))
    d = pendel.open_drive(pendel.__path__[0] + "/examples/analogue_controller.pendel")
    d.set("method", "stiff")
    wanted = d.run()["amplifier.output"]
    d.set("method", method)
    assert np.max(np.abs(d.run().at("amplifier.output", wanted.t) - wanted.y)) < 1e-3


def address(array):
    return ctypes.c_void_p(array.ctypes.data)


@pytest.mark.parametrize("name", ["valley_filter", "haul_drive", "wayside_supply"])
def test_extremes_of_watched_signals_are_those_of_all_that_was_recorded(name):
    """Worked out by C of their own, and by that of all signals: one with loops that are found numerically has no
    other."""
    prepared = prepare(load_drive(EXAMPLES / f"{name}.pendel"))
    run = run_drive(prepared, until=0.004)
    structure, rows, parameters = prepared.structure, run.rows, prepared.parameters
    keys = [*structure.signals[::7], structure.signals[-1]]
    whole = rows_of_record.evaluate_signals(structure, rows, parameters, keys)
    for parts in (1, 9, len(rows)):
        size = len(rows) // parts
        for lean in (None, rows_of_record.lean_library(structure, keys)):
            found = rows_of_record.extremes(structure, rows, parameters, keys, parts, lean)
            for (t, y), column in zip(found, whole.T):
                assert np.all(np.diff(t) >= 0) and t[-1] <= rows[-1, 0]
                if size < 4:
                    assert np.allclose(y, column, rtol=1e-10) and np.array_equal(t, rows[:, 0])
                    continue
                n, stretches = len(rows) // size * size, column[: len(rows) // size * size].reshape(-1, size)
                pairs = y[: 2 * len(stretches)].reshape(-1, 2)
                assert np.allclose(pairs.min(axis=1), stretches.min(axis=1), rtol=1e-10)
                assert np.allclose(pairs.max(axis=1), stretches.max(axis=1), rtol=1e-10)
                assert np.allclose(y[2 * len(stretches) :], column[n:], rtol=1e-10)
