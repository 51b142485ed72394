"""A run as something that is advanced, saved, restored and changed; and structures that are known again."""

import math
import pickle
import subprocess
import sys
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.core.catalogue.index import kind_of
from pendel.core.drive.file import load
from pendel.core.equations.flatten import parts_of, stated_network
from pendel.core.equations.friction import with_friction_laws
from pendel.core.equations.reduce import EquationProblem
from pendel.core.equations.skeleton import Question
from pendel.core.errors import BuildProblem, RunProblem
from pendel.core.plant import runtime, structures
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import Outcome, RunSettings, parameters_of
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import known_structure, prepare
from tests.campaigns.truth.slices import in_slices

EXAMPLES = Path(pendel.__file__).parent / "examples"


def drive_of(name, level="averaged"):
    drive = load(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    return drive


@pytest.mark.parametrize(
    ("name", "level", "method"),
    [
        ("car_door_drive", "averaged", "auto"),  # frictions, end stops
        ("wayside_supply", "averaged", "auto"),  # loops that are found numerically
        ("haul_drive_tables", "switching", "fast"),  # surfaces
        ("service_trolley", "device", "auto"),  # devices, dead time
        ("valley_feeder", "switching", "fixed"),  # inverses kept, edges off the grid
        ("haul_inverter", "device", "fixed"),
    ],
)
def test_a_run_has_the_same_rows_to_the_bit_however_it_is_cut(name, level, method):
    prepared = prepare(drive_of(name, level))
    inputs = prepared.inputs(RunSettings(0.015, 1e-6, method, h_max=1e-4, fixed_step=1e-6))
    whole = integrate(prepared.program, inputs)
    cut = in_slices(prepared.program, inputs)
    assert np.array_equal(cut.rows, whole.rows) and np.array_equal(cut.ticks, whole.ticks)
    assert (cut.counters, cut.remembered, cut.outcome) == (whole.counters, whole.remembered, whole.outcome)


def test_another_process_goes_on_from_a_snapshot(tmp_path):
    prepared = prepare(drive_of("haul_drive", "switching"))
    inputs = prepared.inputs(RunSettings(0.01, h_max=1e-4))
    with Simulator(prepared.program, inputs) as simulator:
        simulator.advance(0.004)
        told = tmp_path / "snapshot"
        told.write_bytes(pickle.dumps((prepared.program, inputs, simulator.state())))
        simulator.advance()
        wanted = simulator.recorded()
    code = (
        "import pickle, sys; from pendel.core.plant.simulator import Simulator\n"
        "program, inputs, snapshot = pickle.load(open(sys.argv[1], 'rb'))\n"
        "s = Simulator(program, inputs); s.restore(snapshot); s.advance(); r = s.finish()\n"
        "pickle.dump((r.rows, r.ticks, r.first_tick, 'casadi' in sys.modules), open(sys.argv[1], 'wb'))"
    )
    subprocess.run([sys.executable, "-c", code, str(told)], check=True)
    rows, ticks, first_tick, symbols = pickle.loads(told.read_bytes())
    assert np.array_equal(rows, wanted.rows[-len(rows) :])
    assert np.array_equal(ticks, wanted.ticks[first_tick:]) and first_tick == len(wanted.ticks) - len(ticks) > 0
    assert not symbols, "what runs needs no symbols"


def test_simulators_run_in_threads_at_once():
    prepared = prepare(drive_of("haul_drive", "switching"))
    inputs = prepared.inputs(RunSettings(0.02, h_max=1e-4))
    alone = integrate(prepared.program, inputs)
    found = [None] * 4

    def run(place):
        found[place] = integrate(prepared.program, inputs)

    threads = [threading.Thread(target=run, args=(k,)) for k in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert all(np.array_equal(other.rows, alone.rows) for other in found)


def choke(inner="0"):
    """A source of 10 V on a coil of 10 mH and 2 ohm: a time constant of 5 ms."""
    d = pendel.Drive("Choke")
    d.set("until", "20 ms")
    d.set("tolerance", "1e-9")
    d.add("dc_source", "Feed", U_0="10", R_i=inner)
    d.add("resistor", "Wire", R="2")
    d.add("inductor", "Coil", L="10", R_s="0")
    d.add("pair_opener", "Out")
    for a, b in (
        ("feed.dc", "out.pair"),
        ("out.plus", "wire.a"),
        ("wire.b", "coil.a"),
        ("coil.b", "out.minus"),
    ):
        d.connect(a, b)
    return d


def test_a_value_written_while_it_runs_holds_from_there_on_and_a_snapshot_brings_back_the_old():
    prepared = prepare(choke().document)
    with Simulator(prepared.program, prepared.inputs(RunSettings(0.02, 1e-9, h_max=1e-4))) as simulator:
        assert simulator.advance(0.01) is Outcome.PAUSED
        turned, before = simulator.time, simulator.read(["coil.current"])["coil.current"]
        assert 0.01 <= turned < 0.0102 and before == pytest.approx(5 * (1 - np.exp(-200 * turned)), rel=1e-8)
        snapshot = simulator.state()
        simulator.write("wire.R", 10.0)
        assert simulator.advance() is Outcome.DONE
        rows = simulator.recorded().rows
        # i falls from there towards 1 A with the new time constant of 1 ms
        wanted = 1 + (before - 1) * np.exp(-1000 * (rows[:, 0] - turned))
        late = rows[:, 0] >= turned
        place = 1 + prepared.structure.state_keys.index("coil.i")
        assert rows[late, place] == pytest.approx(wanted[late], rel=1e-7)
        simulator.restore(snapshot)
        simulator.advance()
        assert simulator.read(["coil.current"])["coil.current"] == pytest.approx(5 * (1 - np.exp(-4)), rel=1e-8)
        assert np.all(np.diff(simulator.recorded().rows[:, 0]) >= 0)


def test_a_block_takes_a_new_value_and_keeps_what_it_remembers():
    drive = drive_of("car_door_drive")
    prepared = prepare(drive)
    inputs = prepared.inputs(RunSettings(0.6, h_max=1e-3))
    with Simulator(prepared.program, inputs) as simulator:
        simulator.advance(0.3)
        remembered = simulator.recorded().remembered["current_pi.integral"]
        simulator.write(
            "current_pi.K_p", 1.5 * inputs.controls[prepared.program.control_values.index("current_pi.K_p")]
        )
        assert simulator.recorded().remembered["current_pi.integral"] == remembered != 0
        mine = simulator.recorded().rows
        simulator.advance()
        assert np.array_equal(simulator.recorded().rows[: len(mine)], mine)
    assert not np.array_equal(simulator.inputs.controls, inputs.controls)


def test_what_a_simulator_cannot_do_is_said():
    prepared, other = prepare(choke("1e-3").document), prepare(drive_of("haul_drive"))
    simulator = Simulator(prepared.program, prepared.inputs(RunSettings(0.02)))
    simulator.advance(0.001)
    foreign = Simulator(other.program, other.inputs(RunSettings(0.02))).state()
    longer = Simulator(prepared.program, prepared.inputs(RunSettings(0.03))).state()
    mine = simulator.state()
    row = simulator.recorded().rows[-1]
    for attempt, sentence in (
        (lambda: simulator.write("wire.X", 1.0), "no parameter “wire.X”"),
        (lambda: simulator.write("wire.R", float("nan")), "finite number"),
        (lambda: simulator.write("feed.R_i", 0.0), "feed.R_i cannot become 0 while it runs: other equations"),
        (lambda: simulator.advance(float("nan")), "not a number"),
        (lambda: simulator.read(["wire.voltag"]), "no signal “wire.voltag”"),
        (lambda: simulator.restore(foreign), "of another drive"),
        (lambda: simulator.restore(longer), "other settings"),
        (lambda: simulator.restore(replace(mine, plant=mine.plant[:-8])), "another version"),
    ):
        with pytest.raises(RunProblem, match=sentence):
            attempt()
    assert np.array_equal(simulator.recorded().rows[-1], row), "a refused attempt changes nothing"
    simulator.finish()
    with pytest.raises(RunProblem, match="closed"):
        simulator.advance()


def test_a_time_loop_of_another_layout_is_refused(monkeypatch):
    monkeypatch.setattr(runtime, "LAYOUT", runtime.LAYOUT + 1)
    with pytest.raises(BuildProblem, match="two versions"):
        runtime.check_layout(runtime.time_loop())


# Structures that are known again.


@pytest.mark.parametrize(
    ("name", "level"),
    [
        ("car_door_drive", "averaged"),
        ("service_trolley", "device"),
        ("analogue_controller", "averaged"),
        ("wayside_supply", "averaged"),
        ("valley_feeder", "device"),
        ("old_haul_link", "device"),
    ],
)
def test_a_known_structure_has_the_names_and_numbers_that_the_equations_would_have(name, level):
    """With every value of every part changed, and with each value that a part asks about once zero or not given."""
    prepared = prepare(drive_of(name, level))
    parts, skeleton = parts_of(prepared.drive, kind_of), prepared.skeleton
    rng, values = np.random.default_rng(3), prepared.numbers.values
    _, asked = stated_network(skeleton, prepared.numbers, parts)
    changes = [{(c, n): v * rng.uniform(0.9, 1.1) for c, own in values.items() for n, v in own.items()}]
    changes += [
        {(c, n): math.nan if q is Question.GIVEN else 0.0}
        for c, n, q, answer in asked
        if answer is not (q is Question.ZERO)
    ]
    for change in changes:
        numbers = replace(
            prepared.numbers,
            values={c: {n: change.get((c, n), v) for n, v in own.items()} for c, own in values.items()},
        )
        network, answers = stated_network(skeleton, numbers, parts)
        try:
            found = known_structure(skeleton, numbers, parts, prepared.deck.measured, False)
        except EquationProblem:  # some zeros leave nothing that determines a current
            continue
        stated = with_friction_laws(network)
        assert found.parameter_keys == tuple(stated.parameters)
        assert parameters_of(found, numbers)[: len(stated.parameters)] == pytest.approx(
            [v for _, v in stated.parameters.values()], rel=0, abs=0, nan_ok=True
        )
        assert found.mode_keys == (*(m.key for m in stated.modes), *stated.gates)
        assert set(found.signals) >= set(stated.signals) and found.commands == tuple(stated.inputs)
        assert (found is prepared.structure) == (answers == asked)


def test_what_was_ordered_in_one_process_is_not_ordered_in_the_next(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    code = (
        "import sys, hashlib; from pathlib import Path; from pendel.core.drive.file import load\n"
        "from pendel.core.equations import reduce\n"
        "from pendel.core.runs.preparing import simulate; simulate.begin_loop_build = lambda: None\n"
        "drive = load(Path(sys.argv[1])); drive.settings['level'] = 'switching'\n"
        "if sys.argv[2] == 'known': reduce.Reduction.run = None\n"
        "print(hashlib.sha256(repr(simulate.prepare(drive).structure).encode()).hexdigest())\n"
        "slow = {'networkx', 'h5py', 'scipy'} & sys.modules.keys()\n"
        "assert not slow or sys.argv[2] == 'new', f'loaded for nothing: {slow}'"
    )

    def told(what):
        command = [sys.executable, "-c", code, str(EXAMPLES / "valley_feeder.pendel"), what]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout

    first = told("new")
    assert told("known") == first
    (kept,) = (tmp_path / "pendel" / "builds" / "structures").glob("*.json")
    key, whole = kept.name.partition("-")[0], kept.read_text()
    values = prepare(drive_of("valley_feeder", "switching")).numbers.values
    assert structures.read(key, values) is not None
    for damaged in (
        whole[: len(whole) // 2],
        whole.replace("pd_rhs", "pd_rhz"),
        whole.replace("version", "varsion"),
        "[]",
        "",
    ):
        kept.write_text(damaged)
        assert structures.read(key, values) is None, "what is damaged is ordered anew"
