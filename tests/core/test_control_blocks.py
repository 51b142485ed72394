"""Every block against its difference equation in SciPy, or its closed form."""

import math

import numpy as np
import pytest
import scipy.interpolate
import scipy.signal

import pendel
from pendel.core.controllers.numbers.lowering import Choices, lower
from pendel.core.controllers.numbers.representation import NumberFormat
from pendel.core.controllers.numbers.source import files
from pendel.core.drive import commands, file
from pendel.core.errors import DriveHasFindings
from pendel.core.firmware.ship import build_and_check, compare
from pendel.core.runs.preparing.simulate import prepare

TICK = 1e-3
T = np.arange(401) * TICK


def output(kind, port="out", *, until=0.4, inputs=None, choices=None, rows=(), **values):
    """Samples of a block fed by profiles; one per tick."""
    d = pendel.Drive("Bench")
    d.set("tick", f"{TICK} s")
    key = d.add(kind, "Under test", choices=choices, rows=rows, **values)
    for name, samples in (inputs or {}).items():
        source = d.add(
            "profile", f"Feed {name}", profile=[(repr(float(t)), repr(float(y))) for t, y in zip(T, samples)]
        )
        d.connect(f"{source}.out", f"{key}.{name}")
    return d.run(until)[f"{key}.{port}"].y


RANDOM = np.random.default_rng(5).uniform(-1, 1, len(T))


def close(got, wanted):
    np.testing.assert_allclose(got, wanted[: len(got)], atol=1e-9 * max(1.0, np.max(np.abs(wanted))))


def test_pt1_is_the_exact_lag_of_a_held_input():
    # SciPy's zero-order-hold equivalent gives the next sample; the block answers within its tick.
    (b,), a, _ = scipy.signal.cont2discrete(([3.0], [0.007, 1.0]), TICK, method="zoh")
    close(output("pt1", inputs={"x": RANDOM}, K="3", T="7 ms"), scipy.signal.lfilter(b[1:], a, RANDOM))


def test_integrator_sums_forward_from_its_start():
    wanted = 0.4 + scipy.signal.lfilter([0, 2 * TICK], [1, -1], RANDOM)
    close(output("integrator", inputs={"x": RANDOM}, K_i="2", start="0.4"), wanted)
    clipped = output("integrator", inputs={"x": np.ones_like(T)}, K_i="10", low="-1", high="1")
    assert np.max(clipped) == 1.0


def test_pi_and_pid_are_their_transfer_functions_while_free():
    wide = {"low": "-1e6", "high": "1e6"}
    pi = output("pi", inputs={"setpoint": RANDOM}, K_p="4", T_i="20 ms", **wide)
    integral = scipy.signal.lfilter([TICK / 0.02], [1, -1], RANDOM)
    close(pi, 4 * (RANDOM + integral))
    pid = output("pid", inputs={"setpoint": RANDOM}, K_p="4", T_i="20 ms", T_d="3 ms", T_f="1 ms", **wide)
    slope = scipy.signal.lfilter(np.array([1, -1]) * 0.003, [0.001 + TICK, -0.001], RANDOM)
    # The first error is no step: its derivative is left out, and so is its echo in the filter.
    echo = 0.003 * RANDOM[0] / (0.001 + TICK) * (0.001 / (0.001 + TICK)) ** np.arange(len(T))
    close(pid, 4 * (RANDOM + integral + slope - echo))
    close(output("p", inputs={"setpoint": RANDOM, "actual": 0.5 * RANDOM}, K_p="4"), 2 * RANDOM)


def test_pi_leaves_its_limit_as_soon_as_the_error_turns():
    error = np.where(T < 0.3, 1.0, -0.5)
    out = output("pi", inputs={"setpoint": error}, K_p="2", T_i="10 ms", low="-3", high="3")
    turn = int(np.searchsorted(T, 0.2995))
    assert out[turn - 1] == 3.0
    # Without anti-windup the integral would stand at 60 and hold the limit for 0.6 s.
    assert out[turn + 1] < 3.0 - 1.0
    held = output("pi", inputs={"setpoint": error}, choices={"loop": "open"}, open_output="7", low="-3", high="3")
    assert set(held) == {3.0}


