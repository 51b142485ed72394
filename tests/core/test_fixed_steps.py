"""Steps of a fixed length: by matrices kept with the modes where equations are affine in the states, else by these."""

import ctypes
from dataclasses import replace
from pathlib import Path

import casadi as ca
import numpy as np
import pytest

import pendel
from pendel.core.drive.file import load
from pendel.core.plant import runtime
from pendel.core.plant.affine import Reach, moving_part, reaches
from pendel.core.plant.compiler import build_library
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import RunSettings
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import prepare
from tests.campaigns.truth.slices import in_slices

EXAMPLES = Path(pendel.__file__).parent / "examples"
T, X, U, S, P = (ca.SX.sym(n, k) for n, k in (("t", 1), ("x", 2), ("u", 1), ("s", 1), ("p", 2)))
SYMBOLS = {"t": T, "x": X, "u": U, "s": S, "p": P, "z": ca.SX.sym("z", 1)}


@pytest.mark.parametrize(
    ("method", "step", "share"), [("fixed", "1 us", 1.5), ("fixed", "0.2 us", 0), ("auto", "1 us", 0)]
)
def test_fixed_steps_say_what_part_of_the_energy_they_lose(method, step, share):
    drive = pendel.open(EXAMPLES / "valley_feeder.pendel")
    drive.set("method", method)
    drive.set("step", step)
    run = drive.run()
    balance = run.balance(0, run.kept.end)
    flows = [run.kept.pieces(f"supplied:{card}").integral(0, run.kept.end) for card in ("link", "grid")]
    assert 100 * abs(balance.open) / max(map(abs, flows)) == pytest.approx(share, abs=0.5)
    said = [remark for remark in run.remarks if "not accounted for" in remark]
    assert [f"{share} %" in remark for remark in said] == ([True] if share else [])


@pytest.mark.parametrize(
    ("expression", "reach"),
    [
        (P[0] / P[1] * S, Reach.VALUES),
        (ca.sin(P[0] * T) * U[0], Reach.TIME),
        (ca.if_else(S > 0, P[0], 2) * X[0] / P[1] - ca.fabs(U) + ca.sin(T), Reach.STATES),
        (-2 * (X[0] + X[1]), Reach.STATES),
        (X[0] * T, Reach.ANYTHING),  # a factor that moves
        (X[0] / U, Reach.ANYTHING),
        (P[0] / X[0], Reach.ANYTHING),
        (X[0] * X[1], Reach.ANYTHING),
        (ca.sign(X[0]), Reach.ANYTHING),  # whose derivative is zero nearly everywhere
        (ca.floor(X[1]) + T, Reach.ANYTHING),
        (ca.if_else(X[0] > 0, P[0], P[1]), Reach.ANYTHING),
        (ca.fmax(X[0], X[1]), Reach.ANYTHING),
        (SYMBOLS["z"] + P[0], Reach.ANYTHING),  # what is found numerically
    ],
)
def test_what_is_affine_in_the_states_is_told_from_the_expression(expression, reach):
    assert reaches(SYMBOLS, ca.SX(expression)) == [reach]


def test_only_what_time_and_inputs_move_is_worked_out_at_each_step():
    rows = ca.vertcat(P[0] * X[0] + 3, X[1] + ca.sin(T), U - X[0], X[0] - X[1])
    assert moving_part(SYMBOLS, rows) == (1, 2)
    assert moving_part(SYMBOLS, ca.vertcat(rows, X[0] * U)) is None


