"""Drives that turn steadily, against closed forms in d and q, and against sines in runs while they turn."""

import json

import numpy as np
import pytest
import scipy.integrate
import scipy.linalg

import pendel
from pendel.cli.main import main
from pendel.core.drive import commands
from pendel.core.errors import DriveProblem
from pendel.core.loops.models.linear import linear_plant
from pendel.core.loops.models.points import point_in_run
from pendel.core.loops.models.turning import rotation_of
from pendel.core.runs.preparing.simulate import averaged, prepare


@pytest.fixture(scope="module")
def haul():
    """On its test bench at 570 rpm, long enough that its currents have settled."""
    d = pendel.open_example("haul_drive")
    d.set("until", "300 ms")
    return d


def test_a_synchronous_machine_is_the_textbooks_in_d_and_q(haul):
    """Schröder, Elektrische Antriebe – Regelung von Antriebssystemen, chapter 16 (from memory): L_d di_d/dt = u_d − R
    i_d + ω L_q i_q, L_q di_q/dt = u_q − R i_q − ω L_d i_d. Voltages stand still in the stator for a tick, turned
    forward by one and a half; they act one tick late. The regulator's outputs are both opened."""
    omega, dt = 4 * 570 * np.pi / 30, 1e-4
    R, L = 0.040 + 0.003, np.array([0.9e-3, 1.4e-3])  # the machine's, and a transistor's
    A = np.array([[-R / L[0], omega * L[1] / L[0]], [-omega * L[0] / L[1], -R / L[1]]])

    def turned(angle):
        return np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])

    def part(tau):
        return (scipy.linalg.expm(A * (dt - tau)) @ np.diag(1 / L) @ turned(0.5 * omega * dt - omega * tau)).ravel()

    B = scipy.integrate.quad_vec(part, 0, dt)[0].reshape(2, 2)
    a = scipy.linalg.expm(A * dt)
    f = np.array([10.0, 100.0, 1000.0, 3000.0])
    z = np.exp(2j * np.pi * f * dt)
    direct = np.abs([np.linalg.solve(each * np.eye(2) - a, B[:, 0] / each)[0] for each in z])
    both = ("current_regulator.u_d", "current_regulator.u_q")
    for k, source in enumerate(both):
        for j, target in enumerate(("measured_currents.d", "measured_currents.q")):
            found = haul.transfer(source, target, opened=both, at="steady")
            expected = np.array([np.linalg.solve(each * np.eye(2) - a, B[:, k] / each)[j] for each in z])
            assert np.all(np.abs(found.response(f) - expected) < 5e-3 * np.abs(expected) + 5e-4 * direct)
    poles = np.log(found.model.poles[np.abs(found.model.poles) > 0.1]) / dt
    assert sorted(poles.imag) == pytest.approx(sorted(np.linalg.eigvals(A).imag), rel=1e-3)
    assert sorted(poles.real) == pytest.approx(sorted(np.linalg.eigvals(A).real), rel=1e-2)
    assert found.point.name == "in steady rotation, 38 Hz" and found.point.calm


def swept(d, source, target, frequencies):
    return d.sweep(source, target, frequencies, at="steady").points


def test_sines_in_the_turning_saturated_machine_confirm_the_model_and_loops_are_judged_there():
    """At rest the q loop seems well damped; under torque the iron saturates, and it is not."""
    d = pendel.open_example("haul_drive_tables")
    d.set("until", "300 ms")
    for point in swept(d, "torque_to_currents.i_q", "measured_currents.q", [30.0, 300.0, 1000.0, 2000.0]):
        assert abs(point.off_db) < 0.2 and abs(point.off_degrees) < 2.0 and point.linear
    rest, turning = d.judge()[1], d.judge("steady")[1]
    assert rest.phase_margin > 65 and turning.phase_margin < 45 and turning.ms > 2.5 and turning.stable
    assert turning.crossover > 2.5 * rest.crossover
    peak = swept(d, "torque_to_currents.i_q", "measured_currents.q", [1200.0])[0]
    assert 20 * np.log10(abs(peak.response)) > 3.0, "it rings in the run as well"


def test_what_couples_d_and_q_is_seen(haul):
    """Without dead time, some −30 dB of what crosses over agree within 0.3 dB."""
    d = pendel.Drive(document=haul.document.copy())
    d.card("inverter")["t_dead"] = "0 s"
    for point in swept(d, "torque_to_currents.i_q", "measured_currents.d", [300.0, 1000.0]):
        assert abs(point.response) < 0.05 and abs(point.off_db) < 0.3 and abs(point.off_degrees) < 2.0
    for slow in ("torque_to_currents", "torque_demand"):  # at a quarter of the rate, one of them at another tick
        d.card(slow)["every"] = "4"
    d.do(commands.set_phase(d.document, "torque_to_currents", "3"))
    for point in swept(d, "torque_demand.out", "haul_machine.torque", [300.0, 900.0]):
        assert abs(point.off_db) < 0.05 and abs(point.off_degrees) < 0.5
    d.set("computing_delay", "0")
    for every, phase in (("4", "3"), ("1", "")):
        d.card("torque_to_currents")["every"], d.card("torque_demand")["every"] = every, every
        d.do(commands.set_phase(d.document, "torque_to_currents", phase))
        found = d.transfer("torque_demand.out", "haul_machine.torque", at="steady")
        assert np.max(np.abs(found.model.poles)) < 1, "no pole of rounding in it"