def test_slew_limiter_and_delay():
    step = np.where(T < 0.1, 0.0, 1.0)
    close(output("slew_limiter", inputs={"x": step}, rise="20", fall="5"), np.clip((T - 0.099) * 20, 0, 1))
    close(output("delay", inputs={"x": RANDOM}, ticks="7"), np.concatenate([np.zeros(7), RANDOM]))


def test_generators_follow_their_formulas():
    close(
        output("sine", amplitude="2", mean="0.5", f="31 Hz", angle="40 deg"),
        0.5 + 2 * np.sin(2 * np.pi * 31 * T + np.deg2rad(40)),
    )
    close(output("step", before="1", after="4", t_0="0.2"), np.where(T >= 0.1999, 4.0, 1.0))
    close(output("ramp", before="1", after="4", t_0="0.1", duration="0.2"), np.interp(T, [0.1, 0.3], [1, 4]))


@pytest.mark.parametrize("controller", ["as modelled", "float32", "fixed16", "fixed32"])
@pytest.mark.parametrize("tick", ["100 us", "50 us", "30 us", "1 ms"])
def test_a_profile_jumps_at_the_tick_at_which_a_step_does(tick, controller):
    """100 µs is no binary fraction: 200 of them are a little less than 20 ms."""
    d = pendel.Drive("Jumps")
    d.set("tick", tick)
    if controller != "as modelled":
        d.set("controller", "as shipped")
        d.set("number_format", controller)
    times = ("3 ms", "6.3 ms", "19.9 ms", "20 ms", "21 ms")
    for n, time in enumerate(times):
        d.add("profile", f"P{n}", profile=[("0", "-1"), (time, "-1"), (time, "2"), ("1 s", "2")])
        d.add("step", f"S{n}", before="-1", after="2", t_0=time)
    run = d.run("25 ms")
    for n in range(len(times)):
        np.testing.assert_allclose(run[f"p{n}.out"].y, run[f"s{n}.out"].y, atol=1e-3, err_msg=times[n])
        assert set(np.round(run[f"p{n}.out"].y, 3)) == {-1.0, 2.0}


@pytest.mark.parametrize("shipped", [False, True])
@pytest.mark.parametrize(("every", "phase"), [(1, 0), (10, 3), (7, 6)])
def test_sources_go_by_the_time_of_the_run_whatever_their_phase(every, phase, shipped):
    """Closed forms at the ticks at which a block runs; what it gave holds until the next, and nothing before the
    first."""
    d = pendel.Drive("Sources")
    d.set("tick", "0.1 ms")
    d.set("controller", "as shipped" if shipped else "as modelled")
    given = {
        "step": {"t_0": "2.32 ms"},
        "ramp": {"t_0": "2.32 ms", "duration": "6.5 ms", "before": "-1"},
        "sine": {"f": "37 Hz", "angle": "25 deg", "mean": "0.5"},
        "three_phase_sine": {"f": "-61 Hz", "shift": "190 deg"},
        "travel_plan": {"distance": "0.3", "t_0": "1.71 ms", "v_max": "2", "a_max": "8"},
    }
    for kind, values in given.items():
        d.add(kind, kind, every=str(every), **values)
    d.add("profile", "Profile", every=str(every), profile=[("0", "1"), ("3.05 ms", "2"), ("20 ms", "-1")])
    for key in d.cards:
        if phase:
            d.do(commands.set_phase(d.document, key, str(phase)))
    run = d.run("20 ms")
    k = np.arange(len(run["step.out"].y))
    due = (k - phase) // every * every + phase
    t, on = due * 1e-4, due >= 0
    wanted = {
        "step.out": t >= 2.32e-3,
        "ramp.out": -1 + 2 * np.clip((t - 2.32e-3) / 6.5e-3, 0, 1),
        "sine.out": 0.5 + np.sin(2 * np.pi * 37 * t + np.radians(25)),
        "three_phase_sine.b": np.sin(-2 * np.pi * 61 * t + np.radians(190 - 120)),
        "travel_plan.speed": np.maximum(0, 8 * (t - 1.71e-3)),
        "profile.out": np.interp(t, [0, 3.05e-3, 20e-3], [1, 2, -1]),
    }
    for signal, y in wanted.items():
        np.testing.assert_allclose(run[signal].y, np.where(on, y, 0.0), atol=2e-5, err_msg=signal)


