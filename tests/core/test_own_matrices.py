"""Linear blocks typed as matrices: against SciPy, as shipped, in loops, and what cannot be."""

import control
import numpy as np
import pytest
import scipy.signal

import pendel
from pendel.core.catalogue.own_block import EXAMPLES
from pendel.core.catalogue.own_matrices import as_typed, patterns, read_matrices
from pendel.core.drive.document import OwnEquations

A = np.array([[-100, 20.0, 0], [-20, -100, 5], [1, 0, -3]])
B, C = np.array([[100, 0], [0, 100.0], [1, 2]]), np.array([[1, 0, 0.5], [0, 1, 0], [0, 0, 1]])
D = np.array([[0, 0], [0.1, 0], [0, 2.0]])
PORTS = {"inputs": ("u", "w"), "outputs": ("y", "z", "q")}
PERIOD = 1e-3


def driven(own, **settings):
    """With a jump of 1 at 10 ms and one of −2 at 50 ms."""
    d = pendel.Drive()
    for name, text in {"tick": "1 ms", "until": "0.2 s", **settings}.items():
        d.set(name, text)
    d.add("own_matrices", "Linear", own=own)
    for name, port, after, at in (("S", "u", "1", "10 ms"), ("T", "w", "-2", "50 ms")):
        d.add("step", name, before="0", after=after, t_0=at)
        d.connect(f"{name.lower()}.out", f"linear.{port}")
    return d


def expected(system, run):
    u = np.column_stack([run["s.out"].y, run["t.out"].y])
    return scipy.signal.dlsim(system, u)[1]


@pytest.mark.parametrize("sampled", [False, True])
def test_its_outputs_are_those_of_scipy(sampled):
    """`scipy.signal.cont2discrete` (bilinear) and `dlsim`; random stable systems of up to twelve states beside it."""
    rng = np.random.default_rng(3)
    for order in (0, 1, 3, 12):
        a, b, c, d = (
            (A, B, C, D) if order == 3 else [rng.normal(size=s) for s in ((order,) * 2, (order, 2), (3, order), (3, 2))]
        )
        if order in (1, 12):
            a = 40 * (a - (np.abs(np.linalg.eigvals(a)).max() + 0.2) * np.eye(order))
            a[rng.random(a.shape) < 0.4] = 0
        system = scipy.signal.cont2discrete((a, b, c, d), PERIOD, method="bilinear") if order else (a, b, c, d, PERIOD)
        typed = system[:4] if sampled else (a, b, c, d)
        run = driven(as_typed(*typed, **PORTS, sampled=sampled)).run()
        y = np.column_stack([run[f"linear.{name}"].y for name in PORTS["outputs"]])
        reference = expected(system, run)
        assert np.abs(y - reference).max() < 1e-11 * np.abs(reference).max() and np.abs(reference).max() > 0.01


def test_what_cannot_be_other_than_zero_is_not_computed():
    """Two lags beside each other cost two products for each, and a chain is filled from its begin on."""
    apart = read_matrices(("A = -1, 0; 0, -2", "B = 1, 0; 0, 1", "C = 1, 0; 0, 1"), 2, 2)
    assert [int(p.sum()) for p in patterns(apart, 2, 2).values()] == [2, 2, 2, 2]
    chain = read_matrices(("A = -1, 0, 0", "1, -1, 0", "0, 1, -1", "B = 1; 0; 0", "C = 0\t0\t1"), 1, 1)
    assert np.array_equal(patterns(chain, 1, 1)["a"], np.tril(np.ones((3, 3), bool)))
    assert [int(p.sum()) for p in patterns(chain, 1, 1).values()] == [6, 3, 3, 1]
    stepped = read_matrices(("sampled", "A = 0, 0, 0", "1, 0, 0", "0, 1, 0", "B = 1; 0; 0", "C = 0, 0, 1"), 1, 1)
    assert [int(p.sum()) for p in patterns(stepped, 1, 1).values()] == [5, 1, 1, 0]


