"""Flux tables: reading, checks, the co-energy behind them, and the machine that runs by them."""

import dataclasses
from pathlib import Path

import h5py
import numpy as np
import pytest
import scipy.integrate
import scipy.io
import scipy.optimize

import pendel
from pendel.core.catalogue.index import kind_of
from pendel.core.catalogue.machines import co_energy, flux
from pendel.core.catalogue.machines.optima import CurrentPlane, strongest
from pendel.core.check import examine
from pendel.core.errors import DriveHasFindings, FileProblem
from pendel.core.formats.flux_files import assembled, guess, variables
from pendel.core.loops.models.linear import linear_plant
from pendel.core.runs.preparing.simulate import prepare
from tests.core.energy import energy_gap

EXAMPLES = Path(pendel.__file__).parent / "examples"
I_D, I_Q = np.linspace(-300, 60, 25), np.linspace(-300, 300, 31)
MESH = np.meshgrid(I_D, I_Q, indexing="ij")


def saturating(d, q):
    """Fluxes of an invented co-energy, the one of the example's tables."""
    psi_d = 0.32 + 0.9e-3 * d - 0.28 / 320 / np.cosh(d / 320) ** 2 * 1.25e-3 * 130**2 * np.log(np.cosh(q / 130))
    return psi_d, 0.35e-3 * q + 1.25e-3 * 130 * np.tanh(q / 130) * (1 - 0.28 * np.tanh(d / 320))


TABLE = flux.table_of(I_D, I_Q, *saturating(*MESH))
LINEAR = flux.table_of(I_D, I_Q, 0.32 + 0.9e-3 * MESH[0], 1.4e-3 * MESH[1])


def haul(table, **values):
    d = pendel.open_drive(EXAMPLES / "haul_drive_tables.pendel")
    card = d.document.cards["haul_machine"]
    d.document.cards["haul_machine"] = dataclasses.replace(card, flux=table, values={**card.values, **values})
    return d


@pytest.mark.parametrize("level", ["averaged", "switching"])
def test_tables_of_a_linear_machine_give_its_traces(level):
    linear, by_table = pendel.open_drive(EXAMPLES / "haul_drive.pendel"), haul(LINEAR)
    t = np.linspace(0, 0.05, 501)
    for d in (linear, by_table):
        d.set("level", level)
    wanted, got = linear.run(0.05), by_table.run(0.05, with_energy=True)
    for name in ("i_d", "i_q", "torque", "current_a"):
        np.testing.assert_allclose(got.at(f"haul_machine.{name}", t), wanted.at(f"haul_machine.{name}", t), atol=0.1)
    assert energy_gap(got) < 1e-5


def test_the_fit_is_the_slope_of_one_co_energy():
    """Between the nodes, against the analytic fluxes; and torque as the derivative of co-energy by the angle: at
    constant phase currents turning the rotor by dϑ turns (i_d, i_q) by −dϑ, and 3/2·p·dw/dϑ is the torque; Fitzgerald,
    Kingsley, Umans: Electric Machinery, section 3.6 (from memory)."""
    fit = flux.fitted(TABLE)
    x, y = np.linspace(-295, 55, 71), np.linspace(-295, 295, 91)
    for got, wanted in zip(fit.fluxes(x, y), saturating(*np.meshgrid(x, y, indexing="ij"))):
        assert np.max(np.abs(got - wanted)) < 2e-4 * 0.4
    l_dd, l_dq, l_qq = (f[0, 0] for f in fit.inductances(-80.0, 150.0))
    h = 0.5
    slope = [(a - b) / (2 * h) for a, b in zip(saturating(-80 + h, 150.0), saturating(-80 - h, 150.0))]
    assert (l_dd, l_dq) == pytest.approx(slope, rel=2e-2)
    assert l_qq == pytest.approx((saturating(-80.0, 150 + h)[1] - saturating(-80.0, 150 - h)[1]) / (2 * h), rel=2e-2)
    size, angle, step = 200.0, np.radians(110), 1e-4
    w = [fit.derivative(size * np.cos(angle - s), size * np.sin(angle - s), 0, 0)[0, 0] for s in (-step, step)]
    i_d, i_q = size * np.cos(angle), size * np.sin(angle)
    psi_d, psi_q = (f[0, 0] for f in fit.fluxes(i_d, i_q))
    by_energy = (w[1] - w[0]) / (2 * step)
    assert by_energy == pytest.approx(psi_d * i_q - psi_q * i_d, rel=1e-6)