@pytest.mark.parametrize(("distance", "v_max"), [("0.3", "2"), ("0.3", "0.5"), ("-0.1", "0.9"), ("0", "1")])
def test_a_travel_plan_arrives_within_its_limits(distance, v_max):
    values = {"distance": distance, "v_max": v_max, "a_max": "8", "d_max": "5", "t_0": "0.02"}
    until = 1.2
    speed = output("travel_plan", "speed", until=until, **values)
    position = output("travel_plan", "position", until=until, **values)
    assert position[-1] == pytest.approx(float(distance), abs=1e-12)
    assert speed[-1] == 0.0
    assert np.max(np.abs(speed)) <= float(v_max) + 1e-12
    size = np.sign(float(distance)) * np.diff(speed) / TICK
    assert np.max(size, initial=0) <= 8 + 1e-6
    assert np.min(size, initial=0) >= -5 - 1e-6
    # Trapezoid rule of the speed against the position; corners between ticks cost at most a·dt² each.
    travelled = np.concatenate([[0], np.cumsum((speed[1:] + speed[:-1]) / 2 * TICK)])
    np.testing.assert_allclose(position, travelled, atol=4 * 8 * TICK**2)


def test_arithmetic_and_selection():
    a, b = RANDOM, RANDOM[::-1].copy()
    close(output("sum", inputs={"a": a, "b": b}), a + b)
    close(output("compare", inputs={"setpoint": a, "actual": b}), a - b)
    close(
        output("selector", inputs={"first": a, "second": b, "choose": a}, threshold="0.2"),
        np.where(a > 0.2, b, a),
    )
    close(output("product", inputs={"a": a, "b": b}), a * b)
    close(output("limiter", inputs={"x": a}, low="-0.3", high="0.6"), np.clip(a, -0.3, 0.6))
    close(output("gain", inputs={"x": a}, K="-2.5"), -2.5 * a)


def in_a_loop(first, kind, **values):
    """``first`` draws the summing block before (True) or after the remembering one."""
    d = pendel.Drive("Loop")
    d.set("tick", f"{TICK} s")
    cards = (
        ("profile", "Feed", {"profile": [(repr(float(t)), repr(float(y))) for t, y in zip(T, RANDOM)]}),
        ("gain", "Back", {"K": "-0.6"}),
        ("sum", "Add", {}),
        (kind, "Memory", values),
    )
    for card, name, more in cards if first else reversed(cards):
        d.add(card, name, **more)
    for a, b in (
        ("feed.out", "add.a"),
        ("back.out", "add.b"),
        ("add.out", "memory.x"),
        ("memory.out", "back.x"),
    ):
        d.connect(a, b)
    return d


@pytest.mark.parametrize("first", [True, False])
def test_a_memory_in_a_loop_gives_first_and_takes_in_later(first):
    summed = in_a_loop(first, "integrator", K_i="30").run(0.4)["memory.out"].y
    close(summed, scipy.signal.lfilter([0, 30 * TICK], [1, -1 + 0.6 * 30 * TICK], RANDOM))
    late = in_a_loop(first, "delay", ticks="4").run(0.4)
    close(late["add.out"].y, scipy.signal.lfilter([1], [1, 0, 0, 0, 0.6], RANDOM))
    deck = prepare(in_a_loop(first, "delay", ticks="4").document).deck
    for compared in compare(lower(deck, Choices(NumberFormat.FLOAT64)), late.kept):
        assert np.max(np.abs(compared.shipped - late[compared.signal].y)) < 1e-12


def test_blocks_that_pass_on_at_once_may_not_form_a_loop():
    with pytest.raises(DriveHasFindings, match="feed each other within one tick"):
        in_a_loop(True, "pt1").run(0.1)


