"""Whole drives from a data sheet: every goal with every option is made, runs, is stable, ships and is what it says."""

import math

import numpy as np
import pytest

import pendel
from pendel.cli.apart import terminal
from pendel.core.catalogue.goals.goal import looked_at, made
from pendel.core.catalogue.goals.table import GOALS
from pendel.core.drive import file
from pendel.core.drive.user_text import read_figure
from pendel.core.errors import DriveProblem
from tests.campaigns.truth import sheets
from tests.campaigns.truth.report import Tally

RPM = math.pi / 30
EACH = [(goal.id, options) for goal in GOALS.values() for options in goal.ways()]
UP = {"U_out": "100"}
"""For a converter that steps up."""


def drive_for(goal, options, **entries):
    if options.get("way") == "up":
        entries = {**UP, **entries}
    return pendel.new(goal, options=options, **entries)


def facts_of(goal, d, options=None):
    looked = looked_at(GOALS[goal], d.document, options or {})
    return {fact.title: fact.value for fact in looked.facts}, looked


def called(each):
    return each if isinstance(each, str) else "-".join(each.values())


@pytest.mark.parametrize(("goal", "options"), EACH, ids=called)
def test_a_goal_is_made_runs_is_stable_and_ships(goal, options, tmp_path):
    d = drive_for(goal, options)
    assert d.check() == [], "nothing is found in it"
    _, looked = facts_of(goal, d, options)
    assert looked.problems == [], "its usual values are good ones"
    again = file.from_text(file.to_text(d.document))
    assert file.to_text(again) == file.to_text(d.document)
    run = d.run()
    assert run.remarks == []
    blind = options.get("sensor") == "none"
    for loop in d.judge("steady" if blind else "rest"):
        assert loop.problem and not blind or (loop.stable and loop.phase_margin > 45 and loop.gain_margin > 4), loop
    if any(card.kind.group == "control" or "pi" in card.kind.id for card in d.cards.values()):
        assert d.write_c(tmp_path)
    places = [(card.x, card.y) for card in d.document.cards.values()]
    assert len(set(places)) == len(places), "no card lies on another"


ODD_SHEETS = (
    ("brushed_dc", {}, {"J_load": "40 kg*cm^2"}),  # one step of the encoder asked for half of the current
    ("brushed_dc", {"regulate": "position"}, {"f_p": "70 kHz"}),
    ("synchronous", {}, {"U_link": "2455 V"}),  # harmonics of dead time were taken for a loop that swings
    ("induction_inverter", {}, {"R_r": "1.51 ohm"}),  # slip by a flux that is hardly there let the currents swing up
    ("induction_inverter", {}, {"pairs": "12", "n_set": "200 rpm"}),  # its nameplate was another machine's
    ("induction_inverter", {"sensor": "none"}, {"f_p": "16 kHz"}),  # dead time made the estimated speed swing
    ("induction_grid", {}, {"pairs": "1"}),
    ("brushed_dc", {}, {"J_load": "0", "M_load": "0"}),  # an inertia of nothing was a finding
    ("two_masses", {}, {"J_m": "0.2 kg*cm^2"}),  # a light machine crossed over once more above the swing
    ("dc_converter", {"way": "up"}, {"U_out": "100", "P_out": "3"}),  # with gaps in the choke current: 6°, 190 V
    ("dc_converter", {}, {"P_out": "1", "R_L": "0", "R_C": "0"}),
    ("dc_converter", {"way": "both"}, {"R_L": "0", "R_C": "0"}),  # nothing damps choke and capacitor
)


@pytest.mark.parametrize(("goal", "options", "texts"), ODD_SHEETS)
def test_sheets_far_from_the_usual_ones_make_drives_that_hold_what_their_goal_promises(goal, options, texts):
    """The campaign's checks of ``./run truth --only sheets``, for what it has found."""
    tally = Tally(goal)
    sheets.check(goal, options, texts, tally)
    assert not tally.failed and not tally.skipped and tally.count == 1


