"""Modes of the mechanics against closed forms and SciPy, and what is put against them against the drive that runs."""

import json
import math
from pathlib import Path

import numpy as np
import pytest
import scipy.linalg
from scipy.signal import find_peaks

import pendel
from pendel.cli.main import main
from pendel.core.drive.file import to_text
from pendel.core.errors import DriveProblem
from pendel.core.loops.mechanics.calming import notch_leaves
from pendel.core.loops.models.realisation import minimal

EXAMPLES = Path(pendel.__file__).parent / "examples"


def shafts(inertias: list[str], springs: list[tuple[str, str]]) -> pendel.Drive:
    """Inertias with elastic shafts of (stiffness, damping) between them."""
    d = pendel.Drive("Shafts")
    for n, inertia in enumerate(inertias):
        d.add("inertia", f"J{n}", J=inertia)
    for n, (k, damp) in enumerate(springs):
        d.add("elastic_shaft", f"S{n}", k=k, d=damp, play="1 deg")
        d.connect(f"j{n}.b", f"s{n}.a")
        d.connect(f"s{n}.b", f"j{n + 1}.a")
    return d


def test_two_masses_have_the_frequency_and_damping_of_the_closed_form():
    """ω² = k (1/J₁ + 1/J₂), ζ = d ω / (2k), shape −J₁ : J₂, held √(k/J₂): Den Hartog, Mechanical Vibrations, chapters 2
    and 5 (from memory). Backlash is used up, and changes none of it."""
    J1, J2, k, d = 2e-3, 7e-3, 310.0, 0.05
    (chain,) = shafts([f"{J1} kg*m^2", f"{J2} kg*m^2"], [(f"{k} N*m/rad", f"{d} N*m*s")]).modes().chains
    (mode,) = chain.modes
    omega = math.sqrt(k * (1 / J1 + 1 / J2))
    assert 2 * math.pi * mode.frequency == pytest.approx(omega, rel=1e-12)
    assert mode.damping == pytest.approx(d * omega / (2 * k), rel=1e-9)
    shape = list(mode.shape.values())
    assert shape[1] / shape[0] == pytest.approx(-J1 / J2, rel=1e-9)
    assert chain.held == pytest.approx([math.sqrt(k / J2) / (2 * math.pi)], rel=1e-9)
    assert chain.inertia == pytest.approx(J1 + J2, rel=1e-12)
    # The speed for a torque on the first: 1/(J s) below, a peak at the mode, next to nothing where it is held.
    low = chain.mobility[0] * 2j * math.pi * chain.frequency[0]
    assert low.real == pytest.approx(1 / (J1 + J2), rel=0.02)
    size = np.abs(chain.mobility)
    assert chain.frequency[np.argmax(size)] == pytest.approx(mode.frequency, rel=1e-3)
    assert size[np.argmin(np.abs(chain.frequency - chain.held[0]))] < 0.05 * size[0]


def test_a_long_chain_agrees_with_the_symmetric_eigenproblem():
    """K φ = ω² M φ by `scipy.linalg.eigh`, with stiffnesses over five decades."""
    rng = np.random.default_rng(5)
    J, k = 10 ** rng.uniform(-4, 0, 9), 10 ** rng.uniform(1, 6, 8)
    (chain,) = (
        shafts([f"{j!r} kg*m^2" for j in J.tolist()], [(f"{s!r} N*m/rad", "0 N*m*s") for s in k.tolist()])
        .modes()
        .chains
    )
    D = np.diff(np.eye(9), axis=0)
    K = D.T @ np.diag(k) @ D
    squares, shapes = scipy.linalg.eigh(K, np.diag(J))
    assert [m.frequency for m in chain.modes] == pytest.approx(np.sqrt(squares[1:]) / (2 * math.pi), rel=1e-6)
    for mode, column in zip(chain.modes, shapes.T[1:]):
        found = np.array(list(mode.shape.values()))
        assert found == pytest.approx(column / column[np.argmax(np.abs(column))], abs=2e-5)
        elastic = k * (D @ column) ** 2
        assert list(mode.elastic.values()) == pytest.approx(elastic / elastic.sum(), abs=1e-5)
    k[4] *= 1.01  # a stiffness moves a mode by half its share of the stretch (Rayleigh's quotient)
    moved = scipy.linalg.eigh(D.T @ np.diag(k) @ D, np.diag(J), eigvals_only=True)
    shares = [list(m.elastic.values())[4] for m in chain.modes]
    assert np.sqrt(moved[1:] / squares[1:]) - 1 == pytest.approx(0.005 * np.array(shares), rel=0.02, abs=2e-5)
    k[4] /= 1.01
    held = scipy.linalg.eigh(K[1:, 1:], np.diag(J[1:]), eigvals_only=True)
    assert chain.held == pytest.approx(np.sqrt(held) / (2 * math.pi), rel=1e-6)


