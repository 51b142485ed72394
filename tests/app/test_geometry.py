"""Sheet geometry by itself: random drawings, tidied and routed."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PyQt6.QtCore import QObject

from pendel.app.drive.sheet import routing
from pendel.app.drive.sheet.geometry import (
    CONTROL_SIZE,
    GRID,
    POWER_SIZE,
    STUB,
    Box,
    Laid,
    Link,
    Obstacles,
    anchors,
    boundary,
    distance_to_path,
    lanes,
    near_costs,
    route,
    routes,
    segments,
    simple_paths,
    winding_paths,
)
from pendel.app.drive.sheet.tidying import BAND_WIDTH, distances, tidy

from .conftest import until


@st.composite
def drawings(draw):
    """A chain of parts with branches above, blocks with signal wires below."""
    n_power, n_control = draw(st.integers(0, 14)), draw(st.integers(0, 14))
    power, control = [f"p{k}" for k in range(n_power)], [f"c{k}" for k in range(n_control)]
    power_links = [(f"p{draw(st.integers(0, k - 1))}", f"p{k}") for k in range(1, n_power)]
    signal_links = [
        (f"c{a}", f"c{b}")
        for a, b in draw(
            st.lists(
                st.tuples(st.integers(0, max(0, n_control - 1)), st.integers(0, max(0, n_control - 1))),
                max_size=16,
            )
        )
        if a != b and n_control
    ]
    outputs = {c for c in control if draw(st.booleans())}
    return power, power_links, control, signal_links, outputs


def boxes_of(places, power):
    return {k: Box(x * GRID, y * GRID, *(POWER_SIZE if k in power else CONTROL_SIZE)) for k, (x, y) in places.items()}


@settings(max_examples=60, deadline=None)
@given(drawings())
def test_tidied_cards_never_overlap_and_keep_their_deck(drawing):
    power, power_links, control, signal_links, outputs = drawing
    places = tidy(power, power_links, control, signal_links, outputs, power[:1])
    assert set(places) == {*power, *control}
    boxes = boxes_of(places, power)
    line = boundary([boxes[k] for k in power])
    for n, (key, box) in enumerate(boxes.items()):
        assert box.x >= 0
        assert box.y + box.h <= line if key in power else box.y >= line
        assert not any(box.overlaps(other) for other in list(boxes.values())[n + 1 :])


def test_columns_count_the_longest_way_in_a_deck_of_many_ways_and_a_loop():
    """Forty times a signal parts in two and comes together, a million million ways in all; then it goes back to the
    beginning."""
    cards, links = ["c0"], []
    for k in range(40):
        cards += [f"a{k}", f"b{k}", f"c{k + 1}"]
        links += [(f"c{k}", f"a{k}"), (f"c{k}", f"b{k}"), (f"a{k}", f"c{k + 1}"), (f"b{k}", f"c{k + 1}")]
    for loop in ([], [("c40", "c1")]):
        readers = {card: [b for a, b in [*links, *loop] if a == card] for card in cards}
        far = distances(cards, readers)
        assert all(far[f"c{k}"] > far[f"a{k}"] == far[f"b{k}"] > far[f"c{k + 1}"] for k in range(40))
        places = tidy([], [], cards, [*links, *loop], set(), [])
        boxes = boxes_of(places, [])
        assert max(box.x + box.w for box in boxes.values()) <= BAND_WIDTH, "what is long goes on below, as a text does"
        for near, card in (pair for k in range(40) for pair in ((f"c{k + 1}", f"a{k}"), (f"a{k}", f"c{k}"))):
            below = boxes[card].y > boxes[near].y + 2 * boxes[near].h
            assert boxes[card].x > boxes[near].x or below, "further from the power deck is to the right, or below"


@settings(max_examples=40, deadline=None)
@given(drawings())
def test_routed_wires_are_upright_and_end_on_their_cards(drawing):
    power, power_links, control, signal_links, outputs = drawing
    boxes = boxes_of(tidy(power, power_links, control, signal_links, outputs, power[:1]), power)
    links = [
        Link(f"{a}>{b}", a, b, a in control, f"{a}.out{b}", f"{b}.in{a}", a in power, b in power)
        for a, b in {*power_links, *signal_links}
    ]
    found = routes(boxes, links)
    assert set(found) == {k.key for k in links}
    for link in links:
        path = found[link.key]
        assert all(a[0] == b[0] or a[1] == b[1] for a, b in segments(path))
        for end, card in ((path[0], link.a), (path[-1], link.b)):
            box = boxes[card]
            on_edge = end[0] in (box.x, box.x + box.w) or end[1] in (box.y, box.y + box.h)
            assert on_edge and box.x <= end[0] <= box.x + box.w and box.y <= end[1] <= box.y + box.h
        middle = tuple((u + v) / 2 for u, v in zip(*segments(path)[0]))
        assert distance_to_path(path, middle) == 0


def plain_near_cost(a, b, c, d):
    """The definition: running along another wire costs 6 a px and 30, crossing it 30."""
    level, other_level = a[1] == b[1], c[1] == d[1]
    if level == other_level:
        along = 0 if level else 1
        apart = abs(a[1 - along] - c[1 - along])
        shared = min(max(a[along], b[along]), max(c[along], d[along])) - max(
            min(a[along], b[along]), min(c[along], d[along])
        )
        return 6.0 * shared + 30 if apart < 7 and shared > 0 else 0.0
    h1, h2, v1, v2 = (a, b, c, d) if level else (c, d, a, b)
    crosses = min(h1[0], h2[0]) < v1[0] < max(h1[0], h2[0]) and min(v1[1], v2[1]) < h1[1] < max(v1[1], v2[1])
    return 30.0 if crosses else 0.0


@st.composite
def uprights(draw):
    x, y, size = draw(st.integers(0, 30)), draw(st.integers(0, 30)), draw(st.integers(-20, 20).filter(bool))
    return ((x, y), (x + size, y)) if draw(st.booleans()) else ((x, y), (x, y + size))


@given(st.lists(uprights(), min_size=1, max_size=12), st.lists(uprights(), min_size=1, max_size=12))
@settings(max_examples=150, deadline=None)
def test_costs_of_many_paths_at_once_are_those_of_each(mine, others):
    laid = Laid(np.array([(*c, *d) for c, d in others], dtype=float), (0, 0), (50, 50))
    got = near_costs(np.array([a for a, _ in mine], float), np.array([b for _, b in mine], float), laid)
    wanted = [sum(plain_near_cost(a, b, c, d) for c, d in others) for a, b in mine]
    np.testing.assert_allclose(got, wanted)


@given(drawings())
@settings(max_examples=15, deadline=None)
def test_no_path_of_the_same_kind_would_have_been_cheaper(drawing):
    """Stopping early, at paths that are too long to win, changes no result: all candidates judged one by one agree."""
    power, power_links, control, signal_links, outputs = drawing
    boxes = boxes_of(tidy(power, power_links, control, signal_links, outputs, []), power)
    links = [Link(f"w{n}", a, b, True, f"{a}.out", f"{b}.in{n}", False, False) for n, (a, b) in enumerate(signal_links)]
    if not links:
        return
    placed, obstacles = anchors(boxes, links), Obstacles(boxes.values())
    link = links[-1]
    a, b = placed[(link.joint_a, link.a)], placed[(link.joint_b, link.b)]
    others = [(*c, *d) for path in routes(boxes, links[:-1]).values() for c, d in segments(path)]
    taken = np.array(others, dtype=float).reshape(-1, 4)
    found = route(a, b, obstacles, taken)
    if len(found) == 2:
        return  # straight on, nothing in the way
    p, q = obstacles.off(a), obstacles.off(b)
    lanes_there = lanes(p, q, obstacles.boxes)

    def cheapest(*kinds):
        paths = [[a.point, *map(tuple, path), b.point] for kind in kinds for path in kind(p, q, *lanes_there).tolist()]
        return min((cost_by_itself(path, obstacles.boxes, others), path) for path in paths)

    cost, path = cheapest(simple_paths, winding_paths)
    if cost_by_itself(path, [], others) < cost:  # through a card, unless there is a way round
        cost = min(cost, cheapest(simple_paths, obstacles.detours)[0])
    assert cost_by_itself(found, obstacles.boxes, others) == pytest.approx(cost)


def cost_by_itself(path, boxes, others):
    """The definition: length, 24 a stretch and its end, 2000 a card on the way, and what other wires cost."""
    kept = []
    for point in path:
        if kept and point == kept[-1]:
            continue
        if len(kept) > 1 and any(kept[-2][k] == kept[-1][k] == point[k] for k in (0, 1)):
            kept.pop()
        kept.append(point)
    cost = 24.0 * len(kept)
    for k, (a, b) in enumerate(segments(kept)):
        size = abs(a[0] - b[0]) + abs(a[1] - b[1])
        cost += size + sum(plain_near_cost(a, b, o[:2], o[2:]) for o in others)
        off = min(STUB - 2, size) / (size or 1)
        begun = tuple(u + (v - u) * off for u, v in zip(a, b)) if k == 0 else a
        ended = tuple(v + (u - v) * off for u, v in zip(a, b)) if k == len(kept) - 2 else b
        cost += 2000 * sum(box.crossed_by(begun, ended) for box in boxes)
    return cost


def test_paths_that_are_found_a_few_at_a_time_are_those_found_at_once(application, monkeypatch):
    monkeypatch.setattr(routing, "AT_A_TIME", 0.0)
    power = ["p0", "p1", "p2"]
    boxes = boxes_of(tidy(power, [("p0", "p1"), ("p1", "p2")], ["c0", "c1"], [("c0", "c1")], {"c1"}, ["p0"]), power)
    links = [
        Link(f"{a}>{b}", a, b, a[0] == "c", f"{a}.out{b}", f"{b}.in{a}", a[0] == "p", b[0] == "p")
        for a, b in (("p0", "p1"), ("p1", "p2"), ("c0", "c1"))
    ]
    parent = QObject()
    router, done = routing.Router(parent), []
    router.done.connect(lambda: done.append(dict(router.paths)))
    router.find(boxes, links)
    assert not done and not router.paths, "the first turn finds one path"
    moved = boxes | {"p2": Box(boxes["p2"].x, boxes["p2"].y + 5 * GRID, *POWER_SIZE)}
    router.find(moved, links)  # a card is moved meanwhile
    assert until(lambda: done, 10)
    assert done == [routes(moved, links)]
    router.find(moved, links)
    assert done[1:] == done[:1], "nothing is looked for where nothing moved"
    router.find(boxes, links, at_once=True)
    assert done[-1] == routes(boxes, links)
