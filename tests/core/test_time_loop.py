"""The files of the time loop by themselves, each called from a few lines of C."""

import ctypes

import numpy as np
import pytest
import scipy.linalg

from pendel.core.plant import runtime
from pendel.core.plant.compiler import build_library

CALLS = r"""
/* x' = A x + b with the guard x_0 - level: linear, so that every method's result is known. */
static double A[9], b[3], level, steep, later;
static int n_calls;
static void linear_rhs(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *dx)
{
    int i, j;
    (void)t; (void)u; (void)s; (void)h;
    n_calls++;
    for (i = 0; i < 3; i++) { dx[i] = b[i]; for (j = 0; j < 3; j++) dx[i] += p[3 * i + j] * x[j]; }
}
static void linear_guarded(double t, const double *x, const double *u, const double *s, const double *p,
    const double *h, double *dx, double *g)
{
    linear_rhs(t, x, u, s, p, h, dx);
    g[0] = x[0] - level;
    if (steep > 0) g[1] = steep * (x[0] - later);
}
static void linear_jac(double t, const double *x, const double *u, const double *s, const double *p, const double *h,
    double *jac, double *dfdt)
{
    int i, j;
    (void)t; (void)x; (void)u; (void)s; (void)h;
    for (i = 0; i < 3; i++) { dfdt[i] = 0; for (j = 0; j < 3; j++) jac[i + 3 * j] = p[3 * i + j]; }
}
static void no_hoist(const double *p, const double *s, double *h) { (void)p; (void)s; (void)h; }
static double atol_[3] = {1e-12, 1e-12, 1e-12}, at_start[3], mode_at_start[1];
static int exit_mode[2] = {0, 0}, exit_from[2] = {0, 0}, exit_to[2] = {1, 2}, flags[1];
static double told[1], times[8], levels[8];
static int corners[1];

static run_t linear_run(const double *matrix, const double *x)
{
    run_t r;
    memset(&r, 0, sizeof r);
    memcpy(A, matrix, sizeof A);
    memcpy(at_start, x, sizeof at_start);
    r.nx = 3; r.n_mode = 1; r.n_guard = 1; r.t_end = 1; r.rtol = 1e-9; r.h_max = 1; r.max_rows_log2 = 24;
    r.row_limit = 100000;
    r.p = A; r.x0 = at_start; r.s0 = mode_at_start; r.atol = atol_;
    r.rhs = linear_rhs; r.guarded = linear_guarded; r.jac = linear_jac; r.hoist = no_hoist;
    r.exit_mode = exit_mode; r.exit_from = exit_from; r.exit_to = exit_to;
    r.stop = (_Atomic int *)flags; r.progress = (_Atomic double *)told;
    level = 1e300;
    return r;
}

/* One step of a method: the result; returns the error over the tolerance. */
double one_step(int which, const double *matrix, const double *x, double h, double *to, int *calls)
{
    const method_t *methods[] = {&DOPRI5, &KUTTA3, &MIDPOINT, &RODAS4};
    run_t r = linear_run(matrix, x);
    work_t *w = pd_open(&r);
    double error;
    w->method = methods[which];
    w->checked_curvature = w->checked_step = 1;
    refresh(w);
    n_calls = 0;
    error = w->method->step(w, h);
    *calls = n_calls;
    finish(w, h);
    memcpy(to, w->xn, 3 * sizeof *to);
    memcpy(to + 3, w->k[w->method->end], 3 * sizeof *to);
    pd_close(w);
    return error;
}

/* (shift * I - J) x = b by sparse factors; returns 0 where they were not taken. */
int solved_sparsely(int n, int n_jac, const int *places, const int *order, const double *jac, double shift, double *b)
{
    run_t r;
    sparse_t f;
    int good;
    memset(&r, 0, sizeof r);
    r.nx = n; r.n_jac = n_jac; r.jac_places = places; r.jac_order = order;
    if (!open_sparse(&f, &r)) return 0;
    good = factorise_sparse(&f, &r, jac, shift);
    if (good) solve_sparse(&f, &r, b);
    close_sparse(&f);
    return good;
}

/* The state at a share of a step of h, as crossings are looked for in it. */
void within_a_step(int which, const double *matrix, const double *x, double h, double share, double *to)
{
    const method_t *methods[] = {&DOPRI5, &KUTTA3, &MIDPOINT, &RODAS4};
    run_t r = linear_run(matrix, x);
    work_t *w = pd_open(&r);
    w->method = methods[which];
    w->checked_curvature = w->checked_step = 1;
    refresh(w);
    w->method->step(w, h);
    finish(w, h);
    span_step(w, h);
    look_within(w, h, share * h);
    memcpy(to, w->xt, 3 * sizeof *to);
    pd_close(w);
}

/* Where a step of h crosses x_0 = at, and how often it looked; where ``slope`` is not 0, another guard of that slope
 * crosses at x_0 = ``second``. */
double crossing_of(const double *matrix, const double *x, double h, double at, double slope, double second, int *looks)
{
    run_t r = linear_run(matrix, x);
    work_t *w;
    double found;
    steep = slope;
    later = second;
    r.n_guard = slope > 0 ? 2 : 1;
    w = pd_open(&r);
    level = at;
    refresh(w);
    w->method = &DOPRI5;
    w->method->step(w, h);
    n_calls = 0;
    found = locate(w, h);
    *looks = n_calls;
    steep = 0;
    pd_close(w);
    return found;
}

double radius_of(const double *matrix) { double x[3] = {0}; run_t r = linear_run(matrix, x); work_t *w = pd_open(&r);
    double found = w->set->radius; pd_close(w); return found; }

int values_of(double *a, int n, double *re, double *im) { return eigenvalues(a, n, re, im); }

int solved(double *a, int *pivots, int n, double *right) {
    if (!factorise(a, pivots, n)) return 0;
    solve(a, pivots, n, right); return 1; }

/* Offset and slope of a profile at times, and the corner ahead. */
void profile_at(int n, const double *at, const double *values, double t, double *found)
{
    double matrix[9] = {0}, x[3] = {0};
    run_t r = linear_run(matrix, x);
    work_t *w;
    corners[0] = n;
    memcpy(times, at, (size_t)n * sizeof *at);
    memcpy(levels, values, (size_t)n * sizeof *values);
    r.n_profile = 1; r.profile_count = corners; r.profile_times = times; r.profile_values = levels;
    w = pd_open(&r);
    w->t = t;
    found[2] = enter_stretch(w);
    found[0] = w->u[0]; found[1] = w->u[1];
    pd_close(w);
}

/* Rows kept of a record of n rows at equal times when it is thinned; returns how many. */
long thinned(double *times_of_rows, long n, long limit)
{
    double matrix[9] = {0}, x[3] = {0};
    run_t r = linear_run(matrix, x);
    work_t *w = pd_open(&r);
    long k, kept;
    r.row_limit = limit;
    for (k = 0; k < n; k++) { w->t = times_of_rows[k]; if (!record(w)) return -1; }
    kept = r.n_rows;
    for (k = 0; k < kept; k++) times_of_rows[k] = r.rows[k * w->width];
    free(r.rows);
    pd_close(w);
    return kept;
}

/* Sets of modes, more than there are places: those met of late are known, and what is found has the modes asked for. */
int sets_known(int count, int rounds)
{
    double matrix[9] = {0}, x[3] = {0};
    run_t r = linear_run(matrix, x);
    work_t *w = pd_open(&r);
    int k, j, wrong = 0;
    for (j = 0; j < rounds; j++) for (k = 0; k < count; k++) {
        w->s[0] = k % 100;
        enter_modes(w, SEVERAL);
        wrong += w->set->s[0] != w->s[0] || w->set->n_active != (w->s[0] == 0);
    }
    wrong += w->n_sets > w->n_slots || (count <= 100 && w->fillings != (count < 100 ? count : 100));
    pd_close(w);
    return wrong;
}
"""