def test_a_saturated_machine_follows_solve_ivp():
    """The machine alone on a voltage step, with flux states and inverted analytic fluxes."""
    import scipy.optimize

    r, w, u = 0.04, 4 * 60.0, (-20.0, 90.0)
    d = pendel.Drive("Bench")
    d.set("tick", "1 ms")
    d.add(
        "three_phase_source",
        "Source",
        U=repr(float(np.hypot(*u) * np.sqrt(1.5))),
        f=repr(w / 2 / np.pi),
        R_i="0",
        L_i="1e-6",
        angle=f"{np.degrees(np.arctan2(u[1], u[0])) + 90} deg",
    )
    d.add("pmsm_tables", "Machine", flux=TABLE, R_s="40")
    d.add("imposed_speed", "Bench", profile=[("0", "60"), ("9", "60")])
    d.connect("source.out", "machine.phases")
    d.connect("machine.shaft", "bench.a")
    run = d.run(0.02)

    def currents(psi):
        return scipy.optimize.fsolve(lambda i: np.array(saturating(*i)) - psi, currents.last, xtol=1e-12)

    currents.last = np.zeros(2)

    def slopes(t, psi):
        i = currents.last = currents(psi)
        return [u[0] - r * i[0] + w * psi[1], u[1] - r * i[1] - w * psi[0]]

    t = np.linspace(0, 0.02, 41)
    solved = scipy.integrate.solve_ivp(slopes, (0, 0.02), saturating(0.0, 0.0), t_eval=t, rtol=1e-8, atol=1e-10).y.T
    currents.last = np.zeros(2)
    wanted = []
    for psi in solved:
        currents.last = currents(psi)
        wanted.append(currents.last)
    wanted = np.array(wanted)
    got = np.column_stack([run.at(f"machine.{n}", t) for n in ("i_d", "i_q")])
    within = np.logical_and.accumulate(wanted[:, 0] < I_D[-1])  # later it leaves the table, where nobody knows
    assert np.count_nonzero(within) > 8
    assert np.max(np.abs(got - wanted)[within]) < 1e-4 * np.max(np.abs(wanted))


def test_saturation_of_q_disturbs_d_and_the_linear_model_sees_it():
    """Common practice, no source: with constant decoupling a step along q throws the current along d about."""
    swings = {}
    for name, table in (("linear", LINEAR), ("saturated", TABLE)):
        d = haul(table)
        run = d.run(0.04)
        t = np.linspace(0.0205, 0.04, 400)
        swings[name] = np.ptp(run.at("haul_machine.i_d", t) - run.at("torque_to_currents.i_d", t))
    assert swings["saturated"] > 1.3 * swings["linear"]
    plant = linear_plant(prepare(haul(TABLE).document), ("haul_machine.i_d", "haul_machine.i_q"))
    fit = flux.fitted(TABLE)
    l_dd, l_dq, l_qq = (float(f[0, 0]) for f in fit.inductances(0.0, 0.0))
    poles = [-0.043 / l_dd, -0.043 / l_qq]  # about: 40 mohm and the inverter's resistance
    found = [p for p in np.linalg.eigvals(plant.A).real if p < -1]
    assert sorted(found)[:2] == pytest.approx(sorted(poles), rel=0.25)


def test_slower_setpoints_and_gains_by_tables_calm_the_d_axis():
    """Common practice, no source: either cures what saturation does to i_d, both together do it best."""
    swings = {}
    for by_tables in (False, True):
        for ramp in (False, True):
            d = haul(TABLE)
            cards = d.document.cards
            if ramp:
                values = {"before": "68 N*m", "after": "400 N*m", "t_0": "20 ms", "duration": "4 ms"}
                cards["torque_demand"] = dataclasses.replace(cards["torque_demand"], kind="ramp", values=values)
            if by_tables:
                values = {"f_c": "400 Hz", "R": "R_ph", "U_dc": "U_link"}
                cards["current_regulator"] = dataclasses.replace(
                    cards["current_regulator"], kind="dq_regulator_tables", values=values, flux=TABLE
                )
            run = d.run(0.03)
            t = np.linspace(0.0203, 0.03, 300)
            swings[by_tables, ramp] = np.ptp(run.at("haul_machine.i_d", t) - run.at("torque_to_currents.i_d", t))
    assert swings[True, False] < 0.95 * swings[False, False] and swings[False, True] < 0.6 * swings[False, False]
    assert swings[True, True] < 0.85 * min(swings[True, False], swings[False, True])


