"""Figures of traces against their definitions, on points as uneven as a solver leaves them."""

import math
from functools import cached_property

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import pendel
from pendel.core import verbs
from pendel.core.drive.examples import DEMO
from pendel.core.errors import DriveProblem
from pendel.core.measures import MEASURES, Span
from pendel.core.runs.found.spectra import spectrum, spectrum_of_samples
from pendel.core.runs.record.measures import (
    Pieces,
    StepMeasures,
    averages,
    cut_at_turns,
    dip_measures,
    mean,
    step_measures,
    straight,
)


@st.composite
def traces(draw):
    """Straight between uneven points, with jumps now and then; it begins at 0 and ends near 1, as a response does."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    n = draw(st.integers(3, 30))
    gaps = 10.0 ** rng.uniform(-4, 0, n - 1)
    gaps[rng.random(n - 1) < 0.15] = 0.0
    gaps[0] = gaps[-1] = 0.1
    t = np.concatenate([[0.0], np.cumsum(gaps)])
    damped = np.exp(-3 * t / t[-1])
    y = 1 - damped * np.cos(draw(st.floats(0, 40)) * t / t[-1]) + rng.normal(0, 0.02, n) * damped
    y[0], y[-1] = 0.0, 1.0 + rng.uniform(-0.019, 0.019)
    return t, y


def with_points_between(t: np.ndarray, y: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """The same line with more points on it."""
    parts = np.sort(np.random.default_rng(seed).uniform(0, 1, (len(t) - 1, 3)), axis=1)
    parts[np.diff(t) == 0] = 0.0
    inner_t = t[:-1, None] + parts * np.diff(t)[:, None]
    inner_y = y[:-1, None] + parts * np.diff(y)[:, None]
    return (
        np.append(np.column_stack([t[:-1], inner_t]).ravel(), t[-1]),
        np.append(np.column_stack([y[:-1], inner_y]).ravel(), y[-1]),
    )


def figures(t: np.ndarray, y: np.ndarray, before=0.0, target=1.0) -> dict[str, float]:
    step, dip = step_measures(t, y, before, target), dip_measures(t, y, target)
    return {
        **vars(step),
        **{f"dip.{k}": v for k, v in vars(dip).items()},
        **vars(averages(straight(t, y), float(t[0]), float(t[-1]))),
    }


@settings(max_examples=150, deadline=None)
@given(traces(), st.integers(0, 2**32 - 1))
def test_more_points_on_the_same_line_change_no_figure(trace, seed):
    found, again = figures(*trace), figures(*with_points_between(*trace, seed))
    for name, value in found.items():
        assert again[name] == pytest.approx(value, rel=1e-6, abs=1e-7, nan_ok=True), name


@settings(max_examples=80, deadline=None)
@given(
    traces(),
    st.floats(1e-6, 1e4),
    st.floats(-50, 50),
    st.floats(-1e3, 1e3).filter(lambda a: abs(a) > 1e-3),
    st.floats(-5, 5),
)
def test_figures_follow_a_change_of_units_and_of_the_time_zero(trace, scale, shift, gain, offset):
    t, y = trace
    found = figures(t, y)
    late, other = scale * (t + shift), gain * y + offset
    step = step_measures(late, other, offset, gain + offset)
    assert step.overshoot == pytest.approx(found["overshoot"], rel=1e-6, abs=1e-4)
    assert step.remaining == pytest.approx(gain * found["remaining"], rel=1e-4, abs=1e-6 * abs(gain) + 1e-9)
    for name in ("rise", "settling"):
        wanted = scale * found[name]
        assert getattr(step, name) == pytest.approx(
            wanted, rel=1e-4, abs=1e-6 * scale * (t[-1] + abs(shift)), nan_ok=True
        )
    ends = float(late[0]), float(late[-1])
    assert averages(straight(late, other), *ends).ripple == pytest.approx(
        abs(gain) * found["ripple"], rel=1e-6, abs=1e-9
    )
    assert mean(late, other) == pytest.approx(gain * found["mean"] + offset, rel=1e-5, abs=1e-5 * abs(gain))


@settings(max_examples=100, deadline=None)
@given(traces())
def test_times_of_a_response_are_those_that_a_fine_grid_finds(trace):
    t, y = trace
    step, dip = step_measures(t, y, 0.0, 1.0), dip_measures(t, y, 1.0)
    fine = np.linspace(0, t[-1], 400_001)
    line, width = np.interp(fine, t, y), float(fine[1])
    near = 2 * width
    assert step.overshoot >= 100 * (np.max(line) - 1) - 1e-9
    # Åström, Murray: Feedback Systems, 2nd ed., section 6.3.
    outside = np.flatnonzero(np.abs(line - 1) > 0.02)
    # Two jumps at one instant pass by values that no grid has; the instant counts.
    last = max(fine[outside[-1]], t[np.abs(y - 1) > 0.02][-1])
    if abs(last - 0.98 * t[-1]) > near:
        assert step.settling == pytest.approx(last if last < 0.98 * t[-1] else math.nan, abs=near, nan_ok=True)
    # the target is one, so both bands are the same
    assert dip.recovery == pytest.approx(step.settling, abs=1e-9, nan_ok=True)
    first = [min(fine[line >= level][0], t[y >= level][0]) for level in (0.1, 0.9)]
    assert step.rise == pytest.approx(first[1] - first[0], abs=2 * near)
    tail = fine >= 0.98 * t[-1]
    assert step.remaining == pytest.approx(1 - np.mean(line[tail]), abs=1e-3)


def test_what_is_never_reached_or_means_nothing_is_not_a_number():
    t = np.array([0.0, 1.0, 2.0, 3.0])
    slow = step_measures(t, np.array([0.0, 0.5, 0.8, 0.85]), 0.0, 1.0)
    assert math.isnan(slow.rise) and math.isnan(slow.settling)
    assert slow.overshoot == 0 and slow.remaining == pytest.approx(0.1515, rel=1e-9)
    for t_, y_, target in ((t[:1], t[:1], 1.0), (t, t, 0.0), (t, np.array([0, 1, math.inf, 1]), 1.0)):
        assert all(math.isnan(v) for v in vars(step_measures(t_, y_, 0.0, target)).values())
    # A ripple of 2.5 % is within the band for most of the time, and at the end by chance.
    fine = np.linspace(0, 1, 20_001)
    restless = step_measures(fine, 1 + 0.025 * np.sin(2 * np.pi * 300.2 * fine), 0.0, 1.0)
    assert math.isnan(restless.settling)
    calm = step_measures(fine, 1 + 0.019 * np.sin(2 * np.pi * 300.2 * fine), 0.0, 1.0)
    assert calm.settling == 0.0
    # A dip that returns and leaves again has not recovered; about zero there is no percentage.
    back_and_gone = dip_measures(t, np.array([10.0, 8.0, 10.0, 9.0]), 10.0)
    assert back_and_gone.dip == -2.0 and back_and_gone.percent == 20.0 and math.isnan(back_and_gone.recovery)
    about_zero = dip_measures(t, np.array([0.0, 0.3, -0.1, 0.0]), 0.0)
    assert about_zero.dip == 0.3 and math.isnan(about_zero.percent) and math.isnan(about_zero.recovery)
    nothing = Pieces(np.empty(0), np.empty(0), np.empty(0))
    assert all(math.isnan(f) for f in (nothing.mean(0, 1), nothing.rms(0, 1), nothing.ripple(0, 1)))
    assert isinstance(slow, StepMeasures)


@settings(max_examples=80, deadline=None)
@given(st.integers(0, 2**32 - 1), st.floats(0, 1), st.floats(0, 1))
def test_averages_of_parabolas_are_their_integrals_on_any_window(seed, a, b):
    """Against NumPy's polynomials, piece by piece."""
    rng = np.random.default_rng(seed)
    t = np.concatenate([[0.0], np.cumsum(10.0 ** rng.uniform(-6, 0, 9))])
    ends, middle = rng.normal(0, 1, 10), rng.normal(0, 1, 9)
    start, end = sorted((a * t[-1], b * t[-1]))
    assume(end - start > 1e-9)
    total = {1: 0.0, 2: 0.0}
    for k in range(9):
        width = t[k + 1] - t[k]
        curve = np.polynomial.Polynomial.fit([0, 0.5, 1], [ends[k], middle[k], ends[k + 1]], 2, domain=[0, 1]).convert()
        low, high = (np.clip(x, t[k], t[k + 1]) - t[k] for x in (start, end))
        for power in total:
            whole = (curve**power).integ()
            total[power] += width * (whole(high / width) - whole(low / width))
    pieces = Pieces(t, ends, middle)
    assert pieces.mean(start, end) == pytest.approx(total[1] / (end - start), rel=1e-6, abs=1e-7)
    assert pieces.rms(start, end) ** 2 == pytest.approx(total[2] / (end - start), rel=1e-6, abs=1e-7)
    # Means of parts add up to that of the whole, however it is cut.
    cut = start + 0.37 * (end - start)
    parts = pieces.integral(start, cut) + pieces.integral(cut, end)
    assert parts == pytest.approx(pieces.integral(start, end), rel=1e-9, abs=1e-12)


