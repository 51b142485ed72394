"""The haul drive on its elastic rope: natural frequency, damping loop, what unequal current sensors do."""

from pathlib import Path

import numpy as np
import pytest

import pendel
from pendel.core.drive import commands

EXAMPLES = Path(pendel.__file__).parent / "examples"


@pytest.fixture(scope="module")
def runs():
    found = []
    for on in ("0", "1"):
        d = pendel.open_drive(EXAMPLES / "haul_drive_rope.pendel")
        commands.set_quantity(d.document, "damping", on).apply(d.document)
        found.append(d.run())
    return found


def test_a_torque_step_rings_at_the_two_masses_frequency_until_it_is_damped(runs):
    """ω = √(k·(1/J_1 + 1/J_2)), both referred to the machine; Schröder: Elektrische Antriebe – Regelung von
    Antriebssystemen, section 19.1 (from memory)."""
    k, j_1, j_2 = 200e3 * (0.6 / 8) ** 2, 0.42, 1500 * (0.6 / 8) ** 2
    wanted = np.sqrt(k * (1 / j_1 + 1 / j_2)) / (2 * np.pi)
    t = np.arange(0.1, 0.9, 1e-3)
    plain, damped = (run.at("rope.force", t) for run in runs)
    middle = plain - np.convolve(plain, np.ones(119) / 119, mode="same")  # less a period's mean
    spectrum = np.abs(np.fft.rfft(middle[60:660] * np.hanning(600), 1 << 15))
    found = np.argmax(spectrum) / ((1 << 15) * 1e-3)
    assert found == pytest.approx(wanted, rel=0.04)
    assert np.ptp(damped[200:]) < 0.4 * np.ptp(plain[200:])
    assert np.max(plain) > 1.4 * np.max(damped)


def test_unequal_current_sensors_ripple_the_torque_at_twice_the_electrical_frequency():
    """Gains 4 % high and 3 % low: twice; an offset: once. Common practice, no source."""
    d = pendel.open_drive(EXAMPLES / "haul_drive.pendel")
    d.set("torque_demand.after", "68 N*m")
    d.set("until", "0.2 s")

    def lines():
        run = d.run()
        f = 4 * 570 / 60
        spectrum = run.spectrum("haul_machine.torque", 0.2 - 5 / f, 0.2, fundamental=f)
        return spectrum.line(f), spectrum.line(2 * f)

    clean = lines()
    d.set("current_a.gain_error", "4 %")
    d.set("current_b.gain_error", "-3 %")
    once, twice = lines()
    assert twice > 5 * once and twice > 5 * max(clean)
    d.set("current_a.gain_error", "0")
    d.set("current_b.gain_error", "0")
    d.set("current_a.offset", "3 A")
    once, twice = lines()
    assert once > 5 * twice and once > 5 * max(clean)