def test_an_induction_machine_turns_with_slip():
    d = pendel.open_example("old_haul_drive")
    d.remove("grid", "transformer", "rectifier", "link_lines", "link_capacitor")
    d.add("dc_source", "Stiff link", U_0="545 V", R_i="10 mohm")
    d.connect("stiff_link.dc", "inverter.dc")
    for point in swept(d, "speed_regulator.out", "flux_model.q", [100.0]):
        assert abs(point.off_db) < 0.25 and abs(point.off_degrees) < 1.5, point
    turning = d.judge("steady")
    assert all(r.stable and r.problem == "" for r in turning)
    at_rest = [250.1, 250.1, 5.26, 4.01]  # Hz; judged there, flux built up
    assert [r.crossover for r in turning] == pytest.approx(at_rest, rel=0.05)


def test_a_profile_counts_where_a_drive_is_made_linear(haul):
    """The test bench turns the machine by a profile: ω L_q/L_d couples its currents at any instant of a run."""
    ready = prepare(averaged(haul.document))
    plant = linear_plant(ready, (), point_in_run(ready, 0.2))
    d, q = plant.states.index("haul_machine.i_d"), plant.states.index("haul_machine.i_q")
    assert plant.A[d, q] == pytest.approx(4 * 570 * np.pi / 30 * 1.4 / 0.9, rel=1e-3)
    rotation = rotation_of(ready)
    assert rotation.rate == pytest.approx(4 * 570 * np.pi / 30, rel=1e-6)


def test_regulators_of_several_rates_behind_an_encoder_are_judged_as_they_were_laid_out():
    """Speed loop at f_p/500 and current loops at f_p/25 by the goal's own formulas, whatever the speed loop's rate and
    the encoder's lines are; with an observer in place of the sensor too. (Sines in runs say the same within 5 % and 6°,
    in minutes.)"""
    for every, lines in (("1", "2048"), ("10", "64")):
        d = pendel.new("synchronous")
        d.set("speed_pi.every", every)
        d.set("encoder.every", every)
        d.set("encoder.lines", lines)
        loops = {loop.name: loop for loop in d.judge("steady")}
        assert all(loop.stable and loop.damped for loop in loops.values())
        assert loops["Speed"].crossover == pytest.approx(8000 / 500, rel=0.05)
        assert loops["Current along q"].crossover == pytest.approx(8000 / 25, rel=0.12)
    blind = pendel.new("synchronous", options={"sensor": "none"})
    (steady,) = (loop for loop in blind.judge("steady") if loop.name == "Speed")
    assert steady.stable and steady.crossover == pytest.approx(8000 / 1000, rel=0.05)


def test_what_does_not_stand_still_gets_a_sentence(haul, tmp_path, capsys):
    with pytest.raises(DriveProblem, match="do not stand still in a frame that turns"):
        haul.transfer("current_a.value", "measured_currents.d", at="steady")
    fast = pendel.Drive(document=haul.document.copy())
    fast.do(commands.set_profile(fast.document, "test_bench", [("0 s", "2400 rpm"), ("1 s", "2400 rpm")]))
    fast.card("torque_demand")["after"] = "50 N*m"
    swept_there = fast.transfer("torque_to_currents.i_q", "measured_currents.q", at="steady")
    assert any("Current regulator is at its limit here" in words for words in swept_there.remarks)
    assert not any(
        "limit" in words
        for words in haul.transfer("torque_to_currents.i_q", "measured_currents.q", at="steady").remarks
    )
    short = pendel.Drive(document=haul.document.copy())
    short.set("until", "20 ms")
    with pytest.raises(DriveProblem, match="turns twice"):
        short.transfer("torque_to_currents.i_q", "measured_currents.q", at="steady")
    rope = pendel.open_example("haul_drive_rope")
    with pytest.raises(DriveProblem, match="speeds up or slows down .* Make the run longer"):
        rope.judge("steady")
    with pytest.raises(DriveProblem, match="reports the angle of its field"):
        pendel.open_example("valley_feeder").judge("steady")
    with pytest.raises(DriveProblem, match="not at “noon”"):
        haul.judge("noon")
    haul.save(tmp_path / "haul.pendel")
    assert main(["loops", str(tmp_path / "haul.pendel"), "--at", "steady", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert [round(each["phase_margin"]) for each in found] == [69, 69]


def test_what_answers_to_nothing_in_any_frame_is_told_in_words():
    """Block commutation jumps from sector to sector: no frame has states that a small change reaches."""
    (loop,) = pendel.open_example("cabin_fan").judge("steady")
    assert "do not stand still in a frame that turns" in loop.problem and not loop.stable