@pytest.mark.parametrize("speed", [3.0, -3.0, 250.0])
@pytest.mark.parametrize("coarse", [0.4, 1.3, 2.9])
def test_a_turning_angle_has_the_mean_of_its_saw_tooth(speed, coarse):
    """Whole turns between −π and π have the mean 0 and the mean square π²/3, whichever way and however few points there
    are."""
    t = np.linspace(0.0, 20 * math.pi / abs(speed), int(20 * math.pi / coarse) + 1)

    def wrapped(at):
        return (speed * at + 1.0 + math.pi) % (2 * math.pi) - math.pi

    pieces = cut_at_turns(t, wrapped(t), wrapped(0.5 * (t[1:] + t[:-1])))
    assert pieces.mean(t[0], t[-1]) == pytest.approx(0.0, abs=1e-6)
    assert pieces.rms(t[0], t[-1]) == pytest.approx(math.pi / math.sqrt(3), rel=1e-6)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(1, 40))
def test_lines_of_a_spectrum_are_the_fourier_coefficients_of_the_trace(seed, order):
    """Of a trace that is straight between uneven points and jumps, by the integral of each piece in closed form."""
    rng = np.random.default_rng(seed)
    t = np.sort(np.concatenate([[0.0, 0.02], rng.uniform(0, 0.02, 12), jumps := rng.uniform(0, 0.02, 4), jumps]))
    y = rng.normal(0, 3, len(t))
    w = 2 * math.pi * order / 0.02
    whole = 0j
    for a, b, u, v in zip(t, t[1:], y, y[1:]):
        if b > a:
            slope, turn = (v - u) / (b - a), np.exp(-1j * w * np.array([a, b]))
            whole += (v * turn[1] - u * turn[0]) * 1j / w + slope * (turn[1] - turn[0]) / w**2
    lines = spectrum(t, y, 0.0, 0.02)
    assert lines.line(order / 0.02) == pytest.approx(2 * abs(whole) / 0.02, rel=1e-3, abs=1e-4)
    assert lines.mean == pytest.approx(mean(t, y), rel=1e-6, abs=1e-9)


