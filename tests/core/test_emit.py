"""What the emitter writes: C that gives what CasADi's own evaluation gives, and as little of it as the form allows."""

import ctypes
import tempfile
from dataclasses import replace

import casadi as ca
import numpy as np
import pytest

import pendel
from pendel.core.plant import compiler, emit, pieces
from pendel.core.plant.compiler import UNIT, build_library
from pendel.core.plant.emit import TURN, Emitter
from pendel.core.plant.integrate import integrate
from pendel.core.plant.rows import evaluate_signals, extremes, lean_library
from pendel.core.runs.preparing.simulate import endless_settings, prepare

SIZES = {"t": 1, "x": 3, "u": 2, "s": 4, "p": 5}


@pytest.fixture
def symbols():
    return {name: ca.SX.sym(name, size) for name, size in SIZES.items()}


def pointer(array):
    return ctypes.c_void_p(array.ctypes.data)


def emitted(symbols, outputs):
    """The text for some outputs, and a function from values by name to them."""
    emitter = Emitter(symbols)
    emitter.function("pd_rhs", [("dx", ca.vertcat(*outputs))])
    source = emitter.source()
    library = ctypes.CDLL(str(build_library(source)))
    library.pd_hoist.restype = library.pd_rhs.restype = None

    def evaluate(values):
        hoisted, out = np.zeros(max(1, library.pd_hoisted())), np.zeros(len(outputs))
        library.pd_hoist(pointer(values["p"]), pointer(values["s"]), pointer(hoisted))
        library.pd_rhs(
            ctypes.c_double(values["t"][0]), *(pointer(values[n]) for n in "xusp"), pointer(hoisted), pointer(out)
        )
        return out

    return source, evaluate


def body(source):
    return source[source.index("void pd_rhs") :]