@pytest.mark.parametrize("number", ["float32", "fixed32", "fixed16"])
def test_as_shipped_it_gives_what_was_modelled(number):
    d = driven(as_typed(A, B, C, D, **PORTS), number_format=number)
    modelled = driven(as_typed(A, B, C, D, **PORTS)).run()
    assert not d.firmware(check=False).findings
    d.set("controller", "as shipped")
    shipped = d.run()
    for name in PORTS["outputs"]:
        y, exact = shipped[f"linear.{name}"].y, modelled[f"linear.{name}"].y
        assert (
            np.abs(y - exact).max() < {"float32": 1e-6, "fixed32": 1e-7, "fixed16": 2e-3}[number] * np.abs(exact).max()
        )


def test_its_linear_model_is_the_system_sampled():
    """python-control's response of the sampled system, from one input to one output."""
    d = driven(as_typed(A, B, C, D, **PORTS))
    model = d.linear("s.out", "linear.z")
    system = control.ss(
        *scipy.signal.cont2discrete((A, B[:, :1], C[1:2], D[1:2, :1]), PERIOD, method="bilinear")[:4], PERIOD
    )
    for f in (1.0, 30.0, 200.0):
        assert model.response(np.array([2 * np.pi * f]))[0] == pytest.approx(
            complex(system(np.exp(2j * np.pi * f * PERIOD))), rel=1e-9
        )


@pytest.mark.parametrize(
    "lines, why",
    [
        ((), "There is no matrix"),
        (("A = -1, 0; 1",), "Row 2 of A has 1 entries, and the first has 2"),
        (("A = -1, 0; 1, 0",), "no B"),
        (("A = -1, 0", "B = 1, 2", "C = 1"), "A is 1 by 2; it has a row and a column for each state: 1 by 1"),
        (("A = -1", "B = 1", "C = 1; 1; 1"), "B is 1 by 1; it has a row for each state and a column for each input"),
        (("D = 1, ,2",), "The entry in row 1, column 2 of D is empty"),
        (("D =",), "D has no entries"),
        (("D = 1, -; 0, 0; 0, 0",), "Row 1, column 2 of D"),
        (("1, 2",), "Write a matrix like"),
        (("D = 1, 2", "D = 1, 2"), "D stands here twice"),
        (("D = 1, nothing; 0, 0; 0, 0",), "Row 1, column 2 of D: nothing has no value"),
        (("D = 1, 2 +; 0, 0; 0, 0",), "Row 1, column 2 of D"),
        (("A = ", *[", ".join(["-1"] * 31)] * 31), "31 states and 961 entries"),
    ],
)
def test_what_cannot_be_gets_a_sentence_at_its_line(lines, why):
    d = driven(OwnEquations(("u: in", "w: in", "y: out", "z: out", "q: out"), equations=lines))
    found = [f.sentence for f in d.check() if f.stops]
    assert any(why in sentence for sentence in found), found


def test_what_a_new_one_holds_runs_as_it_is():
    """Two lags that turn into each other settle where A·x + B·u = 0."""
    run = driven(EXAMPLES["own_matrices"]).run()
    rest = np.linalg.solve([[-100, 20], [-20, -100]], [-100 * 1, -100 * -2])
    assert [run[f"linear.{name}"].y[-1] for name in "yz"] == pytest.approx(rest, rel=1e-5)


def test_entries_are_expressions_and_names_of_its_own_numbers_are_taken():
    own = OwnEquations(("u: in", "w: in", "y: out"), equations=("A = -1/T_f", "B = gain/T_f, max(1, 2)", "C = 1"))
    d = driven(own)
    d.define("T_f", "10 ms")
    d.define("gain", "3")
    run = d.run(0.045)
    assert run["linear.y"].y[-1] == pytest.approx(3 * (1 - np.exp(-3.5)), rel=2e-2)
    bad = driven(OwnEquations(("u: in", "w: in", "a_1_1: out"), equations=("D = 1, 0",)))
    assert any("a_1_1 is what the block calls one of its own numbers" in f.sentence for f in bad.check())
    more = driven(OwnEquations(("u: in", "w: in", "y: out"), values=("K = 1",), equations=("D = 1, 0",)))
    assert any("Matrices have no values of their own" in f.sentence for f in more.check())
    for growth, says in (("2000", "a mode of A grows at 2000 1/s, which a period of 1 ms cannot follow"), ("1900", "")):
        lines = f"A = {growth}", "B = 1, 0", "C = 1"
        found = driven(OwnEquations(("u: in", "w: in", "y: out"), equations=lines)).check()
        assert [says in f.sentence for f in found if f.stops] == ([True] if says else [])
