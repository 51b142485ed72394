"""Every catalogue entry: builds, saves, reloads, runs, conserves energy or agrees with its shipped C."""

from dataclasses import replace

import numpy as np
import pytest

import pendel
from pendel.core.catalogue.declare import Block, Deck, Link, Part
from pendel.core.catalogue.index import kinds
from pendel.core.catalogue.machines.flux import table_of
from pendel.core.catalogue.own import EXAMPLE
from pendel.core.check import examine
from pendel.core.controllers.language import LanguageProblem, parse_update, read_update
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.tree import CannotLower
from pendel.core.drive import commands, file
from pendel.core.firmware.ranges import sizes_in
from pendel.core.firmware.ship import compare
from pendel.core.runs.preparing.simulate import prepare, run_drive
from tests.core.test_flux_tables import I_D, I_Q, TABLE

PARTS = [k.id for k in kinds().values() if isinstance(k, Part)]
BLOCKS = [k.id for k in kinds().values() if isinstance(k, Block) and k.ports]


WIDE = table_of(25 * I_D, 25 * I_Q, 20 * np.array(TABLE.psi_d), 20 * np.array(TABLE.psi_q))
"""Wide enough for a machine that starts without a controller; beyond its table energy is not kept."""


def bench_for_part(kind):
    """The part with something fitting on each of its power ports."""
    d = pendel.Drive("Bench")
    profile = [("0", "0"), ("0.02", "3"), ("0.1", "3")] if kind.has_profile else ()
    flux = WIDE if kind.takes_flux else None
    key = d.add(kind.id, "Under test", profile=profile, flux=flux, own=EXAMPLE if kind.id == "own" else None)
    ports = kind.ports or (() if kind.id != "own" else ())
    if kind.id == "own":
        d.add("dc_source", "Feed")
        d.connect("feed.dc", f"{key}.winding")
        return d, key
    if kind.id == "op_amp":  # a follower: an op-amp without feedback has no working point
        d.add("ac_source", "Feed", U="3")
        d.add("ground", "Earth")
        d.add("resistor", "Load", R="100")
        for a, b in (("feed.a", "plus"), ("load.a", "out")):
            d.connect(a, f"{key}.{b}")
        for a, b in (("feed.b", "earth.line"), ("load.b", "earth.line"), (f"{key}.minus", f"{key}.out")):
            d.connect(a, b)
        return d, key
    for n, port in enumerate(ports):
        if port.link is Link.DC:
            feed = port.side == "left" or kind.id == "dc_source"
            partner = "dc_source" if feed and kind.id != "dc_source" else "brushed_dc"
            other = d.add(partner, f"Other {n}")
            d.connect(f"{key}.{port.name}", f"{other}.{'dc' if partner == 'dc_source' else 'winding'}")
        elif port.link is Link.AC3:
            other = d.add(
                "star_load" if kind.group in ("supply", "converter") and port.side == "right" else "three_phase_source",
                f"Other {n}",
            )
            d.connect(
                f"{key}.{port.name}",
                f"{other}.{'in' if (other[:5], d.document.cards[other].kind) == ('other', 'star_load') else 'out'}",
            )
        elif port.link is Link.LINE and kind.id == "ground":
            d.add("dc_source", "Feed")
            d.add("brushed_dc", "User")
            d.connect("feed.dc", "user.winding")
            d.connect("feed.dc", f"{key}.{port.name}")
        elif port.link is Link.LINE and port.required:
            # Each line sees an AC source behind a resistance, a third of a turn after the line before.
            other, earth = d.add("ac_source", f"Feed {n}", U="10", angle=f"{120 * n} deg"), f"earth_{n}"
            d.add("resistor", f"Load {n}", R="5")
            d.add("ground", f"Earth {n}")
            d.connect(f"{other}.b", f"{earth}.line")
            d.connect(f"{other}.a", f"load_{n}.a")
            d.connect(f"load_{n}.b", f"{key}.{port.name}")
        elif port.link is Link.SHAFT and kind.id != "brushed_dc":
            other = d.add(
                "inertia",
                f"Wheel {n}",
                starts={"omega": "4 rad/s"} if n == 0 and not kind.has_profile else None,
            )
            d.connect(f"{key}.{port.name}", f"{other}.a")
        elif port.link is Link.ROD:
            other = d.add("mass", f"Body {n}", m="1", starts={"v": "2 m/s"} if n == 0 else None)
            d.connect(f"{key}.{port.name}", f"{other}.a")
        elif port.link is Link.HEAT and port.required:
            other = d.add("heat_capacity", f"Body {n}", T_0=f"{20 + 30 * n} °C")
            d.connect(f"{key}.{port.name}", f"{other}.a")
        elif port.link is Link.SIGNAL_IN:
            other = d.add("sine", f"Tone {n}", amplitude="0.7", f="50")
            d.connect(f"{other}.out", f"{key}.{port.name}")
    return d, key