@pytest.mark.parametrize(
    ("shape", "distortion"),
    [
        ("square", math.sqrt(sum(1 / k**2 for k in range(3, 51, 2)))),
        ("triangle", math.sqrt(sum(1 / k**4 for k in range(3, 51, 2)))),
        ("rectified", math.sqrt(sum((3 / (4 * k * k - 1)) ** 2 for k in range(2, 51)))),
        (
            "six steps",
            math.sqrt(sum(1 / k**2 for n in range(1, 9) for k in (6 * n - 1, 6 * n + 1) if k <= 50)),
        ),
    ],
)
def test_distortion_of_textbook_waves(shape, distortion):
    """Fourier series as in any table of them, cut at the 50th order; the window holds 3.7 periods, of which three whole
    ones count."""
    if shape == "rectified":  # |sin|, whose fundamental is twice the sine's frequency
        t = np.linspace(0, 3.7, 40_001)
        y, first = np.abs(np.sin(math.pi * t)), 1.0
    else:
        corners = {"square": [1, 1, -1, -1], "triangle": [0, 1, 0, -1], "six steps": [1, 2, 1, -1, -2, -1]}[shape]
        n = len(corners)
        at, levels, first = np.arange(4 * n + 1) / n, np.tile(corners, 5)[: 4 * n + 1].astype(float), 1.0
        held = shape != "triangle"
        t, y = (np.repeat(at, 2)[1:], np.repeat(levels, 2)[:-1]) if held else (at, levels)
    assert spectrum(t, y, 0.0, 3.7, fundamental=first).distortion(first) == pytest.approx(distortion, rel=2e-3)


def pulse_train(frequency, until, duty=0.5):
    t = np.repeat(np.arange(0, until * frequency), 4) / frequency
    t[1::4] += 0.0
    t[2::4] += duty / frequency
    t[3::4] += duty / frequency
    return np.append(t, until), np.append(np.tile([0.0, 1.0, 1.0, 0.0], round(until * frequency)), 0.0)