@pytest.mark.parametrize(
    ("goal", "options", "signal"),
    [
        ("brushed_dc", {"regulate": "position"}, "motor.speed"),
        ("synchronous", {}, "machine.speed"),
        ("induction_inverter", {}, "machine.speed"),
        ("dc_converter", {"way": "up"}, "step_up.output_voltage"),
        ("grid_converter", {}, "grid.power"),
    ],
)
def test_words_of_fixed_point_follow_from_the_sheet(goal, options, signal):
    """Without a run to find ranges: what the controller reads is bounded by what was entered."""
    d = drive_for(goal, options)
    modelled = d.run()
    d.set("number_format", "fixed32")
    d.set("controller", "as shipped")
    shipped = d.run()
    assert shipped.remarks == []
    t = np.linspace(0.3, 0.99, 200) * modelled.kept.end
    y = modelled.at(signal, t)
    assert np.abs(shipped.at(signal, t) - y).max() < 0.01 * np.abs(y).max()


def test_a_converter_with_gaps_crosses_over_where_its_closed_form_says():
    """Voltage over duty and pole in discontinuous conduction: Erickson, Maksimović, tables 5.2 and 11.3 (from memory),
    against the loop that is made linear from the circuit."""
    for options, texts in (({}, {"P_out": "8"}), ({"way": "up"}, {"U_out": "100", "P_out": "20"})):
        d = pendel.new("dc_converter", options=options, **texts)
        (loop,) = d.judge()
        assert d.get("gaps") == 1 and loop.crossover == pytest.approx(d.get("f_u"), rel=0.02)
        assert loop.phase_margin == pytest.approx(90, abs=1)


def test_a_speed_is_reached_and_held_against_the_load():
    for goal, signal in (
        ("brushed_dc", "motor.speed"),
        ("synchronous", "machine.speed"),
        ("induction_inverter", "machine.speed"),
        ("fan", "motor.speed"),
        ("two_masses", "load_inertia.speed"),
    ):
        d = pendel.new(goal)
        run = d.run()
        target = read_figure(d.document, "n_set", "rad/s", 0.0)
        y = run[signal].y
        assert y[-1] == pytest.approx(target, rel=0.02), goal
        assert y.max() < 1.25 * target, goal


def test_without_a_shaft_sensor_both_machines_hold_their_speed():
    """From standstill, against the load, by currents and demanded voltages alone; the machine's own speed is the
    reference. At rest nothing is judged, as there is nothing to see."""
    for goal, estimate in (("synchronous", "start.shaft"), ("induction_inverter", "speed_estimator.speed")):
        d = pendel.new(goal, options={"sensor": "none"})
        blind = [loop for loop in d.judge() if "finds nothing at rest" in loop.problem]
        assert [loop.name for loop in blind] == ["Speed"]
        run = d.run()
        target, end = read_figure(d.document, "n_set", "rad/s", 0.0), run.kept.end
        late = np.linspace(0.97 * end, 0.999 * end, 50)
        for signal in ("machine.speed", estimate):
            assert np.mean(run.at(signal, late)) == pytest.approx(target, rel=2e-3), goal
        assert run["machine.speed"].y.max() < 1.12 * target
    with pytest.raises(DriveProblem, match="At rest there is no EMF"):
        pendel.new("synchronous", options={"regulate": "position", "sensor": "none"})