def test_currents_beyond_the_tables_are_told():
    small = flux.table_of(I_D[8:], I_Q[10:-10], *(np.array(p)[8:, 10:-10] for p in (TABLE.psi_d, TABLE.psi_q)))
    (remark,) = (m.sentence for m in haul(small, I_max="90 A").run(0.04).kept.remarks)
    assert "its currents left the flux tables at 20." in remark and "the table ends at 100 A" in remark


def broken(**changes):
    return dataclasses.replace(TABLE, **changes)


def grid(name, change):
    array = np.array(getattr(TABLE, name))
    change(array)
    return {name: tuple(map(tuple, array))}


def hole(array):
    array[3, 4] = np.nan


def bump(array):
    array[10, 15] += 0.2


@pytest.mark.parametrize(
    "table, words",
    [
        (broken(i_d=TABLE.i_d[:5] + (TABLE.i_d[5] - 40,) + TABLE.i_d[6:]), "i_d axis is not sorted"),
        (broken(**grid("psi_d", hole)), "psi_d has a hole at i_d -255 A, i_q -220 A"),
        (
            broken(psi_q=tuple(tuple(-v for v in row) for row in TABLE.psi_q)),
            "its sign convention is the other one",
        ),
        (broken(psi_d=TABLE.psi_d[:-1]), "Swap rows and columns"),
        (None, "no flux tables yet"),
    ],
)
def test_bad_tables_are_refused_in_words(table, words):
    with pytest.raises(DriveHasFindings) as refused:
        haul(table).run(0.001)
    assert words.replace("-", "−") in str(refused.value).replace("-", "−")


def test_doubtful_tables_are_told_but_run():
    skew = TABLE.psi_d + 4e-4 * MESH[1]
    told = [c.sentence for c in flux.concerns(flux.table_of(I_D, I_Q, skew, TABLE.psi_q), 400.0)]
    assert any("do not come from one energy" in s for s in told) and any("lies beyond the table" in s for s in told)
    backwards = flux.table_of(I_D, I_Q, np.array(TABLE.psi_d) - 0.7, TABLE.psi_q)
    assert any("magnet points along" in c.sentence for c in flux.concerns(backwards))
    assert not flux.concerns(TABLE, 250.0)


def test_files_of_each_kind_give_the_same_table(tmp_path):
    psi_d, psi_q = np.array(TABLE.psi_d), np.array(TABLE.psi_q)
    order = np.random.default_rng(3).permutation(psi_d.size)
    columns = [a.ravel()[order] for a in (*MESH, psi_d * 1e3, psi_q * 1e3)]
    lines = [
        "id (A);iq (A);flux_d (mWb);flux_q (mWb)",
        *(";".join(f"{v:.10g}" for v in row) for row in zip(*columns)),
    ]
    (tmp_path / "a.csv").write_text("\n".join(lines).replace(".", ","))
    scipy.io.savemat(
        tmp_path / "b.mat", {"Id": MESH[0].T, "Iq": MESH[1].T, "Psi_d": psi_d.T, "Psi_q": psi_q.T, "note": "x"}
    )
    with h5py.File(tmp_path / "c.h5", "w") as file:
        half = I_Q >= 0
        for name, array in (
            ("map/i_d", I_D),
            ("map/i_q", I_Q[half]),
            ("map/psi_d", psi_d[:, half]),
            ("map/psi_q", psi_q[:, half]),
        ):
            file[name] = array
    for name, mirror in (("a.csv", False), ("b.mat", False), ("c.h5", True)):
        found = variables(tmp_path / name)
        layout = dataclasses.replace(guess(found), mirror=mirror, rows="i_q" if name == "b.mat" else "i_d")
        table = assembled(found, layout, name)
        for part in ("i_d", "i_q", "psi_d", "psi_q"):
            np.testing.assert_allclose(getattr(table, part), getattr(TABLE, part), atol=1e-8)
    with pytest.raises(FileProblem, match="no columns"):
        (tmp_path / "empty.csv").write_text("a,b\n")
        variables(tmp_path / "empty.csv")
    with pytest.raises(FileProblem, match="nothing is chosen for i_d"):
        assembled(found, dataclasses.replace(layout, names={}), "c.h5")
    (tmp_path / "bad.mat").write_bytes(b"not a file at all")
    with pytest.raises(FileProblem, match="cannot be read"):
        variables(tmp_path / "bad.mat")