def sampled(num, den, x):
    """Tustin's rule at TICK, by SciPy."""
    return scipy.signal.lfilter(*scipy.signal.bilinear(num, den, 1 / TICK), x)


def test_filters_are_their_difference_equations():
    (b,), a, _ = scipy.signal.cont2discrete(([2.0], [1 / (2 * np.pi * 30) ** 2, 2 * 0.4 / (2 * np.pi * 30), 1]), TICK)
    close(output("pt2", inputs={"x": RANDOM}, K="2", f_0="30", D="0.4"), scipy.signal.lfilter(b[1:], a, RANDOM))
    rows = [("2", "1"), ("0.003", "0.01"), ("0", "2e-5")]
    close(output("function_s", inputs={"x": RANDOM}, rows=rows), sampled([0.003, 2], [2e-5, 0.01, 1], RANDOM))
    rows = [("0.1", "0.2"), ("0.3", "-0.7"), ("0.5", "2")]
    close(
        output("function_z", inputs={"x": RANDOM}, rows=rows),
        scipy.signal.lfilter([0.5, 0.3, 0.1], [2, -0.7, 0.2], RANDOM),
    )
    a, b, c, d = (
        np.array([[-20, 300], [-300, -20]]),
        np.array([[0], [50]]),
        np.array([[1, 0.5]]),
        np.array([[0.2]]),
    )
    rows = [("-20", "300", "0", "0", "0", "1"), ("-300", "-20", "0", "0", "50", "0.5")]
    num, den = scipy.signal.ss2tf(a, b, c, d)
    close(output("state_space", inputs={"x": RANDOM}, rows=rows, d="0.2"), sampled(num[0], den, RANDOM))


def test_notch_and_lead_lag_meet_their_frequency():
    """Response measured with a sine at the very frequency, where Tustin's rule alone would miss it by its warping."""

    def response(kind, f, **values):
        out = output(kind, inputs={"x": np.sin(2 * np.pi * f * T)}, **values)[200:400]
        return 2 * np.mean(out * np.exp(-2j * np.pi * f * T[200:400])) * 1j

    assert abs(response("notch", 200, f_0="200", width="0.8", depth="4")) == pytest.approx(0.04, abs=1e-6)
    t_1, t_2 = 4e-3, 0.25e-3
    f = 1 / np.sqrt(t_1 * t_2) / (2 * np.pi)
    b, a = scipy.signal.bilinear([t_1, 1], [t_2, 1], np.pi * f / np.tan(np.pi * f * TICK))
    close(
        output("lead_lag", inputs={"x": RANDOM}, K="1", T_1="4", T_2="0.25"),
        scipy.signal.lfilter(b, a, RANDOM),
    )
    _, h = scipy.signal.freqz(b, a, [2 * np.pi * f * TICK])
    s = 2j * np.pi * f
    assert h[0] == pytest.approx((1 + t_1 * s) / (1 + t_2 * s), rel=1e-9)


def test_moving_windows_table_and_logic():
    n = 20
    padded = np.concatenate([np.zeros(n), RANDOM])
    count = np.minimum(np.arange(len(T)) + 1, n)
    sums = np.array([np.sum(padded[k + 1 : k + n + 1]) for k in range(len(T))])
    squares = np.array([np.sum(padded[k + 1 : k + n + 1] ** 2) for k in range(len(T))])
    close(output("moving", inputs={"x": RANDOM}, T="20 ms"), sums / count)
    close(output("moving", inputs={"x": RANDOM}, T="20 ms", choices={"what": "rms"}), np.sqrt(squares / count))
    rows = [("-0.5", "2"), ("0", "-1"), ("0.7", "4")]
    close(output("curve", inputs={"x": RANDOM}, rows=rows), np.interp(RANDOM, [-0.5, 0, 0.7], [2, -1, 4]))
    close(output("dead_band", inputs={"x": RANDOM}, width="0.3"), RANDOM - np.clip(RANDOM, -0.3, 0.3))
    a, b = RANDOM > 0, np.roll(RANDOM, 7) > 0.2
    laws = {"and": a & b, "or": a | b, "either": a ^ b, "not": ~a, "not both": ~(a & b), "neither": ~(a | b)}
    for law, wanted in laws.items():
        close(
            output("logic", inputs={"a": a.astype(float), "b": b.astype(float)}, choices={"law": law}),
            wanted.astype(float),
        )
    on, states = 0.0, []
    for x in RANDOM:
        on = 1.0 if x >= 0.5 else 0.0 if x <= -0.5 else on
        states.append(on)
    close(output("hysteresis", inputs={"x": RANDOM}, on_at="0.5", off_at="-0.5"), np.array(states))