@pytest.mark.parametrize("kind_id", PARTS)
def test_part_reloads_runs_and_conserves_energy(kind_id):
    kind = kinds()[kind_id]
    assert kind.title and kind.sentence.endswith(".")
    d, key = bench_for_part(kind)
    again = pendel.Drive(document=file.from_text(file.to_text(d.document)))
    run = again.run(0.1, with_energy=True)
    shown = kind.signals if kind_id != "own" else ()
    for s in shown:
        if s.levels and "averaged" not in s.levels:
            continue
        assert np.all(np.isfinite(run[f"{key}.{s.name}"].y))
    supplied = sum(run[k].y[-1] for k in run.keys() if k.startswith("energy.supplied:"))
    lost = sum(run[k].y[-1] for k in run.keys() if k.startswith(("energy.lost:", "energy.delivered:")))
    stored = run["energy.stored"].y
    size = max(abs(supplied), abs(lost), float(np.max(stored)), 1e-3)
    if kind_id == "own":
        return  # its stored energy is the user's own matter
    # In discontinuous conduction the mean of a choke's current says too little of its energy while it changes.
    allowed = 1e-4 if kind_id in ("step_down", "step_up", "inverting") else 2e-6
    assert abs(supplied - lost - (stored[-1] - stored[0])) < allowed * size


@pytest.mark.parametrize("kind_id", [*PARTS, *BLOCKS])
def test_what_a_card_shows_comes_from_its_default_values(kind_id):
    kind = kinds()[kind_id]
    d = pendel.Drive("Bench")
    flux = TABLE if kind.takes_flux else None
    key = d.add(kind_id, "Under test", flux=flux, own=EXAMPLE if kind_id == "own" else None)
    examined = examine(d.document)
    card, values = d.document.cards[key], examined.values[key]
    assert all(np.isfinite(f.value) for f in (kind.follows(values, card) if kind.follows else []))
    assert not (kind.contradictions(values, card) if kind.contradictions else [])
    if isinstance(kind, Part) and kind.drawing:
        known = {s.name for s in kind.signals}
        used = {n for e in kind.drawing.elements for n in (e.current, e.voltage, *e.gates) if n}
        assert used <= known


SPECIAL = {
    "gear_choice": {"rows": [("1 km/h",), ("2 km/h",)], "T_wait": "10 ms"},
    "current_parts": {"least": "0.1 V"},
    "step": {"t_0": "0.03"},
    "ramp": {"t_0": "0.03"},
    "emf_observer": {"e_min": "0"},
}


PERIODIC = ("period_mean", "unbiased_integral", "current_parts")
"""Blocks that work from one passing of an angle's end to the next."""


def bench_for_block(kind):
    """The block between sines and a tap; sensors read a spinning motor."""
    d = pendel.Drive("Block bench")
    d.set("tick", "100 us")
    d.add("dc_source", "Feed")
    d.add("four_quadrant_bridge", "Bridge")
    d.add("brushed_dc", "Motor")
    d.connect("feed.dc", "bridge.dc")
    d.connect("bridge.out", "motor.winding")
    profile = [("0", "0"), ("0.02", "0.5"), ("0.04", "-0.2")] if kind.has_profile else ()
    key = d.add(
        kind.id,
        "Under test",
        profile=profile,
        flux=TABLE if kind.takes_flux else None,
        **SPECIAL.get(kind.id, {}),
    )
    for n, port in enumerate(p for p in kind.ports if p.link is Link.SIGNAL_IN):
        if kind.deck is Deck.SENSOR:
            d.connect(
                "motor.angle" if port.unit == "rad" else "motor.current" if port.unit != "V" else "motor.voltage",
                f"{key}.{port.name}",
            )
        elif kind.id in PERIODIC and port.name == "angle":
            d.add("sine", "Grid", amplitude="300", f="50")
            d.add("pll_1", "Locked")
            d.connect("grid.out", "locked.u")
            d.connect("locked.angle", f"{key}.angle")
        elif (
            kind.id == "emf_observer" and port.name[-1] in "abc"
        ):  # with one tone on all phases it has nothing to follow
            shift, size = -120 * "abc".index(port.name[-1]), 10 if port.name.startswith("u_") else 1
            tone = d.add("sine", f"Tone {n}", amplitude=str(size), f="40", angle=f"{shift} deg")
            d.connect(f"{tone}.out", f"{key}.{port.name}")
        else:
            tone = d.add("sine", f"Tone {n}", amplitude=str(0.6 + 0.3 * n), mean="0.1", f=str(17 + 13 * n))
            d.connect(f"{tone}.out", f"{key}.{port.name}")
    out = next(p.name for p in kind.ports if p.link is Link.SIGNAL_OUT)
    d.add("limiter", "Clip", low="-0.5", high="0.5")
    if kind.deck is Deck.SENSOR:
        d.add("sine", "Drive", amplitude="0.4", f="20")
    d.connect("drive.out" if kind.deck is Deck.SENSOR else f"{key}.{out}", "clip.x")
    d.connect("clip.out", "bridge.duty")
    return d, key, out