@pytest.fixture(scope="module")
def loop():
    source = runtime.loop_source() + CALLS
    library = ctypes.CDLL(str(build_library(source, flags=runtime.LOOP_FLAGS)))
    for name in ("one_step", "crossing_of", "radius_of"):
        getattr(library, name).restype = ctypes.c_double
    library.thinned.restype = ctypes.c_long
    return library


def at(array):
    return ctypes.c_void_p(array.ctypes.data)


MATRIX = np.array([[-1.0, 2.0, 0.0], [-3.0, -0.5, 1.0], [0.5, 0.0, -2.0]])
START = np.array([1.0, -0.5, 0.25])
METHODS = {"dopri5": (0, 5, 6), "kutta3": (1, 3, 2), "midpoint": (2, 2, 1), "rodas4": (3, 4, 6)}


@pytest.mark.parametrize("name", METHODS)
def test_a_method_has_its_order_its_cost_and_the_derivative_at_the_end(loop, name):
    """Against the matrix exponential: the error of one step goes with h to the power of order + 1."""
    which, order, evaluations = METHODS[name]
    errors, told = [], []
    for h in (0.1, 0.05):
        to, calls = np.zeros(6), ctypes.c_int()
        told.append(loop.one_step(which, at(MATRIX), at(START), ctypes.c_double(h), at(to), ctypes.byref(calls)))
        errors.append(np.max(np.abs(to[:3] - scipy.linalg.expm(MATRIX * h) @ START)))
        assert to[3:] == pytest.approx(MATRIX @ to[:3], abs=1e-12)
        assert calls.value == evaluations
    assert np.log2(errors[0] / errors[1]) == pytest.approx(order + 1, abs=0.35)
    if name != "midpoint":
        assert np.log2(told[0] / told[1]) > order - 0.6, "its estimate shrinks with the order of the method inside it"
        assert told[1] * 1e-9 > 0.1 * errors[1], "and is no smaller than the error"