@pytest.mark.parametrize(
    "kind, rows, words",
    [
        ("function_s", [("1", "1"), ("1", "0")], "would need the future"),
        ("function_z", [("1", "0")], "denominator are zero"),
        ("curve", [("0", "1"), ("0", "2")], "not beyond 0"),
        ("state_space", 5 * [("-1", "0", "0", "0", "1", "1")], "1 to 4 are possible"),
    ],
)
def test_free_functions_say_what_they_lack(kind, rows, words):
    with pytest.raises(DriveHasFindings, match=words):
        output(kind, inputs={"x": RANDOM}, rows=rows)


def test_a_table_over_two_signals_is_scipys_on_its_grid():
    x, y = np.array([-0.9, -0.2, 0.1, 0.8]), np.array([-0.7, 0.0, 0.6])
    z = np.random.default_rng(2).uniform(-3, 3, (4, 3))
    rows = [(repr(float(a)), repr(float(b)), repr(float(z[k, j]))) for k, a in enumerate(x) for j, b in enumerate(y)]
    feed = np.roll(RANDOM, 7)
    got = output("map", inputs={"x": RANDOM, "y": feed}, rows=rows[::-1])
    grid = scipy.interpolate.RegularGridInterpolator((x, y), z)
    close(got, grid(np.column_stack([np.clip(RANDOM, x[0], x[-1]), np.clip(feed, y[0], y[-1])])))
    d = pendel.Drive("Bench")
    for bad, words in (
        (rows[1:], "no value at x = -0.9, y = -0.7"),
        ([*rows, rows[4]], "a second time"),
        (rows[:3], "two different x"),
    ):
        d.add("map", "Surface", rows=bad)
        assert any(words in f.sentence for f in d.check())


def turning(speed_by, speed, tick="100 us", every="1"):
    d = pendel.Drive("Bench")
    d.set("tick", tick)
    d.add("imposed_speed", "Shaft", profile=[("0", repr(speed)), ("9", repr(speed))])
    d.add("inertia", "Disc", J="0.001")
    d.connect("shaft.a", "disc.a")
    d.add("encoder", "Encoder", choices={"speed_by": speed_by}, lines="512", clock="20 MHz", every=every)
    d.add("gain", "Reader", K="1")
    d.connect("disc.angle", "encoder.angle")
    d.connect("encoder.speed", "reader.x")
    return d


def test_timing_edges_resolves_what_counting_cannot():
    # One edge is 2π/2048 rad. Counting moves by an edge a tick, 30.7 rad/s here; a clock of 20 MHz tells the time of
    # some hundred microseconds between edges to one part in thousands.
    for speed in (3.3, -3.3, 41.7):
        late = slice(400, None)
        counted = turning("counting", speed).run(0.1)["encoder.speed"].y[late]
        timed = turning("timing", speed).run(0.1)["encoder.speed"].y[late]
        one = 2 * np.pi / 2048 / 100e-6
        np.testing.assert_allclose(counted / one, np.round(counted / one), atol=1e-9)
        assert np.max(np.abs(counted - speed)) > 3.0
        np.testing.assert_allclose(timed, speed, rtol=2e-3)