@pytest.mark.parametrize("kind", ["saturating", "reluctance"])
def test_currents_by_tables_are_the_optimum_under_saturation(kind):
    """Against SciPy's constrained optimisation on the analytic fluxes, with the voltage limit biting and without."""

    def fluxes(d, q):
        psi_d, psi_q = saturating(d, q)
        return (psi_d, psi_q) if kind == "saturating" else (0.05 * np.tanh(d / 90) + 2e-4 * d, 0.3e-3 * q)

    i_d = I_D if kind == "saturating" else np.linspace(-60, 300, 25)
    table = flux.table_of(i_d, I_Q, *fluxes(*np.meshgrid(i_d, I_Q, indexing="ij")))
    plane = CurrentPlane(table, flux.fitted(table), 4.0, 250.0)
    top = plane.maximum()[0]

    def torque(x):
        psi_d, psi_q = fluxes(*x)
        return 6.0 * (psi_d * x[1] - psi_q * x[0])

    for share in (0.2, 0.6, 0.9):
        for limit in (np.inf, 0.5 * np.hypot(*fluxes(0.0, 0.0)) + 0.01):
            (d,), (q,) = plane.minimum(share * top, np.array([limit]))
            within = [
                {
                    "type": "ineq",
                    "fun": lambda x: limit - np.hypot(*fluxes(*x)) if np.isfinite(limit) else 1.0,
                },
                {"type": "ineq", "fun": lambda x: 250.0 - np.hypot(*x)},
            ]
            demand = {"type": "eq", "fun": lambda x: torque(x) - share * top}
            best = scipy.optimize.minimize(lambda x: x @ x / 1e4, [d, q], constraints=[*within, demand], method="SLSQP")
            if best.success:
                assert torque((d, q)) == pytest.approx(share * top, rel=5e-3)
                assert np.hypot(d, q) == pytest.approx(np.hypot(*best.x), rel=0.01)
            else:  # beyond reach: the most torque there is
                maximum = scipy.optimize.minimize(
                    lambda x: -torque(x) / top, [d, q], constraints=within, method="SLSQP"
                )
                assert torque((d, q)) == pytest.approx(torque(maximum.x), rel=0.02)
            assert np.hypot(*fluxes(d, q)) <= limit * 1.002


def test_the_block_gives_the_currents_of_the_tables_over_torque_and_speed():
    d = pendel.Drive("Bench")
    for name, value in (("Torque", "-300 N*m"), ("Speed", "700 rad/s")):
        d.add("constant", name, value=value)
    d.add("torque_to_currents_tables", "Map", flux=TABLE, p="4", I_max="250 A", U_dc="560 V", share="98")
    d.connect("torque.out", "map.torque")
    d.connect("speed.out", "map.speed")
    run = d.run(0.001)
    i_d, i_q = run["map.i_d"].y[-1], run["map.i_q"].y[-1]
    psi_d, psi_q = saturating(i_d, i_q)
    assert 6.0 * (psi_d * i_q - psi_q * i_d) == pytest.approx(-300.0, rel=0.03)
    assert 700 * np.hypot(psi_d, psi_q) <= 0.98 * 560 / np.sqrt(3) * 1.02


