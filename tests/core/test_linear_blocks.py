"""The linear form of every block, against what the block does in a run when one of its inputs changes a little."""

from __future__ import annotations

import casadi as ca
import numpy as np
import pytest

import pendel
from pendel.core.catalogue.declare import Block
from pendel.core.catalogue.index import kinds
from pendel.core.controllers.symbolic import LinearBlock, hats, linear_block
from pendel.core.drive import commands
from pendel.core.drive.document import Drive, OwnEquations
from pendel.core.drive.examples import DEMO
from pendel.core.drive.file import load
from pendel.core.plant.program import RunSettings
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import prepare
from pendel.core.vocabulary import Deck, Link

from .test_catalogue import TABLE

TICK, BEFORE, AFTER, NUDGE = 1e-3, 30, 25, 1e-6
VALUES = {
    "slew_limiter": {"rise": "1e6", "fall": "1e6"},
    "state_space": {"A": "0.5"},
    "dead_band": {"width": "0.05"},
    "moving": {"T": "7 ms"},
    "delay": {"ticks": "4"},
    "pll_1": {"f_b": "2"},  # within its range of frequencies, though its input is no grid
    "dead_time_compensation": {"i_0": "10 mA"},  # beyond it: what is given back is no part of linear models
}
ON_THE_MOVE = ("pll_1", "pll_3", "rotor_flux_model", "speed_estimator")
"""Their own angle turns on, so the form of one tick is not that of the next."""


def cases() -> list[tuple[str, dict[str, str]]]:
    blocks = [
        kind
        for kind in kinds().values()
        if isinstance(kind, Block)
        and kind.deck is not Deck.SENSOR
        and any(port.link is Link.SIGNAL_IN for port in kind.ports)
    ]
    return [
        (kind.id, choices)
        for kind in sorted(blocks, key=lambda kind: kind.id)
        for choices in ({}, *({c.name: word} for c in kind.choices for word, _ in c.options[1:]))
        if (kind.id, choices) != ("state_space", {"given": "sampled"})  # other rows; the block is the same
    ]


def fed(kind: Block, chosen: dict[str, str], levels: dict[str, float], nudged: str = "") -> Drive:
    drive = pendel.Drive("Bench")
    drive.set("tick", f"{TICK} s")
    values = VALUES.get(kind.id, {}) if kind.id != "state_space" else {}
    key = drive.add(kind.id, "Under test", choices=chosen, flux=TABLE if kind.takes_flux else None, **values)
    change = repr((BEFORE - 0.5) * TICK)
    for name, level in levels.items():
        after = repr(level + NUDGE * (name == nudged))
        profile = [("0", repr(level)), (change, repr(level)), (change, after), ("1", after)]
        source = drive.add("profile", f"Feed {name}", profile=profile)
        drive.connect(f"{source}.out", f"{key}.{name}")
    return drive.document


def answer(document: Drive, outputs: tuple[str, ...]) -> np.ndarray:
    run = pendel.Drive(document=document).run((BEFORE + AFTER) * TICK)
    return np.array([run[f"under_test.{out}"].y[BEFORE : BEFORE + AFTER] for out in outputs])


def steps_of(form: LinearBlock, column: int, count: int) -> np.ndarray:
    """Outputs (outputs, count) after a step by one of an input."""
    z, out = np.zeros(len(form.E)), []
    for _ in range(count):
        out.append(form.G @ z + form.H[:, column])
        z = form.E @ z + form.F[:, column]
    return np.array(out).T


@pytest.mark.parametrize(
    ("kind_id", "choices"), cases(), ids=lambda x: "-".join(x.values()) if isinstance(x, dict) else x
)
def test_a_blocks_linear_form_is_what_small_changes_do(kind_id, choices):
    kind = kinds()[kind_id]
    levels = {
        port.name: round(float(x), 3)
        for port, x in zip(
            (p for p in kind.ports if p.link is Link.SIGNAL_IN), np.random.default_rng(3).uniform(0.1, 0.9, 20)
        )
    }
    document = fed(kind, choices, levels)
    prepared = prepare(document)
    (block,) = (b for b in prepared.deck.blocks if b.name == "under_test")
    with Simulator(prepared.program, prepared.inputs(RunSettings(1.0))) as simulator:
        simulator.advance((BEFORE - 0.8) * TICK)
        remembered = simulator.recorded().remembered
    form = linear_block(block, TICK, levels, {n: remembered.get(f"under_test.{n}", 0.0) for n in block.states})
    before = answer(document, block.outputs)
    count = 1 if kind_id in ON_THE_MOVE else AFTER
    for column, name in enumerate(block.inputs):
        seen = (answer(fed(kind, choices, levels, name), block.outputs) - before)[:, :count] / NUDGE
        expected = steps_of(form, column, count)
        np.testing.assert_allclose(expected, seen, rtol=1e-3, atol=1e-3 * max(1e-2, float(np.max(np.abs(seen)))))
    assert not form.limited