def test_what_is_said_to_follow_is_what_runs_show():
    """Facts by closed forms against the drive's own runs: EMF and currents of a generator into resistors, speed and
    current of a DC machine, ripple of a choke, an induction machine's speed with its load."""
    d = pendel.new("test_bench")
    facts, _ = facts_of("test_bench", d)
    run = d.run()
    end = run.kept.end
    i = run.averages("machine.current_a", end / 2, end).rms
    assert i == pytest.approx(facts["current, rms"], rel=2e-3)
    torque = run.averages("machine.torque", end / 2, end).mean
    assert abs(torque) == pytest.approx(facts["torque"], rel=2e-3)
    d = pendel.new("induction_grid", M_load="25 N*m")
    facts, _ = facts_of("induction_grid", d)
    run = d.run("2 s")
    assert run["machine.speed"].y[-1] == pytest.approx(facts["speed with the load"], rel=2e-3)
    i = run.averages("machine.current_a", 1.9, 2.0).rms
    assert i == pytest.approx(facts["current with the load, rms"], rel=1e-2)
    for way, more in (("down", {}), ("up", UP)):
        d = pendel.new("dc_converter", options={"way": way}, **more)
        facts, _ = facts_of("dc_converter", d, {"way": way})
        key = "step_down" if way == "down" else "step_up"
        d.choose(key, level="switching")
        run = d.run()
        end = run.kept.end
        span = end - 40 / 100e3, end
        assert run.averages(f"{key}.choke_current", *span).ripple == pytest.approx(
            facts["ripple of the choke current"], rel=0.06
        )
        assert run.averages(f"{key}.output_voltage", *span).mean == pytest.approx(100 if more else 24, rel=0.01)
    d = pendel.new("brushed_dc")
    facts, _ = facts_of("brushed_dc", d)
    run = d.run()
    end = run.kept.end
    assert run.averages("motor.current", 0.9 * end, end).mean == pytest.approx(facts["current for the load"], rel=0.03)
    d = pendel.new("synchronous")
    facts, _ = facts_of("synchronous", d)
    per_ampere = math.sqrt(3) * 98 / (1000 * RPM)
    assert facts["torque constant, for rms current"] == pytest.approx(per_ampere, rel=1e-9)
    """k_t = √3 K_E per rad/s, line rms and rms current (Hendershot, Miller, Design of Brushless Permanent-Magnet
    Machines, chapter 7)."""


def test_power_flows_both_ways_on_the_grid_and_between_two_voltages():
    """As asked for, by the run's own energy: fed into a grid of one and three phases, taken from it; out of an input
    and back into it."""
    for phases in ("three", "one"):
        for power in (2.0, -2.0):
            d = pendel.new("grid_converter", options={"phases": phases}, P_feed=str(power))
            run = d.run()
            end = run.kept.end
            taken = run.averages("grid.power", end - 0.04, end).mean
            assert -taken == pytest.approx(1000 * power, rel=0.07), phases
            facts, _ = facts_of("grid_converter", d, {"phases": phases})
            current = "reactor.current_a" if phases == "three" else "choke.current"
            rms = run.averages(current, end - 0.04, end).rms
            assert rms == pytest.approx(abs(facts["current, rms"]), rel=0.07)
    d = pendel.new("dc_converter", options={"way": "both"})
    run = d.run()
    t_up = read_figure(d.document, "t_up", "s", 0.0)
    out = run.averages("input.power", 2.3 * t_up, 2.6 * t_up).mean
    back = run.averages("input.power", 3.5 * t_up, 4.0 * t_up).mean
    assert out == pytest.approx(120, rel=0.05) and back == pytest.approx(-60, rel=0.05)
    assert run["capacitor.voltage"].y[-1] == pytest.approx(24, rel=1e-3)


def test_gains_stay_tied_to_the_values_of_the_sheet():
    d = pendel.new("synchronous")
    before = [loop.crossover for loop in d.judge()]
    d.set("L_ll", "2.6 mH")
    d.set("J_load", "0.03 kg*m^2")
    after = d.judge()
    assert all(loop.stable and loop.phase_margin > 45 for loop in after)
    assert np.allclose([loop.crossover for loop in after], before, rtol=0.05)


@pytest.mark.parametrize(
    ("goal", "options", "entries", "says"),
    [
        ("synchronous", {}, {"U_link": "300 V"}, "needed at 2400 rpm"),
        ("synchronous", {}, {"M_load": "40"}, "takes"),
        ("synchronous", {}, {"I_n": "3"}, "contradict each other"),
        ("synchronous", {}, {"I_n": "8.5"}, "differ by"),
        ("synchronous", {}, {"pairs": "30"}, "fewer than 12 pulse periods"),
        ("brushed_dc", {}, {"n_set": "4500"}, "needed at 4500 rpm"),
        ("brushed_dc", {}, {"M_load": "3"}, "largest current"),
        ("brushed_dc", {}, {"f_p": "1"}, "as fast as its loop"),
        ("induction_grid", {}, {"M_load": "400"}, "at most"),
        ("induction_inverter", {}, {"n_set": "2400"}, "needed at 2400 rpm"),
        ("fan", {}, {"n_set": "6000"}, "needed at 6000 rpm"),
        ("dc_converter", {"way": "down"}, {"U_out": "60"}, "step-up one"),
        ("dc_converter", {"way": "up"}, {"U_out": "24"}, "step-down one"),
        ("dc_converter", {"way": "down"}, {"P_out": "5"}, "discontinuous"),
        ("grid_converter", {"phases": "three"}, {"U_grid": "400"}, "Raise the link voltage"),
        ("grid_converter", {"phases": "one"}, {"U_link": "330"}, "Raise the link voltage"),
        ("grid_converter", {"phases": "one"}, {"L_g": "0.4"}, "ripples by more than half"),
        ("dc_converter", {"way": "both"}, {"U_out": "60"}, "step-up one"),
        ("two_masses", {}, {"k_s": "40000"}, "as fast as the current loop"),
    ],
)
def test_a_sheet_that_cannot_work_is_told_before_anything_is_made(goal, options, entries, says):
    d = pendel.new(goal, options=options, **entries)
    _, looked = facts_of(goal, d, options)
    assert any(says in sentence for sentence in [*looked.problems, *looked.doubts]), looked