def test_tables_of_a_delta_give_the_machine_they_were_made_of(tmp_path):
    """Windings between the lines, each with √3 times the flux and 1/√3 of the current of a star's phase: the machine at
    its lines is the same, as is its torque 3/2·p·(ψ_d·i_q − ψ_q·i_d)."""
    path = tmp_path / "delta.csv"
    rows = zip(*(a.ravel() for a in (MESH[0] / 3**0.5, MESH[1] / 3**0.5, *(3**0.5 * psi for psi in saturating(*MESH)))))
    path.write_text("i_d,i_q,psi_d,psi_q\n" + "\n".join(",".join(f"{x:.12g}" for x in row) for row in rows))
    found = variables(path)
    plain = guess(found)
    table = assembled(found, dataclasses.replace(plain, winding="delta"), path.name)
    for got, wanted in zip(
        (table.i_d, table.i_q, table.psi_d, table.psi_q), (TABLE.i_d, TABLE.i_q, TABLE.psi_d, TABLE.psi_q)
    ):
        np.testing.assert_allclose(got, wanted, rtol=1e-9, atol=1e-9)
    t = np.linspace(0, 0.04, 200)
    torques = []
    for each in (TABLE, table):
        drive = haul(each)
        drive.set("sensors", "ideal")  # a step of a converter more or less would be seen
        torques.append(drive.run(0.04).at("haul_machine.torque", t))
    np.testing.assert_allclose(*torques, atol=1e-3)


@pytest.mark.parametrize("shape", [(5, 7), (9, 4)])
def test_the_fit_is_the_least_squares_of_its_table_to_many_digits(shape):
    """Against LAPACK's least squares by singular values (`numpy.linalg.lstsq`), margins included, where the table says
    next to nothing."""
    rng = np.random.default_rng(sum(shape))
    axes = [np.sort(rng.uniform(-1, 1, n)) * 200 + np.linspace(-300, 300, n) for n in shape]
    d, q = np.meshgrid(*axes, indexing="ij")
    psi = [0.5 + 1e-3 * d + 1e-5 * np.abs(q), 2e-3 * q * (1 + 1e-4 * d)]
    problem = co_energy.Problem(axes, psi, [co_energy.edges_of(a) for a in axes])
    wanted = np.linalg.lstsq(problem.matrix.toarray(), problem.wanted, rcond=1e-15)[0]
    found = problem.plain()
    assert np.max(np.abs(found - wanted)) < 1e-6 * np.max(np.abs(wanted))
    assert np.allclose(problem.bends(found), problem.bending @ found, rtol=1e-9, atol=1e-12)


def of_two_energies(nodes, share, noise=0.0):
    """Smooth tables of a machine without a single negative inductance; with ``share`` they come from two energies: the
    fluxes saturate alike, while one inductance is greater."""
    axis = np.linspace(-300, 300, nodes)
    d, q = np.meshgrid(axis, axis, indexing="ij")
    iron = (1 + (d**2 + q**2) / 400**2) ** 0.25
    exact = 0.1 + (0.4 - 0.1 * share) * 1e-3 * d / iron, (0.4 + 0.1 * share) * 1e-3 * q / iron
    rng = np.random.default_rng(nodes)
    largest = np.max(np.abs(exact[0]))
    noisy = [psi + noise * largest * rng.standard_normal(psi.shape) for psi in exact]
    return axis, exact, flux.table_of(axis, axis, *noisy)


@pytest.mark.parametrize("nodes", [13, 21, 41, 61])
@pytest.mark.parametrize("share, noise", [(0.1, 0.0), (1.0, 0.0), (0.0, 1e-3), (0.1, 5e-3)])
def test_measured_tables_are_fitted_as_closely_as_they_agree_and_not_called_bent(nodes, share, noise):
    """Tables that differ by some per cent of an inductance, or are noisy, as measured ones are. The least squares alone
    follow them at the rim with inductances below zero, the finer the grid the more: at 41 nodes and a share of 1
    by 89 % of the largest, and the nearest convex fit missed by 2.2 %."""
    axis, exact, table = of_two_energies(nodes, share, noise)
    fit = flux.fitted(table)
    assert fit.bent == 0
    assert not [c for c in flux.concerns(table) if "bend" in c.sentence]
    largest = np.max(np.abs(exact[0]))
    off = max(np.max(np.abs(a - b)) for a, b in zip(fit.fluxes(axis, axis), exact)) / largest
    assert off < 8e-3 * share + 4 * noise
    # Nodes left out are missed by what the tables disagree and by their own noise, not by swings of a slack spline.
    assert fit.misfit < flux.left_out(table) < 0.004 + 0.02 * share + 16 * noise
    wide = np.linspace(-500, 500, 301)
    assert np.min(co_energy.least_eigenvalue(*fit.inductances(wide, wide))) > 0


