"""Currents parted by power, against the definitions on a fine grid and closed forms.

Tenti, Paredes, Mattavelli, IEEE Trans. Power Electronics 26 (2011): conservative power theory (definitions, from
memory). IEEE 1459: P/S is the power factor."""

import numpy as np
import pytest

import pendel
from pendel.cli.main import main
from pendel.core.errors import DriveProblem
from pendel.core.runs.found.powers import powers

ORDERS = {1: (325.0, 0.0), 3: (40.0, 0.7), 5: (-18.0, 2.1)}
"""Of the voltage: peak (V) and phase (rad), of sines."""
R, L = 8.0, 30e-3


def exact(f, t):
    """Voltage, current of an R-L load, and unbiased integral of the voltage."""
    w = 2 * np.pi * f
    u, i, integral = np.zeros_like(t), np.zeros_like(t), np.zeros_like(t)
    for n, (peak, phase) in ORDERS.items():
        z = R + 1j * n * w * L
        u += peak * np.sin(n * w * t + phase)
        i += peak / abs(z) * np.sin(n * w * t + phase - np.angle(z))
        integral += -peak / (n * w) * np.cos(n * w * t + phase)
    return u, i, integral


def run_parts(f, offset=0.0):
    """By the update itself, tick by tick: its text is what runs in every format."""
    from pendel.core.catalogue.control import power_parts

    dt = 50e-6
    t = np.arange(int(0.3 / dt)) * dt
    u, i, _ = exact(f, t)
    angle = np.angle(np.exp(1j * 2 * np.pi * f * t))
    return t, u + offset, i, angle, power_parts, dt


def through(update, inputs, outputs, states, values, dt):
    """Run an update of the block language as Python."""
    import inspect
    import textwrap

    source = textwrap.dedent(inspect.getsource(update))
    names = list(inspect.signature(update).parameters)
    body = source.split('"""', 2)[2] if '"""' in source else source.split(":\n", 1)[1]
    kept = [n for n in names if n in states or n in outputs]
    lines = textwrap.indent(textwrap.dedent(body), "    ")
    code = f"def tick({', '.join(names)}):\n{lines}\n    return {', '.join(kept)}\n"
    space = {"maximum": max, "minimum": min, "wrapped": lambda angle: (angle + np.pi) % (2 * np.pi) - np.pi}
    exec(code, space)  # noqa: S102
    memory = dict.fromkeys(kept, 0.0)
    found = {name: [] for name in outputs}
    for row in zip(*inputs.values()):
        given = dict(zip(inputs, row)) | memory | values | {"dt": dt}
        memory = dict(zip(kept, space["tick"](**given)))
        for name in outputs:
            found[name].append(memory[name])
    return {name: np.array(column) for name, column in found.items()}


def parts_of(f, offset=0.0, turning=1.0):
    t, u, i, angle, module, dt = run_parts(f, offset)
    angle = turning * angle
    names = ("active", "reactive", "void", "power", "energy")
    states = [
        "z",
        "late",
        "before",
        "count",
        "s_u",
        "s_i",
        "s_z",
        "s_ui",
        "s_uu",
        "s_zi",
        "s_zz",
        "drift",
        "conductance",
        "reactivity",
    ]
    return t, u, i, through(module.update_parts, {"u": u, "i": i, "angle": angle}, names, states, {"least": 10.0}, dt)


@pytest.mark.parametrize(("f", "close", "orthogonal"), [(50.0, 1e-9, 1e-6), (49.3, 3e-4, 3e-4), (60.0, 3e-4, 3e-5)])
def test_parts_are_as_defined_and_orthogonal(f, close, orthogonal):
    t, u, i, found = parts_of(f)
    fine = np.arange(200_000) / 200_000 / f
    uf, jf, zf = exact(f, fine)
    power, energy = np.mean(uf * jf), np.mean(zf * jf)
    assert found["power"][-1] == pytest.approx(power, rel=close)
    assert found["energy"][-1] == pytest.approx(energy, rel=max(close, 3e-4))  # the trapezoidal rule, (n·w·dt)²/12
    last = slice(-round(3 / f / 50e-6), None)  # three periods, which are whole ticks but for at most 0.04
    a, r, v = (found[n][last] for n in ("active", "reactive", "void"))
    assert np.allclose(a + r + v, i[last])
    for x, y in ((a, r), (a, v), (r, v)):
        assert abs(np.mean(x * y)) < orthogonal * np.sqrt(np.mean(x**2) * np.mean(y**2))
    # Squares add: the apparent power is that of the three (IEEE 1459 calls P/S the power factor).
    apparent = np.mean(u[last] ** 2) * np.mean(i[last] ** 2)
    parts = sum(np.mean(x**2) for x in (a, r, v)) * np.mean(u[last] ** 2)
    assert parts == pytest.approx(apparent, rel=orthogonal)
    assert np.sqrt(np.mean(a**2) * np.mean(u[last] ** 2)) == pytest.approx(power, rel=orthogonal)