def test_a_counter_with_an_end_begins_again_and_counts_on_for_the_speed():
    """Of 8 bits and 16 lines a turn: 4 turns; at 30 turns a second 1.92 of the 64 edges pass in a period of 1 ms."""
    d = pendel.Drive("Counter")
    d.set("tick", "1 ms")
    d.add("profile", "Angle", profile=[("0", "0"), ("1 s", f"{60 * math.pi}")])
    d.add("encoder", "Coder", lines="16", counter_bits="8", every="1")
    d.connect("angle.out", "coder.angle")
    run = d.run(0.5)
    t, position, speed = run["coder.position"].t, run["coder.position"].y, run["coder.speed"].y
    counts = np.floor(60 * math.pi * t * 64 / (2 * math.pi) + 1e-9)
    np.testing.assert_allclose(position * 64 / (2 * math.pi), np.remainder(counts + 128, 256) - 128, atol=1.01)
    assert np.ptp(position) > 7.5 * math.pi and np.min(position) < -3 * math.pi
    np.testing.assert_allclose(speed[1:] * 64 / (2 * math.pi) * 1e-3, np.diff(counts), atol=1.01)
    assert np.mean(speed[1:]) == pytest.approx(60 * math.pi, rel=1e-2)
    d.set("coder.counter_bits", "")
    on = d.run(0.5)
    np.testing.assert_array_equal(on["coder.speed"].y, speed)  # the same edges, wherever the counter stands
    assert on["coder.position"].y[-1] == pytest.approx(30 * math.pi, rel=0.01)


@pytest.mark.parametrize("steps", [4, 1000])
def test_duties_are_whole_steps_of_the_timer_as_modelled_and_as_shipped(steps):
    d = pendel.Drive("Duties")
    d.set("tick", "100 us")
    d.set("until", "20 ms")
    d.add("three_phase_sine", "Wave", amplitude="250", f="50 Hz")
    d.add("three_phase_modulator", "Pulses", U_dc="560", timer=str(steps))
    d.add("pulse_stage", "Bridge", U_dc="560", timer=str(steps))
    for n in "abc":
        d.connect(f"wave.{n}", f"pulses.u_{n}")
    d.connect("wave.a", "bridge.u")
    modelled = d.run()
    d.set("pulses.timer", "")
    d.set("bridge.timer", "")
    smooth = d.run()
    d.set("pulses.timer", str(steps))
    d.set("bridge.timer", str(steps))
    d.find_ranges()
    for signal in ("pulses.d_a", "pulses.d_c", "bridge.duty"):
        whole = modelled[signal].y * steps
        np.testing.assert_allclose(whole, np.round(whole), atol=1e-9)
        assert 0.2 / steps < np.max(np.abs(modelled[signal].y - smooth[signal].y)) <= 0.5 / steps + 1e-12
    d.set("controller", "as shipped")
    for number, off in (("float32", 1e-6), ("fixed32", 1e-6), ("fixed16", 1.01 / steps + 1e-3)):
        d.set("number_format", number)
        shipped = d.run()
        for signal in ("pulses.d_b", "bridge.duty"):
            gap = np.abs(shipped[signal].y - modelled[signal].y)
            assert np.quantile(gap, 0.97) <= off  # what lies in the middle of two steps may be either
            assert np.max(gap) <= 1.01 / steps + 2e-4


def door_with(phases):
    d = pendel.open_example("car_door_drive")
    for card, phase in phases.items():
        commands.set_phase(d.document, card, phase).apply(d.document)
    return d


SLOW = ("encoder", "travel_speed", "travel_plan", "speed_pi")


def test_blocks_run_at_their_phase_as_modelled_and_as_shipped():
    """All slow blocks seven ticks later: what they give changes at those ticks alone, as modelled and in the shipped
    C."""
    d = door_with(dict.fromkeys(SLOW, "7"))
    d.set("until", "0.3 s")
    d.find_ranges()
    for controller in ("as modelled", "as shipped"):
        d.set("controller", controller)
        d.set("number_format", "fixed16")
        run = d.run()
        for signal in ("speed_pi.out", "travel_plan.speed", "travel_speed.out"):
            changed = 1 + np.flatnonzero(np.diff(run[signal].y))
            assert len(changed) > 100 and set(changed % 20) == {7}, signal
    made = prepare(d.document).lowered
    assert "if ((c->tick % 20u) == 7u) {" in files(made).source
    assert not build_and_check(made, run.kept).unlike