WITHOUT_A_FORM_AT_REST = {"pll_1", "pll_3", "speed_estimator", "emf_observer", "smaller_of_two", "larger_of_two"}
"""Where nothing turns there is no angle to follow; of two that are equal, either may lead."""


@pytest.mark.parametrize(
    ("kind_id", "choices"), cases(), ids=lambda x: "-".join(x.values()) if isinstance(x, dict) else x
)
def test_at_rest_a_blocks_linear_form_is_what_it_does_when_it_sets_out(kind_id, choices):
    """All inputs and all memory zero, where many a block is at a kink, such as the end of a table: the slope is that of
    setting out forward, which a loop at rest is judged by."""
    kind = kinds()[kind_id]
    if kind_id in WITHOUT_A_FORM_AT_REST or choices in ({"what": "rms"}, {"scheme": "block"}):
        pytest.skip("it has no slope there")
    levels = {port.name: 0.0 for port in kind.ports if port.link is Link.SIGNAL_IN}
    document = fed(kind, choices, levels)
    (block,) = (b for b in prepare(document).deck.blocks if b.name == "under_test")
    form, before = linear_block(block, TICK, levels), answer(document, block.outputs)
    for column, name in enumerate(block.inputs):
        seen = (answer(fed(kind, choices, levels, name), block.outputs) - before) / NUDGE
        expected = steps_of(form, column, AFTER)
        if kind_id == "three_phase_modulator":  # a load does not see what all phases have in common
            seen, expected = (x - np.roll(x, 1, axis=0) for x in (seen, expected))
        np.testing.assert_allclose(expected, seen, rtol=1e-3, atol=1e-3 * max(1e-2, float(np.max(np.abs(expected)))))


@pytest.mark.parametrize("axis", [[0.0, 1.0], [0.0, 1.0, 3.0], [-1.0, 0.0, 2.0, 5.0]])
def test_the_slope_of_a_table_is_that_of_its_lines(axis):
    """Between points; at a point the mean of both sides; at an end that of the inside; beyond, none."""
    points, heights = np.array(axis), np.array([0.3, 2.0, 1.5, 4.0])[: len(axis)]
    x = ca.SX.sym("x")
    table = ca.mtimes(hats(x, points).T, ca.DM(heights))
    value, slope = ca.Function("value", [x], [table]), ca.Function("slope", [x], [ca.jacobian(table, x)])
    inside = np.diff(heights) / np.diff(points)
    for at in np.linspace(points[0] - 1, points[-1] + 1, 41):
        assert float(value(at)) == pytest.approx(np.interp(at, points, heights), abs=1e-12)
    for k, at in enumerate(points):
        around = inside[max(0, k - 1) : k + 1]
        assert float(slope(at)) == pytest.approx(np.mean(around))
    for k, middle in enumerate(points[:-1] + np.diff(points) / 2):
        assert float(slope(middle)) == pytest.approx(inside[k])
    assert float(slope(points[0] - 0.1)) == float(slope(points[-1] + 0.1)) == 0


@pytest.mark.parametrize(
    ("formula", "slope"),
    [
        ("maximum(x, 0.0)", 1),
        ("minimum(x, 0.0)", 1),
        ("absolute(x)", 1),
        ("maximum(absolute(x), 1.0)", 0),
        ("x + absolute(x)", 2),
    ],
)
def test_an_own_block_at_its_kink_has_the_slope_of_a_side_and_not_of_the_middle(formula, slope):
    drive = pendel.Drive("Bench")
    drive.add("own_block", "Own", own=OwnEquations(("x: in", "out: out"), (), (), (), (f"out = {formula}",)))
    source = drive.add("constant", "Level", value="0")
    drive.connect(f"{source}.out", "own.x")
    (block,) = (b for b in prepare(drive.document).deck.blocks if b.name == "own")
    assert linear_block(block, TICK).H[0, 0] == slope


def block_of(kind: str, **values: str):
    drive = pendel.Drive("Bench")
    drive.set("tick", f"{TICK} s")
    key, source = drive.add(kind, "Under test", **values), drive.add("constant", "Level", value="0")
    drive.connect(f"{source}.out", f"{key}.x")
    return next(b for b in prepare(drive.document).deck.blocks if b.name == key)