def test_tables_that_bend_and_come_from_one_energy_are_still_called_bent():
    """A co-energy that is concave around a current: no stiffness may smooth that away unsaid."""
    axis = np.linspace(-300, 300, 31)
    d, q = np.meshgrid(axis, axis, indexing="ij")
    u, v = (d + 60) / 50, q / 50
    hill = 0.02 * np.exp(-(u**2) / 2 - v**2 / 2)
    table = flux.table_of(axis, axis, 0.1 + 3e-4 * d - u * hill, 4e-4 * q - v * hill)  # slopes of one function
    fit = flux.fitted(table)
    assert fit.bent > 0.05
    assert np.hypot(fit.bent_at[0] + 60, fit.bent_at[1]) < 50


@pytest.mark.parametrize("current", [1e-3, 10.0, 250.0])
def test_the_most_torque_of_a_current_is_that_of_the_textbook(current):
    """Constant inductances: i_d = ψ/(4ΔL) − √((ψ/(4ΔL))² + I²/2) with ΔL = L_q − L_d (Morimoto and others, IEEE Trans.
    Ind. Appl. 26 (1990) 866)."""
    L_d, L_q, psi_pm, p = 0.4e-3, 0.9e-3, 0.1, 4.0
    axis = np.linspace(-300, 300, 13)
    d, q = np.meshgrid(axis, axis, indexing="ij")
    table = flux.table_of(axis, axis, psi_pm + L_d * d, L_q * q)
    over = psi_pm / (4 * (L_q - L_d))
    i_d = over - np.sqrt(over**2 + current**2 / 2)
    i_q = np.sqrt(current**2 - i_d**2)
    wanted = 1.5 * p * (psi_pm + (L_d - L_q) * i_d) * i_q, i_d, i_q
    for within in (None, table):
        most = strongest(flux.fitted(table), p, current, within=within)
        assert most == pytest.approx(wanted, rel=1e-5, abs=1e-5 * current)


def test_a_reluctance_machine_has_its_most_torque_towards_more_flux():
    """Its d axis has the larger inductance, so the best lead is on the other side; at the rim of the table a smaller
    current than the limit is the strongest. Against SciPy's search on the analytic fluxes, over the whole box."""
    i_d, i_q = np.linspace(-60, 300, 25), np.linspace(-300, 300, 31)

    def along_d(d):
        return 0.05 * np.tanh(d / 90) + 2e-4 * d

    d, q = np.meshgrid(i_d, i_q, indexing="ij")
    table = flux.table_of(i_d, i_q, along_d(d), 0.3e-3 * q)

    def torque(x):
        return 6.0 * (along_d(x[0]) - 0.3e-3 * x[0]) * x[1]

    for current in (100.0, 250.0, 400.0):
        limit = {"type": "ineq", "fun": lambda x, maximum=current: maximum - np.hypot(*x)}
        best = scipy.optimize.minimize(
            lambda x: -torque(x), [60.0, 60.0], bounds=[(-60, 300), (0, 300)], constraints=[limit], method="SLSQP"
        )
        maximum, d, q = strongest(flux.fitted(table), 4.0, current, within=table)
        assert maximum == pytest.approx(torque(best.x), rel=1e-3)
        assert (d, q) == pytest.approx(tuple(best.x), abs=2.0)
        assert np.hypot(d, q) <= current * (1 + 1e-9)
    drive = pendel.Drive("Reluctance")
    drive.add("pmsm_tables", "M", p="4", I_max="250 A")
    card = drive.document.cards["m"] = dataclasses.replace(drive.document.cards["m"], flux=table)
    values = examine(drive.document).values["m"]
    figures = {f.symbol: f.value for f in kind_of(card).follows(values, card)}
    assert figures["M_max"] == pytest.approx(strongest(flux.fitted(table), 4.0, 250.0)[0]) and figures["β"] < 0
    curve = kind_of(card).curve(values, card)
    assert curve.mark == pytest.approx((figures["β"], figures["M_max"]))
    assert np.interp(curve.mark[0], curve.x, curve.y) == pytest.approx(figures["M_max"], rel=1e-3)
    assert np.max(curve.y) <= figures["M_max"] * (1 + 1e-9)


def rows_of(d=(-200.0, -100.0, 0.0), q=(-100.0, 0.0, 100.0)):
    return [(a, b, 0.1 + 4e-4 * a, 6e-4 * b) for a in d for b in q]