@pytest.mark.parametrize(
    ("entries", "says"),
    [
        ({"R_a": "0"}, "Winding resistance is 0; it must be above 0"),
        ({"R_a": "-1 ohm"}, "Winding resistance is -1 ohm"),
        ({"M_load": "-1"}, "0 or more"),
        ({"R_a": "1 V"}, "Winding resistance"),
        ({"R_a": "none"}, "Winding resistance"),
        ({"R_a": "1e999"}, "Winding resistance"),
        ({"R_a": "1/0"}, "Winding resistance"),
        ({"R_a": "U_link"}, "Winding resistance"),
        ({"nothing": "1"}, "no entry “nothing”"),
    ],
)
def test_an_entry_that_is_none_gets_a_sentence_with_its_name(entries, says):
    with pytest.raises(DriveProblem) as told:
        pendel.new("brushed_dc", **entries)
    assert says in str(told.value)


def test_units_of_any_kind_are_taken_and_what_is_empty_is_as_usual():
    plain = made(GOALS["brushed_dc"], {}, {})
    same = made(GOALS["brushed_dc"], {"R_a": "460 mohm", "L_a": "610 uH", "n_set": "", "J_m": "1.9e-4 kg*m^2"}, {})
    a, b = (looked_at(GOALS["brushed_dc"], drive, {}) for drive in (plain, same))
    assert [f.value for f in a.facts] == pytest.approx([f.value for f in b.facts])
    with pytest.raises(DriveProblem, match="no goal “fen”"):
        pendel.new("fen")
    with pytest.raises(DriveProblem, match="regulate"):
        pendel.new("brushed_dc", options={"regulate": "wheels"})


def test_the_terminal_makes_one(tmp_path, capsys):
    out = tmp_path / "door.pendel"
    assert terminal(["new", "brushed_dc", "--set", "regulate=position", "--set", "U_link=60 V", "--out", str(out)]) == 0
    drive = file.load(out)
    assert drive.quantities["U_link"].text == "60 V" and "position_p" in drive.cards
    assert terminal(["new", "brushed_dc", "--set", "U_link=2 V", "--out", str(out)]) == 1
    assert terminal(["new", "brushed_dc", "--set", "U_link"]) == 2
    assert terminal(["new"]) == 0 and terminal(["new", "fen"]) == 2


def test_margins_of_a_current_regulator_do_not_depend_on_how_slow_the_speed_regulator_is():
    """In d and q both axes are closed around by the same speed regulator, which a slower rate makes part of a longer
    period; the loop that is looked at keeps its own rate."""
    told = []
    for every in ("1", "10", "7"):
        d = pendel.new("synchronous")
        for card in ("speed_pi", "encoder"):
            d.set(f"{card}.every", every)
        told.append([(loop.crossover, loop.phase_margin, loop.ms) for loop in d.judge()[:2]])
    assert np.allclose(told[1], told[0], rtol=1e-6) and np.allclose(told[2], told[0], rtol=1e-6)