@pytest.mark.parametrize("name, order", [("dopri5", 4), ("kutta3", 3), ("midpoint", 2)])
def test_the_state_within_a_step_is_as_exact_as_its_method_says(loop, name, order):
    """Of DOPRI5 the continuous extension of order 4: Hairer, Norsett, Wanner I, section II.6."""
    errors = []
    for h in (0.04, 0.02):
        to, worst = np.zeros(3), 0.0
        for share in (0.15, 0.3, 0.5, 0.85):
            loop.within_a_step(METHODS[name][0], at(MATRIX), at(START), *map(ctypes.c_double, (h, share)), at(to))
            worst = max(worst, np.max(np.abs(to - scipy.linalg.expm(MATRIX * h * share) @ START)))
        errors.append(worst)
    assert np.log2(errors[0] / errors[1]) > order + 0.7


@pytest.mark.parametrize("slope", [0.0, 0.3, 30.0])
@pytest.mark.parametrize("behind", [1e-4, 0.02, 0.5])
@pytest.mark.parametrize("h, share", [(0.05, 0.3), (0.05, 0.999), (0.2, 1e-6)])
def test_the_first_crossing_of_a_step_is_found_just_behind_it_in_a_few_looks(loop, h, share, behind, slope):
    """Also where another guard, crossed later, is further above zero at the end, so that the worst of both has a
    corner."""
    crossed, next_crossed = share * h, (share + behind * (1 - share)) * h
    matrix = MATRIX if (scipy.linalg.expm(MATRIX * crossed) @ START)[0] > START[0] else -MATRIX
    level, later = ((scipy.linalg.expm(matrix * t) @ START)[0] for t in (crossed, next_crossed))
    looks = ctypes.c_int()

    found = loop.crossing_of(
        at(np.ascontiguousarray(matrix)),
        at(START),
        *map(ctypes.c_double, (h, level, slope, later)),
        ctypes.byref(looks),
    )

    assert -1e-7 <= (found - crossed) / h < 2e-5, "to what the step itself errs"
    assert looks.value <= 5


def test_small_systems_are_solved_as_numpy_solves_them_and_singular_ones_refused(loop):
    rng = np.random.default_rng(2)
    for n in (1, 2, 7, 24):
        a, right = rng.normal(size=(n, n)), rng.normal(size=n)
        a[0, 0] = 0.0 if n > 1 else a[0, 0]
        wanted, mine, pivots = np.linalg.solve(a, right), right.copy(), np.zeros(n, dtype=np.int32)
        assert loop.solved(at(a.copy()), at(pivots), n, at(mine)) == 1
        assert mine == pytest.approx(wanted, rel=1e-9, abs=1e-9)
    assert loop.solved(at(np.ones((2, 2))), at(np.zeros(2, dtype=np.int32)), 2, at(np.ones(2))) == 0


def test_the_radius_is_that_of_the_absolute_values(loop):
    """Perron: it bounds the spectral radius; a mean growth over eight rounds is near it."""
    bound = np.max(np.abs(np.linalg.eigvals(np.abs(MATRIX))))
    assert loop.radius_of(at(MATRIX)) == pytest.approx(bound, rel=0.02)
    assert loop.radius_of(at(np.array([[0, 1e3, 0], [-1e3, 0, 0], [0, 0, -1.0]]))) == pytest.approx(1e3, rel=0.02)