@pytest.mark.parametrize(("frequency", "until", "duty"), [(1e3, 1.0, 0.5), (20e3, 0.5, 0.3), (50.0, 0.02, 0.11)])
def test_harmonics_are_exact_however_many_periods_the_window_holds(frequency, until, duty):
    """A pulse train has 2/(πk)·sin(πkD), also where its 50th order lies far beyond the lines that are shown."""
    lines = spectrum(*pulse_train(frequency, until, duty), 0.0, until, fundamental=frequency)
    orders = np.arange(1, 51)
    wanted = np.abs(2 / (np.pi * orders) * np.sin(np.pi * orders * duty))
    assert [lines.line(k * frequency) for k in orders] == pytest.approx(wanted, rel=1e-6, abs=1e-7)
    distortion = math.sqrt(np.sum(wanted[1:] ** 2)) / wanted[0]
    assert lines.distortion(frequency) == pytest.approx(distortion, rel=1e-6)


@pytest.mark.parametrize("n", [64, 65, 1000])
def test_lines_of_samples_are_the_sines_that_were_sampled(n):
    """Whole periods within the window, up to half the rate."""
    step, t = 1e-3, 0.4 + 1e-3 * np.arange(n)
    tones = {1: 2.0, 7: 0.5, n // 2 - 1: 0.25}
    y = 3.0 + sum(a * np.sin(2 * np.pi * k * (t - 0.4) / (n * step) + k) for k, a in tones.items())
    lines = spectrum_of_samples(t, y)
    assert lines.mean == pytest.approx(3.0) and lines.end - lines.start == pytest.approx(n * step)
    for k, a in tones.items():
        assert lines.line(k / (n * step)) == pytest.approx(a, rel=1e-9)
    others = np.delete(lines.amplitude, [0, *tones])
    assert np.max(others) < 1e-9
    # Parseval: what the lines carry is the mean square.
    halves = lines.amplitude[1:] ** 2 / 2
    if n % 2 == 0:
        halves[-1] *= 2
    assert lines.mean**2 + halves.sum() == pytest.approx(np.mean(y**2))


def test_a_line_that_the_window_cannot_tell_is_not_a_number():
    t = np.linspace(0, 0.1, 1001)
    lines = spectrum(t, 3 + np.sin(2 * np.pi * 50 * t), 0.0, 0.1)
    assert lines.line(50) == pytest.approx(1.0, rel=1e-4) and lines.mean == lines.line(0) == pytest.approx(3.0)
    assert math.isnan(lines.line(0.1)) and math.isnan(lines.line(1e6))
    assert math.isnan(lines.distortion(0.1)) and math.isnan(lines.distortion(5000.0))
    assert lines.distortion(50) < 1e-3
    d = pendel.open(DEMO)
    d.set("until", "0.1 s")
    run = d.run()
    with pytest.raises(DriveProblem, match="0 s to 0.1 s holds no whole period of 0.1 Hz"):
        run.spectrum("door_motor.current", 0.0, 0.1, fundamental=0.1)
    with pytest.raises(DriveProblem, match="no signal"):
        run.spectrum("door_motor.curent", 0.0, 0.1)
    for options, words in (
        ({"start": "50 ms", "end": "20 ms"}, "50 ms to 20 ms"),
        ({"fundamental": "0 Hz"}, "0 Hz is no fundamental"),
        ({"fundamental": "1 Hz"}, "no whole period of 1 Hz"),
    ):
        with pytest.raises(DriveProblem, match=words):
            verbs.measure(d.document, signals=["door_motor.current"], **options)


def test_times_of_a_response_count_from_when_its_setpoint_moves():
    """Wherever the cursor stands before; a sampled setpoint moves at its tick, not on the way to it."""
    d = pendel.open(DEMO)
    d.set("until", "0.1 s")
    kept = d.run().kept
    wish, current = kept.trace("speed_pi.out"), kept.trace("door_motor.current")
    moved = float(wish.t[np.flatnonzero(wish.y != wish.y[0])[0]])
    assert moved > 0.05
    found = []
    for early in (0.0, moved / 3, moved * 0.99):
        span = Span(kept, "door_motor.current", early, 0.1, "speed_pi.out")
        assert span.steps_at == pytest.approx(moved, abs=1e-9)
        found.append((span.step, MEASURES["peak_current"].value(span)))
    assert found[0] == found[1] == found[2]
    assert found[0][1] == pytest.approx(np.max(np.abs(current.y)))


@pytest.mark.parametrize(
    "window, begins, size", [((0.0, 0.5), 0.1, 1.0), ((0.0, 0.9), 0.5, -1.5), ((0.4, 1.4), 0.9, 0.5)]
)
def test_a_step_down_and_a_reversal_have_the_measures_of_a_step(window, begins, size):
    """Of a first-order lag: rise ln 9 times T, settled to 2 % after ln 50 times T (Astrom, Murray: Feedback Systems,
    2nd ed., section 6.3), whatever the sign; of several steps in a window the last."""
    d, lag = pendel.Drive("Lag"), 0.02
    d.set("tick", "0.1 ms")
    d.set("until", "1.4 s")
    corners = [("0 s", "0"), ("0.1 s", "0"), ("0.1 s", "1"), ("0.5 s", "1"), ("0.5 s", "-0.5"), ("0.9 s", "-0.5")]
    d.add("profile", "Setpoint", profile=[*corners, ("0.9 s", "0")])
    d.add("pt1", "Lag", T=f"{lag} s")
    d.connect("setpoint.out", "lag.x")
    span = Span(d.run().kept, "lag.out", *window, "setpoint.out")
    assert span.move.begins == pytest.approx(begins, abs=2e-4)
    assert span.target - span.begins == pytest.approx(size, rel=1e-3)
    step = span.step
    assert step.rise == pytest.approx(math.log(9) * lag, rel=0.01) and step.overshoot < 0.01
    assert step.settling == pytest.approx(math.log(50) * lag, rel=0.01)


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_a_dip_is_told_beside_the_setpoint_at_the_load_and_not_beside_the_largest(sign):
    """After a reversal to a fifth of the speed: the deviation over the setpoint of that time, by definition."""
    d = pendel.open(DEMO)
    kept = d.run().kept
    wanted, speed = "travel_plan.speed", "door_leaf.speed"
    loaded = 0.62
    plain = Span(kept, speed, 0.0, kept.end, wanted)
    assert plain.disturbed_at == pytest.approx(loaded)
    t, y = kept.trace(speed).t, kept.trace(speed).y

    class Reversed(Span):
        """The same load, met while the setpoint is a fifth of what it was first, the other way round or not."""

        @cached_property
        def wish(self):
            times = np.array([0.0, 0.1, 0.1, 0.4, 0.4, self.end])
            level = -0.2 * sign * float(kept.trace(wanted).at(np.array([loaded]))[0])
            return times, np.array([0.0, 0.0, -5.0 * level, -5.0 * level, level, level])

    span = Reversed(kept, speed, 0.0, kept.end, wanted)
    target = span.wish[1][-1]
    after = (t >= loaded) & (t <= min((x for x in span.loads_move if x > loaded), default=kept.end))
    largest = np.max(np.abs(y[after] - target))
    assert span.dip.percent == pytest.approx(100 * largest / abs(target), rel=1e-3)
    assert span.move.begins == 0.4 and span.target == target


def test_figures_say_where_energy_between_their_times_stays_open(capsys, tmp_path):
    """A link of 800 V behind 20 mΩ without a load: each voltage keeps to its tolerance of 1e-6, and the small power
    does not. Beside the same at 1e-9, and under load."""
    d = pendel.open_example("valley_feeder")
    d.set("method", "auto")
    rough = d.run()
    d.set("tolerance", "1e-9")
    fine = d.run()
    power = [run.measure("mean", "link.power", 0.02, 0.04) for run in (rough, fine)]
    assert power[1] == pytest.approx(14.7, rel=0.01) and power[0] > 1.05 * power[1]
    doubt = rough.balance(0.02, 0.04).doubt
    share = float(doubt.split("Between these times ")[1].split(" %")[0]) / 100
    assert abs(power[0] / power[1] - 1) < 1.5 * share < 0.3
    assert not fine.balance(0.02, 0.04).doubt and not rough.balance(0.1, 0.16).doubt
    d.set("tolerance", "1e-6")
    d.save(tmp_path / "feeder.pendel")
    from pendel.cli.main import main

    call = ["measure", str(tmp_path / "feeder.pendel"), "--from", "20 ms", "--to", "40 ms", "--signals", "link.power"]
    assert main(call) == 0 and doubt in capsys.readouterr().out