def written(path, head, rows, *, mark=",", comma=False, tail="", encoding="utf-8"):
    lines = [mark.join(f"{x:.6g}".replace(".", "," if comma else ".") for x in row) for row in rows]
    path.write_bytes(("\n".join([*head, *lines]) + tail).encode(encoding))
    columns = variables(path)
    return assembled(columns, guess(columns), path.name)


@pytest.mark.parametrize(
    "head, how",
    [
        (["i_d,i_q,psi_d,psi_q"], {}),
        (["# bench 3, warm", "", "% run 7", "i_d,i_q,psi_d,psi_q"], {}),
        (["Flux map", "third run,by hand,at 20 °C,Tuesday", "i_d,i_q,psi_d,psi_q", "A,A,Wb,Wb"], {}),
        (["Karte", "i_d;i_q;psi_d;psi_q"], {"mark": ";", "comma": True}),
        (["Id [A];Iq [A];Psi_d (°);Psi_q"], {"mark": ";", "comma": True, "encoding": "cp1252"}),
        (["i_d\ti_q\tpsi_d\tpsi_q"], {"mark": "\t", "encoding": "utf-16"}),
        (["i_d,i_q,psi_d,psi_q"], {"tail": "\nend of file\n"}),
        (["i_d,i_q,psi_d,psi_q", "A,A,mWb,mWb"], {"scale": 1e3}),
    ],
    ids=[
        "plain",
        "remarks",
        "title and units",
        "decimal commas",
        "one byte a letter",
        "utf-16",
        "a last word",
        "mWb below",
    ],
)
def test_columns_are_read_as_measuring_programs_save_them(tmp_path, head, how):
    how = dict(how)
    scale = how.pop("scale", 1.0)
    table = written(tmp_path / "map.csv", head, [(a, b, scale * c, scale * e) for a, b, c, e in rows_of()], **how)
    assert table.i_d == (-200.0, -100.0, 0.0) and table.i_q == (-100.0, 0.0, 100.0)
    np.testing.assert_allclose(table.psi_d, [[0.02] * 3, [0.06] * 3, [0.1] * 3], rtol=1e-12)
    np.testing.assert_allclose(table.psi_q, [[-0.06, 0.0, 0.06]] * 3, rtol=1e-12, atol=1e-15)


def test_columns_without_names_keep_all_their_rows(tmp_path):
    (tmp_path / "bare.csv").write_text("\n".join(",".join(map(str, row)) for row in rows_of()))
    columns = variables(tmp_path / "bare.csv")
    assert {name: len(column) for name, column in columns.items()} == {f"column {k}": 9 for k in (1, 2, 3, 4)}
    (tmp_path / "twice.csv").write_text("psi,psi,,i\n1,2,3,4\n5,6,7,8\n")
    columns = variables(tmp_path / "twice.csv")
    assert {name: list(column) for name, column in columns.items()} == {
        "psi": [1.0, 5.0],
        "psi 2": [2.0, 6.0],
        "column 3": [3.0, 7.0],
        "i": [4.0, 8.0],
    }


def test_a_place_given_twice_gets_the_mean_unless_the_two_contradict_each_other(tmp_path):
    head, rows = ["i_d,i_q,psi_d,psi_q"], rows_of()
    back = [(a, b, c + 1e-3, d) for a, b, c, d in rows]  # the way back of a loop that was measured
    table = written(tmp_path / "loop.csv", head, rows + back)
    np.testing.assert_allclose(table.psi_d, [[0.0205] * 3, [0.0605] * 3, [0.1005] * 3], rtol=1e-12)
    with pytest.raises(FileProblem, match="psi_d is given several times at i_d −100 A, i_q 0 A, from 0.06 Wb to 9 Wb"):
        written(tmp_path / "two.csv", head, [*rows, (-100.0, 0.0, 9.0, 0.0)])
    with pytest.raises(FileProblem, match="row 10 of the numbers has fluxes without both currents"):
        written(tmp_path / "lost.csv", head, rows, tail="\n,5,0.1,0.1\n")
    finer = rows_of((-200.0, -100.0, 0.0, 100.0), (-100.0, 0.0, 100.0, 200.0))
    holes = [row for row in finer if row[:2] != (0.0, 100.0)]
    faults = flux.faults(written(tmp_path / "hole.csv", head, holes))
    assert "psi_d has a hole at i_d 0 A, i_q 100 A" in faults[0].sentence