CALLS = r"""
/* x' = A x + (0, 2 + sin 40 t, -1) with the guard x_0 - level, whose mode changes nothing: an example known in
   closed recursion. */
static double level;
static int turned;
static void any_rhs(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *dx)
{
    int i, j;
    (void)u; (void)s; (void)h;
    for (i = 0; i < 3; i++)
        for (dx[i] = i == 1 ? 2 + sin(40 * t) : i == 2 ? -1 : 0, j = 0; j < 3; j++) dx[i] += p[3 * i + j] * x[j];
}
static void any_guarded(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *dx, double *g)
{
    any_rhs(t, x, u, s, p, h, dx);
    g[0] = x[0] - level;
}
static void any_jac(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *jac, double *dfdt)
{
    int i, j;
    (void)t; (void)x; (void)u; (void)s; (void)h; (void)dfdt;
    for (i = 0; i < 3; i++) for (j = 0; j < 3; j++) jac[i + 3 * j] = p[3 * i + j];
}
static void any_affine(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *c, double *k)
{
    (void)t; (void)x; (void)u; (void)s; (void)p; (void)h;
    c[0] = c[1] = 0; c[2] = -1; c[3] = -level;
    k[0] = 1; k[1] = k[2] = 0;
}
static void any_forced(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *b)
{
    (void)x; (void)u; (void)s; (void)p; (void)h;
    b[0] = 2 + sin(40 * t);
}
static void any_hoist(const double *p, const double *s, double *h) { (void)p; (void)s; (void)h; }

/* Rows of t and x from a run in steps of `step` with an edge at `corner`; returns how many. */
long fixed_run(const double *matrix, const double *start, double step, double until, double corner, double at,
    int how, double *rows)
{
    static double atol_[3] = {1e-9, 1e-9, 1e-9}, mode[1], told[1], times[2], levels[2];
    static int mode_of[1] = {0}, from[1] = {0}, to[1] = {1}, flag[1], corners[1] = {2}, forced[1] = {1};
    run_t r;
    work_t *w;
    long k;
    memset(&r, 0, sizeof r);
    times[1] = corner;
    r.nx = 3; r.n_mode = r.n_guard = r.n_profile = 1; r.t_end = until; r.rtol = 1e-9; r.h_max = 1;
    r.max_rows_log2 = 24; r.row_limit = 1000000;
    r.p = matrix; r.x0 = start; r.s0 = mode; r.atol = atol_; r.method = FIXED; r.fixed_step = step;
    r.steady_jacobian = 1;
    r.rhs = any_rhs; r.guarded = any_guarded; r.jac = any_jac; r.hoist = any_hoist; r.affine = any_affine;
    r.forced = any_forced;
    r.n_forced = how < 0 ? -1 : 1; r.forced_places = forced;
    r.exit_mode = mode_of; r.exit_from = from; r.exit_to = to;
    r.profile_count = corners; r.profile_times = times; r.profile_values = levels;
    r.stop = (_Atomic int *)flag; r.progress = (_Atomic double *)told;
    level = at;
    w = pd_open(&r);
    if (how >= 0) w->wide = w->wide && how;
    pd_advance(w, INFINITY);
    turned = w->s[0] > 0;
    for (k = 0; k < r.n_rows; k++) memcpy(rows + 4 * k, r.rows + k * w->width, 4 * sizeof *rows);
    free(r.rows);
    pd_close(w);
    return k;
}
int has_turned(void) { return turned; }
"""


@pytest.fixture(scope="module")
def loop():
    """Unrolled for these sizes, and for any."""
    found = []
    for sizes in (None, (3, 2, 1, 1, 1)):
        text = runtime.loop_source(sizes) + CALLS
        library = ctypes.CDLL(str(build_library(text, flags=runtime.LOOP_FLAGS)))
        library.fixed_run.restype = ctypes.c_long
        found.append(library)
    return found


MATRIX = np.array([[-50.0, 20.0, 0.0], [-30.0, -5.0, 400.0], [0.5, -300.0, -2.0]])
START = np.array([1.0, -0.5, 0.25])


def fixed_run(library, step, until, corner, level, how):
    rows = np.zeros((20000, 4))
    numbers = [ctypes.c_double(v) for v in (step, until, corner, level)]
    matrix, start = (ctypes.c_void_p(a.ctypes.data) for a in (MATRIX, START))
    n = library.fixed_run(matrix, start, *numbers, how, ctypes.c_void_p(rows.ctypes.data))
    return rows[:n], library.has_turned()