@pytest.mark.parametrize("periods", [1, 3, 256, 257, 2000, 30000])
def test_delays_and_windows_of_any_length_are_their_definitions(periods):
    """z to the −n, and the mean of z to the −k for k below n: at rest, when nothing has gone into the window yet."""
    turned = np.array([0.01, 0.3, 1.0, 3.0])  # ω·T
    z = np.exp(1j * turned / periods)
    wanted = {
        "delay": (block_of("delay", ticks=str(periods)), z**-periods),
        "moving": (block_of("moving", T=f"{periods} ms"), np.mean(z[:, None] ** -np.arange(periods), axis=1)),
    }
    for block, response in wanted.values():
        seen = linear_block(block, TICK).response(z)[:, 0, 0]
        np.testing.assert_allclose(seen, response, atol=1e-9 if periods <= 256 else 2e-4)


def test_a_moving_root_mean_square_answers_by_its_level():
    """d√⟨x²⟩ = x/√⟨x²⟩/n at once, and 1 in the end."""
    block = block_of("moving", T="50 ms")
    from dataclasses import replace

    block = replace(block, values={**block.values, "square": 1.0})
    form = linear_block(block, TICK, {"x": 4.0}, {"total": 50 * 16.0})
    steps = steps_of(form, 0, 80)[0]
    np.testing.assert_allclose(steps, np.minimum(np.arange(1, 81), 50) / 50, rtol=1e-9)


@pytest.mark.parametrize(("kind", "periods"), [("moving", 40), ("delay", 400)])
def test_a_loop_with_a_window_has_the_margin_of_its_factors(kind, periods):
    """The speed loop of the door with the mean or the delay in its feedback: L is the product, so the phase that it
    adds at the crossover is that of its definition."""
    tick = 50e-6

    def judged(with_window: bool):
        drive = pendel.Drive(document=load(DEMO))
        source = "travel_speed.out"
        if with_window:
            values = {"T": f"{periods * tick!r} s"} if kind == "moving" else {"ticks": str(periods)}
            key = drive.add(kind, "Window", **values)
            commands.remove_wires(drive.document, [f"{source} -> speed_pi.actual"]).apply(drive.document)
            drive.connect(source, f"{key}.x")
            drive.connect(f"{key}.out", "speed_pi.actual")
        return drive.transfer(
            "speed_pi.out", f"{key}.out" if with_window else source, opened=["speed_pi.out"], at="rest"
        )

    omega = 2 * np.pi * np.array([0.5, 2.0, 8.0, 20.0])
    z = np.exp(1j * omega * tick)
    factor = z**-periods if kind == "delay" else np.mean(z[:, None] ** -np.arange(periods), axis=1)
    plain, whole = (judged(w).response(omega / (2 * np.pi)) for w in (False, True))
    np.testing.assert_allclose(whole.ravel(), (plain.ravel() * factor), rtol=2e-4)


@pytest.mark.parametrize("delay", [0.0, 20e-6, 130e-6, 2.01e-3, 5.12e-3, 10e-3])
def test_a_sensors_delay_of_any_length_is_its_definition(delay):
    """Between two samples it is straight; beyond 256 samples it is a chain of lags, and was an exception."""
    tick = 20e-6
    drive = pendel.Drive(document=load(DEMO))
    drive.set("tick", f"{tick} s")
    drive.set("current_sensor.delay", f"{delay} s")
    (block,) = (b for b in prepare(drive.document).deck.blocks if b.name == "current_sensor")
    f = np.array([1.0, 20.0, 200.0])
    z = np.exp(2j * np.pi * f * tick)
    whole, part = divmod(delay / tick, 1.0)
    column, row = block.inputs.index("measured"), block.outputs.index("value")
    seen = linear_block(block, tick).response(z)[:, row, column]
    np.testing.assert_allclose(seen, z**-whole * ((1 - part) + part / z), atol=1e-9 if delay < 5e-3 else 5e-3)
    if delay != 2.01e-3:  # a hundred states
        return
    current = next(loop for loop in drive.judge() if loop.regulator == "current_pi")
    plain = pendel.Drive(document=load(DEMO))
    plain.set("tick", f"{tick} s")
    before = next(loop for loop in plain.judge() if loop.regulator == "current_pi")
    # The delay turns by its angle at the crossover, which it leaves where it is.
    assert current.crossover == pytest.approx(before.crossover, rel=1e-3)
    turned = (before.phase_margin - current.phase_margin - 360 * before.crossover * delay) % 360
    assert min(turned, 360 - turned) < 1.0