def test_twins_swing_each_by_itself():
    """Two like chains in a drive have the same frequencies; neither has a part in the other's."""
    d = shafts(["2e-3 kg*m^2", "7e-3 kg*m^2"], [("310 N*m/rad", "0 N*m*s")])
    (alone,) = d.modes().chains
    for name, values in (("K0", {"J": "2e-3 kg*m^2"}), ("K1", {"J": "7e-3 kg*m^2"})):
        d.add("inertia", name, **values)
    d.add("elastic_shaft", "T", k="310 N*m/rad", d="0 N*m*s", play="1 deg")
    d.connect("k0.b", "t.a")
    d.connect("t.b", "k1.a")
    chains = d.modes().chains
    assert [len(c.modes) for c in chains] == [1, 1] and {b.card for b in chains[0].bodies} == {"j0", "j1"}
    for chain in chains:
        assert chain.held == pytest.approx(alone.held, rel=1e-9) and chain.inertia == pytest.approx(alone.inertia)
        assert list(chain.modes[0].shape.values()) == pytest.approx(list(alone.modes[0].shape.values()))
        assert chain.mobility == pytest.approx(alone.mobility, rel=1e-6)


def test_gear_and_drum_refer_the_car_to_the_machine():
    """The rope's stiffness seen from the machine is k (r/i)², the car's inertia m (r/i)²; and no current, flux or
    friction is in it: with the machine in full swing, modes are the same."""
    d = pendel.open_example("haul_drive_rope")
    (chain,) = d.modes().chains
    ratio, k, m, J = 0.6 / 8, 200e3, 1500.0, 0.42
    expected = math.sqrt(k * ratio**2 * (1 / J + 1 / (m * ratio**2))) / (2 * math.pi)
    assert chain.modes[0].frequency == pytest.approx(expected, rel=1e-6)  # rails rub a little
    assert [b.ratio for b in chain.bodies] == pytest.approx([1.0, ratio], rel=1e-9)
    assert chain.path == ("haul_machine", "gear", "drum", "rope", "car", "rails")
    assert d.modes("1.5 s").chains[0].modes[0].frequency == pytest.approx(expected, rel=1e-6)
    assert not d.modes("20 ms").modes, "the rope is slack before the torque comes"
    assert not pendel.open_example("haul_drive").modes().modes


def test_own_equations_count_and_an_own_spring_is_told():
    from pendel.core.drive.document import OwnEquations

    d = pendel.Drive("Own")
    d.add("inertia", "A", J="2e-3 kg*m^2")
    d.add("inertia", "B", J="5e-3 kg*m^2")
    law = OwnEquations(
        ("a: shaft, w, M", "b: shaft, v, N"),
        ("k = 300 N*m/rad",),
        ("s = 0 rad",),
        (),
        ("der(s) = w - v", "M = k*s", "N = -k*s"),
    )
    d.add("own", "Soft", own=law)
    d.connect("a.b", "soft.a")
    d.connect("soft.b", "b.a")
    found = d.modes()
    assert found.modes[0][1].frequency == pytest.approx(
        math.sqrt(300 * (1 / 2e-3 + 1 / 5e-3)) / (2 * math.pi), rel=1e-9
    )
    assert any("Soft: own equations" in words for words in found.remarks)


def poles_near(d: pendel.Drive, source: str, target: str, frequency: float):
    poles = minimal(d.transfer(source, target).model).poles
    return min((p for p in poles if p.s.imag > 0), key=lambda p: abs(math.log(p.natural / frequency)))


