"""What a data sheet says, measured again on the machine that was made of it."""

import math

import numpy as np
import pytest

import pendel
from pendel.core.catalogue.electrical.recovery import SHORTEST_TAIL, TEN_PERCENT
from pendel.core.equations.reduce import owner_of
from pendel.core.runs.found.spectra import BINS, spectrum


@pytest.mark.parametrize("friction", ["0", "2e-5", "1e-3"])
def test_a_dc_machine_gives_its_rated_power_at_its_rated_speed_and_its_no_load_speed(friction):
    rated = 240.0 / (3800 * math.pi / 30)
    for entry, torque, speed in (("rated", rated, 3800), ("rated", 0.0, 4250), ("stall", 0.0, 4250)):
        d = pendel.Drive("Rated")
        d.set("until", "2 s")
        d.add("dc_source", "Supply", U_0="48 V", R_i="0")
        d.add("brushed_dc", "Motor", b_m=friction)
        d.choose("motor", entry=entry)
        d.add("load_torque", "Load", profile=[("0 s", f"{torque!r} N*m")])
        d.connect("supply.dc", "motor.winding")
        d.connect("motor.shaft", "load.a")
        run = d.run()
        assert run["motor.speed"].y[-1] * 30 / math.pi == pytest.approx(speed, rel=1e-5), (entry, friction)
        assert run["motor.power"].y[-1] == pytest.approx(torque * speed * math.pi / 30, rel=1e-4, abs=1e-3)


def test_a_recovery_charge_at_the_most_that_is_said_to_be_possible_runs():
    slope, t_rr = 100e6, 100e-9
    tail = SHORTEST_TAIL * t_rr
    peak = slope * (t_rr - TEN_PERCENT * tail)
    most = peak * (0.5 * peak / slope + tail)

    def swept_out(charge: float) -> pendel.Drive:
        d = pendel.Drive("Recovery")
        d.set("until", "2 us")
        d.add("dc_source", "Back", U_0="100", R_i="0")
        d.add("pair_opener", "Ends")
        d.add("inductor", "Stray", L="0.001", R_s="0", starts={"i": "-20 A"})
        sheet = {"Q_rr": f"{charge * 1e6!r}", "t_rr": "100", "I_F": "20", "slope": "100"}
        d.add("diode", "Diode", V_d="0", R_d="0.01", starts={"q": "20 A * 200 ns"}, **sheet)
        ends = (("back.dc", "ends.pair"), ("ends.plus", "stray.a"), ("stray.b", "diode.b"), ("diode.a", "ends.minus"))
        for end in ends:
            d.connect(*end)
        return d

    run = swept_out(0.999 * most).run()
    assert not run.kept.message and np.min(run["diode.current"].y) < -0.9 * peak
    (finding,) = [f for f in swept_out(0.5 * slope * t_rr**2).check() if f.stops]
    assert "At most" in finding.sentence


def test_a_fraction_in_a_field_of_percent_is_a_finding_with_its_remedy():
    d = pendel.Drive("Gear")
    d.add("gear", "Gear", eta="0.94")
    (finding,) = [f for f in d.check() if f.field == "eta"]
    assert "94 %" in finding.sentence and not finding.stops
    d.do(finding.fix)
    assert not [f for f in d.check() if f.field == "eta"]
    d.set("gear.eta", "0.94 %")
    assert not [f for f in d.check() if f.field == "eta"]


@pytest.mark.parametrize("card", ["drum", "red_gear", "der", "e_motor", "order"])
def test_a_finding_keeps_its_card_whatever_letters_its_name_has(card):
    for name in (f"der({card}.omega)", f"through:{card}.winding", f"der({card}.i)", f"{card}.x"):
        assert owner_of(name) == card


def test_the_highest_line_of_a_spectrum_has_the_amplitude_of_its_sine():
    """What averaging over bins takes, sin(x)/x, is a tenth there; it is divided out again."""
    order = BINS // 4
    t = np.linspace(0.0, 1.0, 40 * order + 1)
    lines = spectrum(t, 2.0 * np.sin(2 * np.pi * order * t), 0.0, 1.0)
    assert lines.line(order) == pytest.approx(2.0, rel=5e-3)