def test_a_slower_loop_elsewhere_in_the_drive_changes_no_margin():
    """One that has nothing to do with the loop that is looked at, but runs in the same code at another rate."""
    d = pendel.new("brushed_dc")
    before = [(loop.crossover, loop.phase_margin) for loop in d.judge()]
    for kind, name in (("set_voltage", "Source"), ("resistor", "Series"), ("capacitor", "Store"), ("ground", "Earth")):
        d.add(kind, name)
    d.add("voltage_sensor", "Beside", every="7")
    d.add("pi", "Beside PI", K_p="0.1", T_i="20 ms", every="7")
    d.add("constant", "Wanted", value="5 V", every="7")
    for a, b in (
        ("source.a", "series.a"),
        ("series.b", "store.a"),
        ("store.b", "source.b"),
        ("earth.line", "source.b"),
        ("store.voltage", "beside.measured"),
        ("beside.value", "beside_pi.actual"),
        ("wanted.out", "beside_pi.setpoint"),
        ("beside_pi.out", "source.set"),
    ):
        d.connect(a, b)
    after = {loop.regulator: (loop.crossover, loop.phase_margin) for loop in d.judge()}
    assert after["beside_pi"][1] > 45
    assert np.allclose([after["current_pi"], after["speed_pi"]], before, rtol=1e-6)


def test_tables_made_from_a_sheet_have_its_inductances():
    """At small currents and at the largest, q as the sheet says, d the same everywhere; less current holds the load
    than without the difference of both, as the torque is 1.5 p (ψ_d i_q − ψ_q i_d)."""
    d = pendel.new("synchronous", options={"machine": "tables"})
    table = d.document.cards["machine"].flux
    assert table == d.document.cards["current_regulator"].flux == d.document.cards["torque_to_currents"].flux
    top, zero = 1.5 * math.sqrt(2) * 9.1, table.i_d.index(min(table.i_d, key=abs))
    psi_q = np.array(table.psi_q[zero])
    assert np.interp(top, table.i_q, psi_q) / top == pytest.approx(0.7 * 3.6e-3, rel=5e-3)
    middle = len(table.i_q) // 2
    assert psi_q[middle + 1] / table.i_q[middle + 1] == pytest.approx(3.6e-3, rel=0.02)
    psi_d = np.array(table.psi_d)[:, middle]
    assert np.allclose(np.diff(psi_d) / np.diff(table.i_d), 2.2e-3)
    run = d.run()
    late = 0.9 * run.kept.end, run.kept.end  # over many steps of the encoder, which the speed loop passes on
    i_d, i_q = (run.averages(f"machine.i_{x}", *late).mean for x in "dq")
    facts, _ = facts_of("synchronous", d, {"machine": "tables"})
    assert i_d < -0.1 and math.hypot(i_d, i_q) / math.sqrt(2) < facts["current for the load, rms"]
    _, looked = facts_of(
        "synchronous", pendel.new("synchronous", options={"machine": "tables"}, k_sat="40"), {"machine": "tables"}
    )
    assert any("40 % of the inductance" in problem for problem in looked.problems)


def test_an_analogue_loop_is_what_its_closed_form_says():
    """The zero of the regulator takes the coil's pole, so that the current rises as 1 − exp(−2π f_c t); what the
    op-amp's own corner takes of that is below 1 % there, and more where the sheet says that it is hardly faster."""
    d = pendel.new("analogue_loop")
    facts, _ = facts_of("analogue_loop", d)
    run = d.run()
    begin, wanted = run.kept.end / 10, 0.8
    for constants in (0.5, 1.0, 2.0, 4.0):
        t = begin + constants * facts["time to 63 %"]
        assert run.at("coil.current", t) == pytest.approx(wanted * (1 - math.exp(-constants)), abs=0.01 * wanted)
    assert run["coil.current"].y[-1] == pytest.approx(wanted, rel=2e-3)
    assert run["amplifier.output"].y[-1] == pytest.approx(facts["voltage that holds the current"], rel=0.12)
    _, slow = facts_of("analogue_loop", pendel.new("analogue_loop", f_1="0.1 MHz"))
    assert any("hardly faster" in doubt for doubt in slow.doubts)
    _, short = facts_of("analogue_loop", pendel.new("analogue_loop", U_s="2 V"))
    assert any("Raise its supply" in problem for problem in short.problems)
    late = pendel.new("analogue_loop", f_c="2 kHz")
    _, looked = facts_of("analogue_loop", late)
    assert any("at its limit for a time" in doubt for doubt in looked.doubts)
    assert late.run()["amplifier.output"].y.max() == pytest.approx(24, rel=0.02)