@pytest.mark.parametrize("seed", range(4))
def test_eigenvalues_are_those_of_lapack(loop, seed):
    """Of random, badly scaled, triangular, circulant and defective matrices; which are what oscillations are known
    by."""
    rng = np.random.default_rng(seed)
    scales = 10.0 ** rng.uniform(-6, 6, 30)
    swinging = np.kron(np.diag(rng.uniform(1, 50, 8)), [[0, 1], [-1, -1e-5]])
    for a, exact in (
        (rng.normal(size=(1, 1)), 1e-14),
        (rng.normal(size=(2, 2)), 1e-13),
        (rng.normal(size=(30, 30)), 1e-11),
        (rng.normal(size=(30, 30)) * scales[:, None] / scales, 1e-9),
        (np.triu(rng.normal(size=(12, 12))), 1e-9),
        (np.roll(np.eye(9), 1, axis=0), 1e-12),
        (swinging, 1e-12),
        (np.diag(np.ones(5), 1), 1e-9),
        (np.zeros((4, 4)), 1e-14),
    ):
        n = len(a)
        re, im = np.zeros(n), np.zeros(n)
        assert loop.values_of(at(np.ascontiguousarray(a)), n, at(re), at(im)) == n
        wanted = np.linalg.eigvals(a)
        gaps = np.abs((re + 1j * im)[:, None] - wanted)
        assert max(gaps.min(0).max(), gaps.min(1).max()) < exact * max(1.0, np.abs(wanted).max())


def test_profiles_are_straight_between_corners_level_outside_and_jump_where_two_are_at_one_time(loop):
    times, values = np.array([0.1, 0.3, 0.3, 0.6]), np.array([1.0, 3.0, -1.0, 2.0])
    for t, level, slope, ahead in (
        (0.0, 1.0, 0.0, 0.1),
        (0.1, 1.0, 10.0, 0.3),
        (0.3, -1.0, 10.0, 0.6),
        (0.6, 2.0, 0.0, np.inf),
        (9.0, 2.0, 0.0, np.inf),
    ):
        found = np.zeros(3)
        loop.profile_at(4, at(times), at(values), ctypes.c_double(t), at(found))
        assert (
            found[0] + found[1] * t == pytest.approx(level) and found[1] == pytest.approx(slope) and found[2] == ahead
        )


def test_a_record_that_is_thinned_keeps_its_ends_and_its_order(loop):
    for times in (
        np.linspace(0, 1, 5000),
        np.geomspace(1e-6, 1, 5000),
        np.repeat(np.linspace(0, 1, 2500), 2),
    ):
        rows = np.ascontiguousarray(times)
        kept = loop.thinned(at(rows), ctypes.c_long(len(rows)), ctypes.c_long(1000))
        assert 200 < kept <= 1001
        assert rows[0] == times[0] and rows[kept - 1] == times[-1] and np.all(np.diff(rows[:kept]) >= 0)


def test_sets_of_modes_are_known_again(loop):
    assert loop.sets_known(100, 3) == 0
    assert loop.sets_known(1, 5) == 0


@pytest.mark.parametrize("share, seed", [(0.01, 1), (0.03, 2), (0.2, 3)])
def test_few_entries_are_solved_as_all_are(loop, share, seed):
    """Against LAPACK, from a shift that makes the diagonal large to one that leaves the pivots to be looked for."""
    rng = np.random.default_rng(seed)
    n = 90
    J = np.where(rng.random((n, n)) < share, rng.normal(size=(n, n)), 0.0)
    J[np.arange(n - 1), np.arange(1, n)] = rng.normal(size=n - 1)  # so that no column stands alone
    places = np.flatnonzero(J.T.ravel()).astype(np.int32)
    order = rng.permutation(n).astype(np.int32)
    for shift in (100.0, 1.0, 1e-3):
        b = rng.normal(size=n)
        found = b.copy()
        flat = np.ascontiguousarray(J.T).ravel()
        assert loop.solved_sparsely(n, len(places), at(places), at(order), at(flat), ctypes.c_double(shift), at(found))
        A = shift * np.eye(n) - J
        assert np.max(np.abs(A @ found - b)) < 1e-13 * np.linalg.cond(A) * np.max(np.abs(b))
    none = np.zeros(n * n)
    assert not loop.solved_sparsely(
        n, 1, at(np.array([5], np.int32)), at(order), at(none), ctypes.c_double(0.0), at(b)
    ), "nothing on the diagonal: singular"