@pytest.mark.parametrize("kind_id", BLOCKS)
def test_block_reloads_runs_and_its_shipped_code_agrees(kind_id):
    kind = kinds()[kind_id]
    read_update(kind.update)
    d, key, out = bench_for_block(kind)
    document = file.from_text(file.to_text(d.document))
    prepared = prepare(document)
    run = run_drive(prepared, until=0.1)
    assert not run.message
    assert np.ptp(run.trace(f"{key}.{out}").y) > 0 or kind_id == "constant"
    for c in compare(lower(prepared.deck, Choices(NumberFormat.FLOAT64)), run):
        simulated = run.trace(c.signal).y
        gap = np.abs(replace(c, simulated=simulated).gap)
        assert np.max(gap) <= 1e-9 * max(1.0, float(np.max(np.abs(simulated)))), c.signal
    sizes = {f"{k}.{n}": x for k, found in sizes_in(prepared.deck, run).items() for n, x in found.items()}
    for number, allowed in ((NumberFormat.FLOAT32, 2e-3), (NumberFormat.FIXED32, 1e-3), (NumberFormat.FIXED16, 0.05)):
        try:
            made = lower(prepared.deck, Choices(number), sizes)
        except CannotLower as problem:
            assert "float" in str(problem) and number.fixed
            continue
        for c in compare(made, run):
            # At standstill rounding decides which way an observer sets out.
            late = len(c.gap) // 2 if kind_id == "emf_observer" else 0
            size = max(c.span, float(np.max(np.abs(c.simulated))), 1e-3)
            # One tick at an edge may fall on either side of it. The speed is held up to the estimator's own limit.
            gap = np.sort(np.abs(c.gap[late:]))[: -1 - len(c.gap) // 200]
            coarse = 2.0 if kind_id == "speed_estimator" and number is NumberFormat.FIXED16 else 1.0
            assert np.max(gap) <= coarse * allowed * size, (number, c.signal, np.max(gap) / size)


@pytest.mark.parametrize(
    "text",
    [
        "def f(x, out):\n    import os\n",
        "def f(x, out):\n    out = x ** 2\n",
        "def f(x, out):\n    out = open(x)\n",
        "def f(x, out):\n    while x:\n        x = 0\n",
        "def f(x, out):\n    out = y\n",
    ],
)
def test_block_language_refuses_what_is_outside_it(text):
    with pytest.raises(LanguageProblem):
        parse_update(text)


def sensed(door, **values):
    commands.set_values(door, "current_sensor", values, "x").apply(door)
    return pendel.Drive(document=door).run()


def test_sensor_errors_show_as_declared_and_repeat_exactly(door):
    run = sensed(door, gain_error="3", offset="0.2")
    ticks = run["current_sensor.value"]
    true = run.at("door_motor.current", ticks.t)
    np.testing.assert_allclose(ticks.y, 1.03 * true + 0.2, atol=2e-3)
    noisy = sensed(door, gain_error="0", offset="0", noise_relative="1.5", noise_absolute="0.05")
    again = sensed(door, gain_error="0", offset="0", noise_relative="1.5", noise_absolute="0.05")
    np.testing.assert_array_equal(noisy["current_sensor.value"].y, again["current_sensor.value"].y)
    true = noisy.at("door_motor.current", noisy["current_sensor.value"].t)
    scatter = (noisy["current_sensor.value"].y - true) / (0.05 + 0.015 * np.abs(true))
    assert np.std(scatter) == pytest.approx(1.0, rel=0.03)  # 24 000 normal deviates
    assert abs(np.mean(scatter)) < 0.03
    commands.set_setting(door, "seed", "2").apply(door)
    other = pendel.Drive(document=door).run()
    assert np.any(other["current_sensor.value"].y != again["current_sensor.value"].y)
    commands.set_setting(door, "sensors", "ideal").apply(door)
    ideal = pendel.Drive(document=door).run()
    np.testing.assert_allclose(ideal["current_sensor.value"].y, ideal.at("door_motor.current", ticks.t), atol=1e-9)


def test_encoder_speed_moves_in_whole_counts(door):
    run = pendel.Drive(document=door).run()
    one = 2 * np.pi / (4 * 512) / 1e-3
    steps = run["encoder.speed"].y / one
    np.testing.assert_allclose(steps, np.round(steps), atol=1e-9)


def test_delay_and_quantisation(door):
    run = sensed(door, delay="200 us", bits="8", range="32")
    step = 64 / 256
    seen = run["current_sensor.value"]
    np.testing.assert_allclose(seen.y / step, np.round(seen.y / step), atol=1e-9)
    late = run.at("door_motor.current", np.maximum(seen.t - 200e-6, 0))
    assert np.max(np.abs(seen.y - late)) <= step / 2 + 2e-3