def grown(symbols, seed, count):
    """Random expressions over the symbols, each made of earlier ones, so that chains and shared parts are long."""
    rng = np.random.default_rng(seed)
    known = [e for s in symbols.values() for e in ca.vertsplit(s)] + [ca.SX(v) for v in (0.0, 1.0, -2.5, 2 * np.pi / 3)]
    two = (
        lambda a, b: a + b,
        lambda a, b: a - b,
        lambda a, b: a * b,
        lambda a, b: a / (2.5 + ca.fabs(b)),
        ca.fmin,
        ca.fmax,
        lambda a, b: ca.if_else(a > b, a, b * 0.5),
    )
    one = (
        lambda a: -a,
        lambda a: 2 * a,
        ca.sin,
        ca.cos,
        lambda a: ca.sin(a - 2 * np.pi / 3),
        lambda a: ca.cos(2 * np.pi / 3 - a),
        ca.tanh,
        ca.fabs,
    )
    for _ in range(count):
        pick = [known[k] for k in rng.integers(len(known) // 3, len(known), 2)]
        made = two[rng.integers(len(two))](*pick) if rng.random() < 0.7 else one[rng.integers(len(one))](pick[0])
        known.append(made / (1 + 0.01 * made * made) if rng.random() < 0.2 else made)
    return known[-8:]


@pytest.mark.parametrize("seed", range(12))
def test_any_expression_gives_what_casadi_gives(symbols, seed):
    outputs = grown(symbols, seed, 60)
    _, evaluate = emitted(symbols, outputs)
    reference = ca.Function("f", list(symbols.values()), [ca.vertcat(*outputs)])
    rng = np.random.default_rng(100 + seed)
    for _ in range(20):
        values = {n: rng.uniform(-2, 2, size) for n, size in SIZES.items()}
        wanted = np.array(reference(*values.values())).ravel()
        np.testing.assert_allclose(evaluate(values), wanted, rtol=1e-9, atol=1e-9 * (1 + np.max(np.abs(wanted))))


def test_a_chain_of_steady_sums_and_products_is_one_product_and_one_sum(symbols):
    x, s, p = (ca.vertsplit(symbols[n]) for n in "xsp")
    current = x[0] * x[1]
    voltage = ((current * p[0] + s[0]) / p[1] - 3 * current) * s[1] - (p[2] - 2 * current)
    source, evaluate = emitted(symbols, [voltage])
    assert body(source).count(" * ") == 2, "that of the states, and one more"
    values = {n: np.linspace(0.3, 1.7, size) for n, size in SIZES.items()}
    a, b, c = values["x"], values["s"], values["p"]
    i = a[0] * a[1]
    assert evaluate(values)[0] == pytest.approx(((i * c[0] + b[0]) / c[1] - 3 * i) * b[1] - (c[2] - 2 * i), rel=1e-14)


def test_three_phases_share_one_sine_and_cosine(symbols):
    x, p = ca.vertsplit(symbols["x"]), ca.vertsplit(symbols["p"])
    shift = 2 * np.pi / 3
    outputs = [f(p[0] * x[0] + k * shift) for f in (ca.sin, ca.cos) for k in (0, -1, 1)]
    outputs += [ca.sin(p[1] - p[0] * x[0]), ca.cos(p[1] - p[0] * x[0])]
    source, evaluate = emitted(symbols, outputs)
    assert body(source).count("pd_turn(") == 1
    values = {n: np.linspace(0.4, 2.9, size) for n, size in SIZES.items()}
    angle, lead = values["p"][0] * values["x"][0], values["p"][1]
    wanted = [f(angle + k * shift) for f in (np.sin, np.cos) for k in (0, -1, 1)]
    wanted += [np.sin(lead - angle), np.cos(lead - angle)]
    np.testing.assert_allclose(evaluate(values), wanted, atol=1e-15 * 4)


@pytest.mark.parametrize("reach", [0.8, 7.0, 1e3, 9.9e5, 3e9])
def test_sine_and_cosine_are_those_of_the_library(reach):
    # NumPy's, which are exact to half a unit in the last place.
    text = f"#include <math.h>\n{TURN}void turn_all(const double *a, long n, double *s, double *c)\n"
    text += "{ long k; for (k = 0; k < n; k++) pd_turn(a[k], s + k, c + k); }\n"
    library = ctypes.CDLL(str(build_library(text)))
    quarters = np.pi / 2 * np.arange(-60, 61)
    angles = np.concatenate([np.random.default_rng(1).uniform(-reach, reach, 20_000), quarters, [0.0, -0.0, 1e-300]])
    sine, cosine = np.empty_like(angles), np.empty_like(angles)
    library.turn_all(pointer(angles), ctypes.c_long(len(angles)), pointer(sine), pointer(cosine))
    np.testing.assert_allclose(sine, np.sin(angles), atol=1.2e-16, rtol=0)
    np.testing.assert_allclose(cosine, np.cos(angles), atol=1.2e-16, rtol=0)
    for impossible in (np.inf, np.nan):
        one = np.array([impossible])
        library.turn_all(pointer(one), ctypes.c_long(1), pointer(sine), pointer(cosine))
        assert np.isnan(sine[0]) and np.isnan(cosine[0])


def test_a_plant_without_guards_evaluates_them_as_its_derivatives():
    """What modes would end with is nothing: both functions are one, and what is handed over for guards stays."""
    drive = pendel.Drive("Coil")
    drive.add("ac_source", "Feed", angle="40 deg")
    drive.add("inductor", "L")
    drive.add("resistor", "R", R="2")
    drive.add("ground", "Earth")
    for a, b in (("feed.a", "l.a"), ("l.b", "r.a"), ("r.b", "earth.line"), ("feed.b", "earth.line")):
        drive.connect(a, b)
    prepared = prepare(drive.document)
    assert not prepared.structure.transitions
    library = ctypes.CDLL(str(build_library(prepared.structure.source)))
    library.pd_hoist.restype = library.pd_rhs.restype = library.pd_guarded.restype = None
    n = len(prepared.structure.state_keys)
    x, dx, guarded, guards = np.linspace(1.0, 2.0, n), np.zeros(n), np.zeros(n), np.full(3, 7.0)
    nothing, hoisted = np.zeros(8), np.zeros(library.pd_hoisted() + 1)
    given = [pointer(a) for a in (x, nothing, nothing, prepared.parameters, hoisted)]
    library.pd_hoist(given[3], given[2], given[4])
    library.pd_rhs(ctypes.c_double(0.0), *given, pointer(dx))
    library.pd_guarded(ctypes.c_double(0.0), *given, pointer(guarded), pointer(guards))
    np.testing.assert_array_equal(guarded, dx)
    assert np.any(dx != 0) and np.all(guards == 7.0)


@pytest.mark.parametrize("seed", [0, 1])
def test_a_long_unit_that_compiles_quickly_gives_the_same_numbers(symbols, seed, monkeypatch):
    """The compiler looks less far back in it, for what it has read already; that is its business and changes no bit."""
    outputs = grown(symbols, seed, 400)
    rng = np.random.default_rng(seed)
    values = {name: rng.uniform(-1, 1, size) for name, size in SIZES.items()}
    seen = []
    for longest in (10**6, 5):
        monkeypatch.setattr(compiler, "LONG", longest)
        monkeypatch.setenv("XDG_CACHE_HOME", tempfile.mkdtemp())  # its text is the same
        compiler.check_again()
        seen.append(emitted(symbols, outputs)[1](values))
    np.testing.assert_array_equal(*seen)


@pytest.mark.parametrize("seed", [0, 1, 2])
@pytest.mark.parametrize("piece", [1, 3, 7])
def test_a_function_in_pieces_gives_the_same_numbers(symbols, seed, piece, monkeypatch):
    outputs, rng = grown(symbols, seed, 150), np.random.default_rng(seed)
    values = {name: rng.uniform(-1, 1, size) for name, size in SIZES.items()}
    wanted = emitted(symbols, outputs)[1](values)
    monkeypatch.setattr(pieces, "LONG", 5)
    monkeypatch.setattr(pieces, "PIECE", piece)
    text, evaluate = emitted(symbols, outputs)
    assert "void pd_rhs_piece_1(" in text
    np.testing.assert_array_equal(evaluate(values), wanted)


@pytest.mark.parametrize("example", ["wayside_supply", "haul_drive_tables", "cabin_fan"])
def test_a_plant_in_pieces_and_units_runs_to_the_same_bit(example, monkeypatch):
    """With what is found by iteration, with flux tables, and with modes that are entered at zero."""
    d = pendel.open_example(example)
    d.set("level", "averaged")
    prepared = prepare(d.document)
    inputs = prepared.inputs(replace(endless_settings(prepared), until=0.004))
    whole = integrate(prepared.program, inputs)
    for module, name, value in ((pieces, "LONG", 40), (pieces, "PIECE", 31), (emit, "LONG", 20)):
        monkeypatch.setattr(module, name, value)
    source = prepared.model.structure.source
    assert source.count(UNIT) >= 2 and "void pd_jac_piece_1(" in source
    structure = replace(prepared.structure, source=source)
    cut = integrate(replace(prepared.program, structure=structure), inputs)
    np.testing.assert_array_equal(cut.rows, whole.rows)
    assert cut.counters == whole.counters
    signals, keys = list(structure.signals), list(structure.signals)[::7]
    every = evaluate_signals(prepared.structure, whole.rows, inputs.parameters, signals)
    np.testing.assert_array_equal(evaluate_signals(structure, cut.rows, inputs.parameters, signals), every)
    lean = lean_library(structure, keys)
    for key, (_, y) in zip(keys, extremes(structure, whole.rows, inputs.parameters, keys, 5, lean)):
        assert set(y) <= set(every[:, signals.index(key)]), key