def test_a_damping_loop_gives_the_damping_asked_for_in_the_drive_that_runs():
    """In the linear model of the drive with its new blocks, and in a run: the swing of the speed after the torque's
    step decays by exp(−2πζ/√(1 − ζ²)) from peak to peak of one sign (logarithmic decrement)."""
    d = pendel.open_example("haul_drive_rope")
    before = to_text(d.document)
    found = d.calm("damping", damping=0.12)
    assert (found.at, found.speed) == ("torque_in_all.out", "tachometer.value")
    assert found.reached == pytest.approx(0.12, rel=1e-6)
    behind = str(next(w.a for w in d.document.wires.values() if str(w.b) == "torque_to_currents.torque"))
    assert behind == "with_damping.out"
    pole = poles_near(d, "torque_in_all.out", "tachometer.value", found.frequency)
    assert pole.damping == pytest.approx(0.12, rel=1e-3)
    run = d.run()
    force = run["rope.force"]
    t = np.arange(0.25, 1.2, 1e-4)
    y = np.interp(t, force.t, force.y)
    y = y - np.polyval(np.polyfit(t[len(t) // 2 :], y[len(t) // 2 :], 1), t)
    peaks, _ = find_peaks(y, distance=800)
    ratio = y[peaks[1]] / y[peaks[0]]
    assert ratio == pytest.approx(math.exp(-2 * math.pi * 0.12 / math.sqrt(1 - 0.12**2)), rel=0.08)
    assert d.undo().startswith("Put a damping loop")
    assert to_text(d.document) == before


def test_notch_and_low_pass_leave_of_the_mode_what_they_say():
    d = pendel.open_example("haul_drive_rope")
    f = d.modes().modes[0][1].frequency
    whole = abs(d.transfer("torque_demand.out", "haul_machine.speed").response(np.array([f]))[0])
    found = d.calm("notch")
    left = abs(d.transfer("torque_demand.out", "haul_machine.speed").response(np.array([f]))[0])
    assert left / whole == pytest.approx(found.depth, rel=1e-3)
    assert found.depth == pytest.approx(2 * d.modes().modes[0][1].damping, rel=1e-3)
    d.undo()
    d.calm("low-pass", behind="torque_demand.out")
    left = abs(d.transfer("torque_demand.out", "haul_machine.speed").response(np.array([f]))[0])
    assert left / whole == pytest.approx(0.1, rel=0.02)
    door = pendel.open_example("car_door_drive")
    assert door.calm("notch").at == "speed_pi.out"
    assert [(r.name, r.problem) for r in door.judge()] == [("Current", ""), ("Speed", "")], "loops go through it"
    notch = door.document.cards["notch"]
    assert notch.values["every"] == "20", "as often as what it stands behind"
    x = 1j * 1.05
    assert notch_leaves(0.05) == pytest.approx(abs((1 + x * x) / (1 + x + x * x)), rel=1e-12)


def test_where_delay_turns_the_force_it_refuses_and_says_which_modes_are_beyond():
    """Beyond a quarter turn the force excites: a rotor on a stiff shaft swings faster than the current follows."""
    d = pendel.open_example("haul_drive_rope")
    d.card("rope")["k"] = "4e9 N/m"
    assert 1000 < d.modes().modes[0][1].frequency < 2000
    with pytest.raises(DriveProblem, match="1194 Hz the force answers the speed .* off"):
        d.calm("damping")
    d.card("rope")["k"] = "4e10 N/m"
    d.calm("notch")
    d.undo()
    d.card("rope")["k"] = "1e11 N/m"
    with pytest.raises(DriveProblem, match="half the rate"):
        d.calm("notch")
    # A light coupling between the rotor and the rope swings beyond the reach, the rope within it.
    d = pendel.open_example("haul_drive_rope")
    d.add("elastic_shaft", "Coupling", k="1e7 N*m/rad", d="0 N*m*s")
    d.add("inertia", "Wheel", J="0.3 kg*m^2")
    rigid = [key for key, w in d.document.wires.items() if {w.a.card, w.b.card} == {"haul_machine", "gear"}]
    d.do(pendel.core.drive.commands.remove_wires(d.document, rigid))
    for a, b in (("haul_machine.shaft", "coupling.a"), ("coupling.b", "wheel.a"), ("wheel.b", "gear.a")):
        d.connect(a, b)
    assert [m.name for _, m in d.modes().modes] == ["first mode, Rope", "second mode, Coupling"]
    found = d.calm("damping", damping=0.3)
    words = " ".join(found.remarks)
    assert "That excites: second mode, Coupling" in words
    assert 0.1 < found.reached < 0.3
    assert "something else begins to swing" in words
    assert poles_near(d, "torque_in_all.out", "tachometer.value", 1200.0).stable


def test_what_is_held_branches_creeps_or_has_no_slope():
    d = pendel.Drive("Held")
    d.add("imposed_speed", "Bench", profile=(("0 s", "0 rpm"), ("1 s", "0 rpm")))
    d.add("elastic_shaft", "Shaft", k="3000 N*m/rad", d="0.1 N*m*s")
    d.add("inertia", "Rotor", J="0.02 kg*m^2")
    d.connect("bench.a", "shaft.a")
    d.connect("shaft.b", "rotor.a")
    assert d.modes().modes[0][1].frequency == pytest.approx(math.sqrt(3000 / 0.02) / (2 * math.pi), rel=1e-9)
    d = shafts(["1e-3 kg*m^2"] * 2, [("100 N*m/rad", "0 N*m*s")])
    d.add("inertia", "C", J="1e-3 kg*m^2")
    d.add("elastic_shaft", "T", k="100 N*m/rad", d="0 N*m*s")
    d.connect("j0.b", "t.a")
    d.connect("t.b", "c.a")
    found = [m.frequency for _, m in d.modes().modes]
    assert found == pytest.approx([math.sqrt(1e5) / (2 * math.pi), math.sqrt(3e5) / (2 * math.pi)], rel=1e-9)
    assert not shafts(["1e-3 kg*m^2"] * 2, [("10 N*m/rad", "5 N*m*s")]).modes().modes, "it creeps back"
    d = shafts(["1e-3 kg*m^2"], [])
    d.add("inertia", "End", J="1e-3 kg*m^2")
    for name in ("S", "T"):
        d.add("elastic_shaft", name, k="100 N*m/rad", d="0")
    for a, b in (("j0.b", "s.a"), ("s.b", "t.a"), ("t.b", "end.a")):
        d.connect(a, b)
    with pytest.raises(DriveProblem, match="no finite slope here: End, J0, S, T. .* springs in a row"):
        d.modes()


@pytest.mark.parametrize(
    "wish, words",
    [
        ({"mode": 4}, "no mode 4.*has 1"),
        ({"by": "glue"}, "no way to calm"),
        ({"behind": "rope.force"}, "no output of a block"),
        ({"speed": "rope.force"}, "no output of a block"),
        ({"damping": 1.5}, "between 0 and 1"),
        ({"damping": 0.01}, "already"),
    ],
)
def test_what_cannot_be_gets_a_sentence(wish, words):
    d = pendel.open_example("haul_drive_rope")
    before = to_text(d.document)
    with pytest.raises(DriveProblem, match=words):
        d.calm(**wish)
    assert to_text(d.document) == before


def test_from_the_terminal(tmp_path, capsys):
    path = tmp_path / "rope.pendel"
    path.write_bytes((EXAMPLES / "haul_drive_rope.pendel").read_bytes())
    assert main(["modes", str(path), "--json"]) == 0
    (chain,) = json.loads(capsys.readouterr().out)["chains"]
    assert chain["modes"][0]["frequency"] == pytest.approx(8.4396, rel=1e-4)
    assert main(["calm", str(path), "--by", "notch", "--mode", "1"]) == 0
    assert "notch" in path.read_text()
    assert main(["calm", str(path), "--mode", "two"]) != 0
    assert "no number of a mode" in capsys.readouterr().err
    assert main(["modes", str(EXAMPLES / "haul_inverter.pendel")]) == 0
    assert "nothing swings" in capsys.readouterr().out
