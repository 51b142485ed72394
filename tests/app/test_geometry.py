"""Sheet geometry by itself: random drawings, tidied and routed."""

from hypothesis import given, settings
from hypothesis import strategies as st

from pendel.app.sheet.geometry import (
    CONTROL_SIZE,
    GRID,
    POWER_SIZE,
    Box,
    Link,
    boundary,
    distance_to_path,
    routes,
    segments,
    tidy,
)


@st.composite
def drawings(draw):
    """A chain of parts with branches above, blocks with signal wires below."""
    n_power, n_control = draw(st.integers(1, 14)), draw(st.integers(0, 14))
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
    return {
        k: Box(x * GRID, y * GRID, *(POWER_SIZE if k in power else CONTROL_SIZE))
        for k, (x, y) in places.items()
    }


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