def test_loops_know_the_phase_of_their_blocks():
    """A whole loop that runs later is the same loop; a regulator that reads ten ticks after the sensor has that much
    more dead time, which costs 360°·f·10·T of phase (closed form)."""
    loops = {}
    for name, phases in (("none", {}), ("all", dict.fromkeys(SLOW, "7")), ("late", dict.fromkeys(SLOW[1:], "10"))):
        loops[name] = next(a for a in door_with(phases).judge() if a.name == "Speed")
    first, moved, late = loops["none"], loops["all"], loops["late"]
    assert moved.crossover == pytest.approx(first.crossover, rel=1e-9)
    assert moved.phase_margin == pytest.approx(first.phase_margin, abs=1e-6)
    more = 360 * late.phase_at * 10 * 50e-6
    assert late.crossover == pytest.approx(first.crossover, rel=2e-2)
    assert first.phase_margin - late.phase_margin == pytest.approx(more, abs=0.25)
    model = [door_with(p).linear("speed_pi.out", "travel_speed.out") for p in ({}, dict.fromkeys(SLOW, "7"))]
    at = 2 * np.pi * np.array([3.0, 30.0])
    np.testing.assert_allclose(model[0].response(at), model[1].response(at), rtol=1e-6)


@pytest.mark.parametrize("phase", ["20", "-1", "1.5", "many", "²"])
def test_a_phase_beyond_its_period_gets_a_sentence(phase):
    with pytest.raises(DriveHasFindings, match="from 0 to 19"):
        prepare(door_with({"speed_pi": phase}).document)
    document = door_with({"speed_pi": "3"}).document
    assert file.from_text(file.to_text(document)).cards["speed_pi"].phase == "3"


def test_a_period_longer_than_the_run_is_told_at_its_block_or_for_all():
    d = pendel.open_example("car_door_drive")
    d.set("speed_pi.every", "24000")
    (finding,) = d.check()
    assert finding.card == "speed_pi" and "runs every 1.2 s" in finding.sentence and not finding.stops
    d.set("speed_pi.every", "23999")
    assert not d.check()
    d.set("tick", "1.2 s")
    assert any("sampling period of 1.2 s" in f.sentence and f.field == "tick" for f in d.check())


def test_arithmetic_of_two_signals_and_the_slope_of_a_ramp():
    d = pendel.Drive("Figures")
    d.add("profile", "Ramp", profile=[("0 s", "1"), ("50 ms", "3"), ("100 ms", "-2")])
    d.add("constant", "Two", value="-0.2")
    for kind, ports in (
        ("absolute_value", "x"),
        ("smaller_of_two", "ab"),
        ("larger_of_two", "ab"),
        ("quotient", "ab"),
        ("derivative", "x"),
    ):
        key = d.add(kind, kind.partition("_")[0])
        d.connect("ramp.out", f"{key}.{ports[0]}")
        if len(ports) > 1:
            d.connect("two.out", f"{key}.{ports[1]}")
    d.set("quotient.low", "-12")
    d.set("tick", "1 ms")
    d.set("until", "100 ms")
    run = d.run()
    x = run["ramp.out"].y
    assert run["absolute.out"].y == pytest.approx(np.abs(x))
    assert run["smaller.out"].y == pytest.approx(np.minimum(x, -0.2))
    assert run["larger.out"].y == pytest.approx(np.maximum(x, -0.2))
    assert run["quotient.out"].y == pytest.approx(np.maximum(-12, x / -0.2))
    d.set("quotient.b_min", "0.5")  # of the divisor, with its sign
    assert d.run()["quotient.out"].y == pytest.approx(np.maximum(-12, x / -0.5))
    slope = run["derivative.out"].y
    assert slope[0] == 0 and slope[45] == pytest.approx(40, rel=1e-6) and slope[95] == pytest.approx(-100, rel=1e-6)