def test_a_resistor_draws_active_current_alone_and_an_inductor_none():
    """Closed forms: i = u/R is all active; i = û/L, the inductor's, all reactive, with W = ⟨û²⟩/L."""
    t, u, _, angle, module, dt = run_parts(50.0)
    names = ("active", "reactive", "void", "energy")
    states = [
        "power",
        "z",
        "late",
        "before",
        "count",
        "s_u",
        "s_i",
        "s_z",
        "s_ui",
        "s_uu",
        "s_zi",
        "s_zz",
        "drift",
        "conductance",
        "reactivity",
    ]
    last = t > 0.26
    _, _, integral = exact(50.0, t)
    for current, whole in ((u / 8.0, "active"), (integral / 0.03, "reactive")):
        found = through(module.update_parts, {"u": u, "i": current, "angle": angle}, names, states, {"least": 10.0}, dt)
        assert np.max(np.abs(found[whole][last] - current[last])) < 4e-3 * np.max(np.abs(current))
        others = [n for n in ("active", "reactive", "void") if n != whole]
        assert all(np.max(np.abs(found[n][last])) < 4e-3 * np.max(np.abs(current)) for n in others)


def test_neither_an_offset_of_the_voltage_nor_an_angle_that_runs_backward_drives_the_integral_away():
    t, u, i, found = parts_of(50.0, offset=3.0)
    *_, clean = parts_of(50.0)
    *_, backward = parts_of(50.0, turning=-1.0)
    last = t > 0.26
    for name, values in clean.items():  # of an angle that runs backward they are the same
        assert backward[name][last] == pytest.approx(values[last], rel=1e-9, abs=1e-9)
    assert np.max(np.abs(found["reactive"][last] - clean["reactive"][last])) < 0.02 * np.max(np.abs(i))


@pytest.mark.parametrize("f", [50.0, 47.1])
def test_the_mean_over_a_period_is_that_of_the_signal(f):
    t, _, _, angle, module, dt = run_parts(f)
    x = 5.0 + 3.0 * np.sin(2 * np.pi * f * t + 1.0)
    found = through(module.update_mean, {"x": x, "angle": angle}, ("out",), ("before", "count", "total"), {}, dt)
    assert found["out"][t > 0.1] == pytest.approx(5.0, abs=1e-12 if f == 50.0 else 2e-4)
    given = {"x": x, "angle": np.unwrap(angle) + 400 * np.pi}  # as one that is carried on, after a hundred turns
    carried = through(module.update_mean, given, ("out",), ("before", "count", "total"), {}, dt)
    assert carried["out"][t > 0.1] == pytest.approx(found["out"][t > 0.1], abs=1e-9)
    for back in (-angle, -given["angle"]):  # a machine that turns backward
        backward = through(module.update_mean, given | {"angle": back}, ("out",), ("before", "count", "total"), {}, dt)
        assert backward["out"][t > 0.1] == pytest.approx(found["out"][t > 0.1], abs=1e-9)


def test_powers_of_a_run_are_those_of_ieee_1459(tmp_path, capsys):
    """R-L at a sine voltage: P = U²·R/|Z|², S = U²/|Z|, power factor R/|Z|, whatever steps the solver takes; of the
    voltage with a current that does not flow, none."""
    d = pendel.Drive("R and L on a sine")
    d.add("ac_source", "Grid", U="230 V", f="50 Hz", R_i="0", L_i="1 uH")
    d.add("inductor", "Coil", L="30 mH", R_s="8 ohm")
    d.add("ground", "Earth")
    d.add("voltage_sensor", "Voltage sensor")
    d.add("pt1", "Filter")
    d.add("constant", "Nothing", value="0 A")
    for a, b in (
        ("grid.a", "coil.a"),
        ("coil.b", "grid.b"),
        ("grid.b", "earth.line"),
        ("grid.voltage", "voltage_sensor.measured"),
        ("voltage_sensor.value", "filter.x"),
    ):
        d.connect(a, b)
    run = d.run(0.5)
    z = abs(8 + 1j * 2 * np.pi * 50 * 0.03)
    found = powers(run.kept, "grid.voltage", "coil.current", 0.4, 0.5)
    assert (found.active, found.apparent, found.factor) == pytest.approx(
        (230**2 * 8 / z**2, 230**2 / z, 8 / z), rel=1e-4
    )
    assert found.non_active == pytest.approx(np.sqrt(1 - (8 / z) ** 2) * 230**2 / z, rel=1e-4)
    with pytest.raises(DriveProblem, match=r"voltage_sensor\.value and coil\.current are not known at the same times"):
        powers(run.kept, "voltage_sensor.value", "coil.current", 0.4, 0.5)
    still = powers(run.kept, "voltage_sensor.value", "nothing.out", 0.4, 0.5)
    assert (still.active, still.apparent) == (0.0, 0.0) and np.isnan(still.factor)
    path = tmp_path / "coil.pendel"
    d.save(path)
    given = ["measure", str(path), "--until", "0.5 s", "--from", "0.413 s", "--fundamental", "50 Hz", "--voltage"]
    assert main([*given, "grid.voltage", "--signals", "coil.current"]) == 0
    row = next(line for line in capsys.readouterr().out.splitlines() if line.startswith("coil.current\tgrid.voltage"))
    assert float(row.split("\t")[-1]) == pytest.approx(8 / z, rel=1e-4)  # over whole periods though from 0.413 s on
    for wrong, words in (
        ("grid.volt", "There is no signal grid.volt."),
        ("coil.current", "coil.current is no voltage: its unit is A."),
    ):
        assert main([*given, wrong, "--signals", "coil.current"]) == 2
        assert words in capsys.readouterr().err