def by_recursion(times):
    """The linearly implicit Euler method from each time to the next: (I - h J) (x_1 - x_0) = h f(t_0, x_0), Hairer
    and Wanner II, section IV.9."""
    x = [START]
    for t, h in zip(times, np.diff(times)):
        f = MATRIX @ x[-1] + [0, 2 + np.sin(40 * t), -1]
        x.append(x[-1] + np.linalg.solve(np.eye(3) - h * MATRIX, h * f))
    return np.array(x)


@pytest.mark.parametrize("corner", [0.00437, 0.004999, 0.005, 1.0])
def test_maps_and_equations_make_the_steps_of_the_method(loop, corner):
    """With an edge inside a step, just before a grid point, on one, and none; by equations, by products of two
    numbers and of four, in both loops. The record leaves out what lies on straight lines to 1e-5."""
    step, until = 1e-4, 0.0207
    times = np.union1d(np.append(np.arange(0, 207) * step, until), [c for c in (corner,) if c < until])
    times = times[np.append(True, np.diff(times) > 1e-12)]
    wanted = by_recursion(times)
    runs = [fixed_run(library, step, until, corner, 1e9, how)[0] for library in loop for how in (-1, 0, 1)]
    for rows in runs:
        places = np.searchsorted(times, rows[:, 0] - 1e-9)
        assert np.allclose(times[places], rows[:, 0], rtol=0, atol=1e-12) and len(rows) > 100
        assert np.allclose(rows[:, 1:], wanted[places], rtol=1e-12, atol=1e-12)
    for same in (runs[2], runs[4], runs[5]):
        assert np.array_equal(same, runs[1]), "to the bit, however it is reckoned"


@pytest.mark.parametrize("how", [-1, 0, 1])
def test_a_guard_is_seen_whatever_the_step_is_made_by(loop, how):
    peak = by_recursion(np.arange(0, 207) * 1e-4)[:, 0].max()
    assert [fixed_run(loop[1], 1e-4, 0.0206, 1.0, at, how)[1] for at in (peak * 0.999, peak * 1.001)] == [
        1,
        0,
    ]


def drive_of(name, level):
    drive = load(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    return drive


@pytest.mark.parametrize(
    ("name", "level"),
    [
        ("valley_filter", "switching"),  # a rectifier's diodes, dead time, a source that swings
        ("valley_feeder", "switching"),  # all guards move with inputs
        ("haul_inverter", "device"),  # nothing moves
    ],
)
def test_examples_run_by_maps_as_by_their_equations_and_in_any_loop_to_the_bit(name, level):
    prepared = prepare(drive_of(name, level))
    inputs = prepared.inputs(RunSettings(0.011, 1e-6, "fixed", h_max=1e-4, fixed_step=1e-6))
    assert prepared.structure.forced is not None
    by_maps = integrate(prepared.program, inputs)
    cut = in_slices(prepared.program, inputs)
    assert np.array_equal(cut.rows, by_maps.rows) and cut.counters == by_maps.counters
    runtime.build_fastest(prepared.structure)
    with Simulator(prepared.program, inputs) as unrolled:
        assert unrolled.loop is not runtime.time_loop()
        unrolled.advance()
        assert np.array_equal(unrolled.recorded().rows, by_maps.rows)
    plain = replace(prepared.program, structure=replace(prepared.structure, forced=None))
    by_equations = integrate(plain, inputs)
    states = slice(1, 1 + len(prepared.structure.state_keys))
    at = np.arange(0, 0.011, 1e-5)
    ours, theirs = (
        np.array([np.interp(at, r.rows[:, 0], x) for x in r.rows[:, states].T]) for r in (by_maps, by_equations)
    )
    peaks = np.abs(theirs).max(axis=1)
    assert np.all(np.abs(ours - theirs).max(axis=1) <= 1e-7 * peaks)
