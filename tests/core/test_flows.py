"""Energy flows of a run: every part's books close, flows are the powers that signals tell, and the picture fits."""

import numpy as np
import pytest

import pendel
from pendel.core.errors import DriveProblem
from pendel.core.last_few import LastFew
from pendel.core.runs.found import flows
from pendel.core.runs.found.flow_layout import columns_of, laid_out
from pendel.core.runs.found.flows import EnergyFlows, Flow, NodeEnergy, flows_of
from pendel.core.runs.remarks.balance import balance


@pytest.mark.parametrize(("example", "level"), [("car_door_drive", "averaged"), ("haul_drive", "switching")])
def test_what_comes_into_each_part_goes_on_is_lost_or_stays(example, level):
    d = pendel.open_example(example)
    d.set("level", level)
    run = d.run()
    kept = run.kept
    begin, end = 0.3 * kept.end, 0.9 * kept.end
    found = flows_of(kept, begin, end)
    largest = max(node.through for node in found.nodes)
    for node in found.nodes:
        assert abs(node.open) < 2e-6 * largest, node
        into = sum(f.energy for f in found.flows if f.target == node.key)
        out = sum(f.energy for f in found.flows if f.source == node.key)
        assert into - out == pytest.approx(node.came - node.went, abs=1e-9 * largest)
    whole = balance(kept, begin, end)
    for name in ("supplied", "delivered", "stored"):
        assert sum(getattr(n, name) for n in found.nodes) == pytest.approx(getattr(whole, name), abs=1e-6 * largest)
    converter = {"car_door_drive": "bridge", "haul_drive": "inverter"}[example]
    given = sum(f.energy for f in found.flows if f.source == converter)
    assert given == pytest.approx(kept.pieces(f"{converter}.power").integral(begin, end), rel=1e-6)


def test_a_machine_that_brakes_gives_back_to_the_link():
    d = pendel.open_example("haul_drive")
    d.set("torque_demand.before", "-300 N*m")
    d.set("torque_demand.after", "-300 N*m")
    kept = d.run().kept
    ways = {(f.source, f.target) for f in flows_of(kept, 0.02, kept.end).flows}
    assert ways == {("test_bench", "haul_machine"), ("haul_machine", "inverter"), ("inverter", "link")}
    with pytest.raises(DriveProblem, match="Choose times in it"):
        flows_of(kept, 5.0, 6.0)


def test_parts_that_single_lines_join_are_one():
    d = pendel.open_example("wayside_supply")
    kept = d.run().kept
    found = flows_of(kept, kept.begin, kept.end)
    assert max(len(node.cards) for node in found.nodes) > 1
    assert all(abs(node.open) < 1e-6 * max(n.through for n in found.nodes) for node in found.nodes)


def test_two_that_give_share_what_one_takes():
    d = pendel.Drive("Two supplies")
    d.add("dc_source", "First", U_0="48 V", R_i="0.1 ohm")
    d.add("dc_source", "Second", U_0="48 V", R_i="0.3 ohm")
    d.add("power_load", "Load", P="90 W")
    d.connect("first.dc", "load.dc")
    d.connect("second.dc", "load.dc")
    kept = d.run("1 s").kept
    found = flows_of(kept, 0.0, 1.0)
    flows = {f.source: f.energy for f in found.flows if f.target == "load"}
    assert sum(flows.values()) == pytest.approx(90.0, rel=1e-6)
    assert flows["first"] == pytest.approx(3 * flows["second"], rel=1e-6)
    assert all(abs(each.open) < 1e-6 * 90 for each in found.nodes)


def node(key: str, came: float, went: float, supplied: float = 0.0, lost: float = 0.0) -> NodeEnergy:
    return NodeEnergy(key, key, (key,), came, went, supplied, 0.0, lost, 0.0)


def test_a_circle_of_flows_is_laid_out_and_nothing_overlaps():
    c, d = node("c", 5.0, 4.0, lost=1.0), node("d", 10.0, 1.0, lost=9.0)
    nodes = (node("a", 1.0, 11.0, 10.0), node("b", 6.0, 6.0), c, d)
    flows = (Flow("a", "b", 6.0), Flow("a", "c", 5.0), Flow("b", "d", 6.0), Flow("c", "d", 4.0), Flow("d", "a", 1.0))
    of = EnergyFlows(0.0, 1.0, nodes, flows)
    assert columns_of(of) == {"a": 0, "b": 1, "c": 1, "d": 2}
    layout = laid_out(of, gap=0.2)
    by_column: dict[int, list[tuple[float, float]]] = {}
    for block in layout.blocks:
        by_column.setdefault(block.column, []).append((block.top, block.top + block.height))
    for spans in by_column.values():
        ordered = np.array(sorted(spans)).ravel()
        assert np.all(np.diff(ordered) > -1e-12) and ordered[0] > -1e-9 and ordered[-1] < 1 + 1e-9
    places = {block.node.key: block for block in layout.blocks}
    for band in layout.bands:
        for at, key in ((band.begins, band.flow.source), (band.ends, band.flow.target)):
            block = places[key]
            assert block.top - 1e-9 <= at and at + band.width <= block.top + block.height + 1e-9


def test_signals_of_a_part_went_between_what_their_traces_say():
    d = pendel.open_example("haul_drive")
    run = d.run(0.06)
    found = {each.key: each for each in run.flows(0.02, 0.05).signals}
    assert set(found) == {key for key in run.keys() if key in run.kept.structure.signals}
    for key in ("haul_machine.current_a", "link.current", "haul_machine.speed", "haul_machine.torque"):
        trace, each = run[key], found[key]
        inside = (trace.t >= 0.02) & (trace.t <= 0.05)
        assert each.least <= trace.y[inside].min() + 1e-9 and each.most >= trace.y[inside].max() - 1e-9
        span = np.ptp(trace.y[inside]) or 1.0
        assert each.least == pytest.approx(trace.y[inside].min(), abs=0.01 * span)
        assert each.mean == pytest.approx(run.kept.pieces(key).mean(0.02, 0.05), rel=1e-9, abs=1e-9)


def test_equations_that_were_ordered_for_another_run_give_what_new_ones_give(monkeypatch):
    d = pendel.open_example("car_door_drive")
    d.set("until", "0.3 s")
    d.run().flows(0, 0.3)
    d.set("m_leaf", "60 kg")
    d.rename("belt", "Strap")
    run = d.run()
    known = run.flows(0.1, 0.3)
    monkeypatch.setattr(flows, "ORDERED", LastFew(4))
    assert run.flows(0.1, 0.3) == known
    assert "strap" in {node.key for node in known.nodes} and len(flows.ORDERED._found) == 1
