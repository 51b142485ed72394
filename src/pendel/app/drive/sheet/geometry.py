"""Sheet geometry without Qt: where ports sit, how wires run, how the drawing is tidied. Units are pixels."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np

GRID = 4
POWER_SIZE = (116, 104)
CONTROL_SIZE = (124, 56)
PITCH_X = 38 * GRID
PITCH_Y = 33 * GRID
CONTROL_PITCH_Y = 22 * GRID
MARGIN = 5 * GRID
STUB = 10.0
PER_ROW = 5
CLEARANCE = 3.0
"""px a wire keeps from a card."""
AWAY = 60.0
"""px a lane must be free for to count as a gap between cards."""
TOO_NEAR = 7.0
"""px between parallel wires."""
CROSSES_CARD, CROSSES_WIRE, BEND = 2000.0, 30.0, 24.0
"""Costs, in px of length."""

Point = tuple[float, float]


@dataclass(frozen=True)
class Box:
    x: float
    y: float
    w: float
    h: float

    @property
    def centre(self) -> Point:
        return self.x + self.w / 2, self.y + self.h / 2

    def crossed_by(self, a: Point, b: Point, clearance: float = CLEARANCE) -> bool:
        """Whether an axis-parallel segment passes through the box."""
        low_x, high_x = min(a[0], b[0]), max(a[0], b[0])
        low_y, high_y = min(a[1], b[1]), max(a[1], b[1])
        return (
            high_x > self.x - clearance
            and low_x < self.x + self.w + clearance
            and high_y > self.y - clearance
            and low_y < self.y + self.h + clearance
        )

    def overlaps(self, other: Box) -> bool:
        return (
            self.x < other.x + other.w
            and other.x < self.x + self.w
            and self.y < other.y + other.h
            and other.y < self.y + self.h
        )


@dataclass(frozen=True)
class Anchor:
    """A point on a card's edge and the direction a wire leaves in."""

    point: Point
    normal: Point


NORMALS = {"left": (-1.0, 0.0), "right": (1.0, 0.0), "top": (0.0, -1.0), "bottom": (0.0, 1.0)}


def facing_side(box: Box, other: Box, *, signal_out: bool | None, part: bool = False) -> str:
    """Side of ``box`` for a wire to ``other``. Signals flow to the left; cards above are met at the top.

    Signals meet a ``part`` at its lower edge, where the control deck lies.
    """
    if part and signal_out is not None:
        return "bottom"
    (x, y), (ox, oy) = box.centre, other.centre
    above, below = other.y + other.h <= box.y, other.y >= box.y + box.h
    if signal_out is None:
        if abs(oy - y) > box.h * 0.6 and (above or below) and abs(ox - x) < box.w:
            return "top" if above else "bottom"
        return "right" if ox >= x else "left"
    if other.x + other.w <= box.x:
        return "left" if not above or signal_out else "top"
    if other.x >= box.x + box.w:
        return "right" if not above else "top"
    return "top" if above else "bottom" if below else "left" if signal_out else "right"


def spread(box: Box, side: str, count: int) -> list[Point]:
    """``count`` evenly spaced points on a side."""
    shares = [(k + 1) / (count + 1) for k in range(count)]
    if side in ("left", "right"):
        x = box.x if side == "left" else box.x + box.w
        return [(x, round(box.y + s * box.h)) for s in shares]
    y = box.y if side == "top" else box.y + box.h
    return [(round(box.x + s * box.w), y) for s in shares]


@dataclass(frozen=True)
class Link:
    """A wire for routing: its key, the two cards, whether it is a signal from ``a`` to ``b``.

    ``joint`` names ends that must share one point (several wires on one port).
    """

    key: str
    a: str
    b: str
    signal: bool
    joint_a: str
    joint_b: str
    part_a: bool = False
    part_b: bool = False


def anchors(boxes: Mapping[str, Box], links: Iterable[Link]) -> dict[tuple[str, str], Anchor]:
    """Anchor of each end, by (joint, other end's side-chosen card). Ends on one side are ordered by where
    they go."""
    wanted: dict[tuple[str, str], dict[str, list[float]]] = {}
    side_of: dict[str, tuple[str, str]] = {}
    for link in links:
        ends = (
            (link.joint_a, link.a, link.b, True, link.part_a),
            (link.joint_b, link.b, link.a, False, link.part_b),
        )
        for joint, here, there, out, part in ends:
            box, other = boxes[here], boxes[there]
            card_side = side_of.setdefault(
                joint, (here, facing_side(box, other, signal_out=out if link.signal else None, part=part))
            )
            along = other.centre[0] if card_side[1] in ("top", "bottom") else other.centre[1]
            wanted.setdefault(card_side, {}).setdefault(joint, []).append(along)
    by_port: dict[tuple[str, str], Anchor] = {}
    for (card, side), joints in wanted.items():
        order = sorted(joints, key=lambda j: sum(joints[j]) / len(joints[j]))
        for joint, point in zip(order, spread(boxes[card], side, len(order))):
            by_port[(joint, card)] = Anchor(point, NORMALS[side])
    return by_port


class Obstacles:
    """What a wire should keep clear of: cards, and the segments of wires already laid, as arrays for many
    paths at once."""

    def __init__(self, boxes: Iterable[Box]):
        self.boxes = list(boxes)
        edges = [(b.x - CLEARANCE, b.x + b.w + CLEARANCE, b.y - CLEARANCE, b.y + b.h + CLEARANCE) for b in self.boxes]
        self.edges = np.array(edges, dtype=float).reshape(-1, 4)

    def off(self, anchor: Anchor) -> Point:
        """Where a wire that leaves there may turn: a little off its card, half way to the next one where that
        is nearer."""
        (x, y), (to_x, to_y) = anchor.point, anchor.normal
        left, right, top, bottom = self.edges.T
        if to_x:
            ahead = (left + CLEARANCE - x if to_x > 0 else x - right + CLEARANCE)[(top < y) & (y < bottom)]
        else:
            ahead = (top + CLEARANCE - y if to_y > 0 else y - bottom + CLEARANCE)[(left < x) & (x < right)]
        gap = min(ahead[ahead > 2 * CLEARANCE], default=2 * STUB)
        step = min(STUB, round(gap / 2))
        return x + to_x * step, y + to_y * step

    def upright_lanes(self, xs: np.ndarray, start: float, towards: float) -> np.ndarray:
        """Those of the places ``xs`` at which a wire can run upright from ``start`` some way without meeting
        a card."""
        end = start + np.clip(towards - start, -AWAY, AWAY)
        left, right, top, bottom = self.edges.T
        met = (xs[:, None] > left) & (xs[:, None] < right) & (max(start, end) > top) & (min(start, end) < bottom)
        return xs[~met.any(axis=1)]

    def detours(self, p: Point, q: Point, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
        """Paths of five stretches, shape (paths, 6, 2): by a gap beside ``p`` and one beside ``q``, between
        two rows of cards."""
        between = nearest(ys[(ys > min(p[1], q[1])) & (ys < max(p[1], q[1]))], p[1], 16)
        down, over, up = every_one(
            nearest(self.upright_lanes(xs, p[1], q[1]), p[0], 6),
            between,
            nearest(self.upright_lanes(xs, q[1], p[1]), q[0], 6),
        )
        paths = np.empty((len(down), 6, 2))
        paths[:, 0], paths[:, 5] = p, q
        paths[:, 1, 1], paths[:, 4, 1] = p[1], q[1]
        paths[:, 1, 0] = paths[:, 2, 0] = down
        paths[:, 2, 1] = paths[:, 3, 1] = over
        paths[:, 3, 0] = paths[:, 4, 0] = up
        return paths

    def crossed(self, paths: Paths) -> np.ndarray:
        """Cards on the way of each path. A segment begins a little off its anchor, so that the anchor's own
        card does not count."""
        a, b, owner = paths.segments(shortened=True)
        low, high = np.minimum(a, b), np.maximum(a, b)
        left, right, top, bottom = self.edges[within(low, high, self.edges[:, ::2], self.edges[:, 1::2])].T
        inside = (high[:, :1] > left) & (low[:, :1] < right) & (high[:, 1:] > top) & (low[:, 1:] < bottom)
        return np.bincount(owner[true_places(inside)[0]], minlength=len(paths.counts))


@dataclass(frozen=True)
class Paths:
    """Many paths at once: ``points`` of shape (paths, points, 2), of which each path has its first
    ``counts``."""

    points: np.ndarray
    counts: np.ndarray

    def only(self, which: np.ndarray) -> Paths:
        return Paths(self.points[which], self.counts[which])

    def path(self, n: int) -> list[Point]:
        points = [(float(x), float(y)) for x, y in self.points[n, : self.counts[n]]]
        return [point for point, _ in itertools.groupby(points)]  # what went to and fro ends twice where it began

    def _there(self) -> np.ndarray:
        return np.arange(self.points.shape[1] - 1) < self.counts[:, None] - 1

    def base_costs(self) -> np.ndarray:
        """Length and bends of each path, whatever is in its way."""
        stretches = np.abs(self.points[:, 1:] - self.points[:, :-1])
        stretches[~self._there()] = 0.0
        return BEND * self.counts + (stretches[..., 0] + stretches[..., 1]).sum(axis=1)

    def segments(self, *, shortened: bool = False) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Starts and ends of all segments, shape (segments, 2), and the path of each; ``shortened`` at the
        paths' own ends."""
        there = self._there()
        starts, ends = self.points[:, :-1], self.points[:, 1:]
        if shortened:
            starts, ends = starts.copy(), ends.copy()
            every, last = np.arange(len(starts)), self.counts - 2
            first = step_towards(starts[:, 0], ends[:, 0])
            ends[every, last] = step_towards(ends[every, last], starts[every, last])
            starts[:, 0] = first
        return starts[there], ends[there], np.nonzero(there)[0]


def simplified(points: np.ndarray) -> Paths:
    """Paths without repeated and collinear points; ``points`` has the shape (paths, points, 2)."""
    every, out, counts = np.arange(len(points)), np.zeros_like(points), np.ones(len(points), dtype=int)
    out[:, 0] = points[:, 0]
    before = last = points[:, 0].T
    for k in range(1, points.shape[1]):
        point = points[:, k].T
        same_x, same_y = point == last
        in_line_x, in_line_y = before == last
        along = ((in_line_x & same_x) | (in_line_y & same_y)) & (counts > 1)
        more = ~((same_x & same_y) | along)
        counts += more
        out[every, counts - 1] = points[:, k]
        before, last = np.where(more, last, before), point
    return Paths(out, counts)


FIRST, AT_ONCE = 16, 160
"""Paths that are held against other wires together: those that cost least without them, and then the
others."""


def route(a: Anchor, b: Anchor, obstacles: Obstacles, taken: np.ndarray) -> list[Point]:
    """An orthogonal path between two anchors: short, few bends, through no card, not along other wires.

    ``taken`` holds segments (x1, y1, x2, y2) of other wires. Paths are held against them in the order of what
    they cost without, until the next cost too much to win whatever is in their way.
    """
    boxes = obstacles.boxes
    p, q = obstacles.off(a), obstacles.off(b)
    if straight(a, b) and not any(box.crossed_by(p, q) for box in boxes):
        return [a.point, b.point]
    xs, ys = lanes(p, q, boxes)
    laid = Laid(taken, (xs[0], ys[0]), (xs[-1], ys[-1]))
    best: list[Point] = []
    best_cost, through = float("inf"), False
    for kind, fewest in ((simple_paths, 2), (winding_paths, 5), (obstacles.detours, 6)):
        if kind == obstacles.detours and not through:
            break
        points = with_ends(a.point, kind(p, q, xs, ys), b.point)
        paths = simplified(points[lengths(points) + fewest * BEND < best_cost])
        base = paths.base_costs()
        paths, base = paths.only(base < best_cost), base[base < best_cost]
        met = obstacles.crossed(paths)
        alone = base + CROSSES_CARD * met
        order = np.argsort(alone, kind="stable")
        for first, last in chunks(len(order)):
            chunk = order[first:last]
            chunk = chunk[alone[chunk] < best_cost]
            if not len(chunk):
                break
            starts, ends, owner = paths.only(chunk).segments()
            costs = alone[chunk] + np.bincount(owner, near_costs(starts, ends, laid), len(chunk))
            k = int(np.argmin(costs))
            if costs[k] < best_cost:
                best, best_cost = paths.path(chunk[k]), float(costs[k])
                through = met[chunk[k]] > 0
    return best


def chunks(n: int) -> Iterator[tuple[int, int]]:
    """First and last but one of each lot of ``n`` paths."""
    for first in (0, *range(FIRST, n, AT_ONCE)):
        yield first, min(n, first + AT_ONCE if first else FIRST)


def lengths(points: np.ndarray) -> np.ndarray:
    """px, of paths of shape (paths, points, 2)."""
    stretches = np.abs(points[:, 1:] - points[:, :-1])
    return (stretches[..., 0] + stretches[..., 1]).sum(axis=1)


def within(low: np.ndarray, high: np.ndarray, other_low: np.ndarray, other_high: np.ndarray) -> np.ndarray:
    """Which of the other boxes, by their corners of shape (boxes, 2), reach into the one around all of the
    first."""
    if not len(low):
        return np.zeros(len(other_low), dtype=bool)
    reaches = (other_high > low.min(axis=0)) & (other_low < high.max(axis=0))
    return reaches[:, 0] & reaches[:, 1]


def with_ends(first: Point, inner: np.ndarray, last: Point) -> np.ndarray:
    ends = [np.broadcast_to(np.array(end, dtype=float), (len(inner), 1, 2)) for end in (first, last)]
    return np.concatenate([ends[0], inner, ends[1]], axis=1)


def straight(a: Anchor, b: Anchor) -> bool:
    opposite = (a.normal[0] + b.normal[0], a.normal[1] + b.normal[1]) == (0.0, 0.0)
    ahead = (b.point[0] - a.point[0]) * a.normal[0] + (b.point[1] - a.point[1]) * a.normal[1]
    level = a.point[1] == b.point[1] if a.normal[0] else a.point[0] == b.point[0]
    return opposite and level and ahead > 0


def lanes(p: Point, q: Point, boxes: list[Box]) -> tuple[np.ndarray, np.ndarray]:
    """Places at which wires may run upright and level: at both ends, half way, and beside the cards
    around."""
    low_x, high_x = min(p[0], q[0]) - 200, max(p[0], q[0]) + 200
    low_y, high_y = min(p[1], q[1]) - 200, max(p[1], q[1]) + 200
    offsets = (12.0, 20.0, 28.0)
    near = [b for b in boxes if b.x < high_x and b.x + b.w > low_x and b.y < high_y and b.y + b.h > low_y]
    xs = {v for b in near for o in offsets for v in (b.x - o, b.x + b.w + o)}
    ys = {v for b in near for o in offsets for v in (b.y - o, b.y + b.h + o)}
    xs |= {p[0], q[0], round((p[0] + q[0]) / 2)}
    ys |= {p[1], q[1], round((p[1] + q[1]) / 2)}
    return np.array(sorted(xs), dtype=float), np.array(sorted(ys), dtype=float)


def simple_paths(p: Point, q: Point, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Paths of up to three stretches, shape (paths, 4, 2): by an upright or a level lane, which may lie at an
    end."""
    upright, level = np.empty((len(xs), 4, 2)), np.empty((len(ys), 4, 2))
    for paths in (upright, level):
        paths[:, 0], paths[:, 3] = p, q
    upright[:, 1:3, 0] = xs[:, None]
    upright[:, 1, 1], upright[:, 2, 1] = p[1], q[1]
    level[:, 1:3, 1] = ys[:, None]
    level[:, 1, 0], level[:, 2, 0] = p[0], q[0]
    return np.concatenate([upright, level])


NEAREST = 8
"""Lanes tried in each direction by paths of four stretches."""


def nearest(lanes: np.ndarray, place: float, count: int = NEAREST) -> np.ndarray:
    return lanes[np.argsort(np.abs(lanes - place), kind="stable")[:count]]


def every_one(*choices: np.ndarray) -> list[np.ndarray]:
    """All combinations, as one array for each choice."""
    return [grid.ravel() for grid in np.meshgrid(*choices, indexing="ij")]


def winding_paths(p: Point, q: Point, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Paths of four stretches, shape (paths, 5, 2): level to a lane near ``p``, or upright to one, and by one
    near ``q`` to it."""
    families = []
    for level, (x, y) in (
        (True, every_one(nearest(xs, p[0]), nearest(ys, q[1]))),
        (False, every_one(nearest(xs, q[0]), nearest(ys, p[1]))),
    ):
        paths = np.empty((len(x), 5, 2))
        paths[:, 0], paths[:, 4] = p, q
        paths[:, 2, 0], paths[:, 2, 1] = x, y
        paths[:, 1, 0], paths[:, 1, 1] = (x, p[1]) if level else (p[0], y)
        paths[:, 3, 0], paths[:, 3, 1] = (q[0], y) if level else (x, q[1])
        families.append(paths)
    return np.concatenate(families)


def step_towards(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Points just off anchors, on the way to ``b``; both of shape (paths, 2)."""
    way = b - a
    size = np.abs(way[:, :1]) + np.abs(way[:, 1:])
    return a + way * np.minimum(STUB - 2, size) / np.where(size > 0, size, 1.0)


class Laid:
    """Segments (x1, y1, x2, y2) of wires that are laid already, as far as they come near what lies between
    two corners: level and upright ones apart, each by where it lies and from where to where it runs."""

    def __init__(self, segments: np.ndarray, corner: Point, opposite: Point):
        ends, margin = segments.reshape(-1, 2, 2), STUB + TOO_NEAR
        around = np.array([corner]) - margin, np.array([opposite]) + margin
        segments = segments[within(*around, ends.min(axis=1), ends.max(axis=1))]
        level = segments[:, 1] == segments[:, 3]
        self.level = sorted_out(segments[level], 0)
        self.upright = sorted_out(segments[~level], 1)


def sorted_out(segments: np.ndarray, along: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    ends = segments[:, along], segments[:, along + 2]
    return segments[:, 1 - along], np.minimum(*ends), np.maximum(*ends)


def true_places(places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns where ``places`` is true; where few are, many times faster than by NumPy's own way for
    two dimensions."""
    return np.divmod(np.flatnonzero(places), max(1, places.shape[1]))


def near_costs(a: np.ndarray, b: np.ndarray, laid: Laid) -> np.ndarray:
    """For each segment from ``a`` to ``b``, shape (n, 2), the cost of running along others or of crossing
    them."""
    cost, level = np.zeros(len(a)), a[:, 1] == b[:, 1]
    for along, which in enumerate((level, ~level)):
        mine = np.flatnonzero(which)
        same, crossing = (laid.upright, laid.level) if along else (laid.level, laid.upright)
        at, low, high = sorted_out(np.concatenate([a[mine], b[mine]], axis=1), along)
        beside, begins, ends = same
        k, n = true_places(np.abs(at[:, None] - beside) < TOO_NEAR)  # few are, so the rest is for these only
        shared = np.minimum(high[k], ends[n]) - np.maximum(low[k], begins[n])
        along_others = np.bincount(k, np.where(shared > 0, 6.0 * shared + CROSSES_WIRE, 0.0), len(mine))
        place, begins, ends = crossing
        at, low, high = at[:, None], low[:, None], high[:, None]
        through = (low < place) & (place < high) & (begins < at) & (at < ends)
        cost[mine] = along_others + CROSSES_WIRE * np.bincount(true_places(through)[0], minlength=len(mine))
    return cost


def routes(boxes: Mapping[str, Box], links: list[Link]) -> dict[str, list[Point]]:
    """Paths of all wires."""
    return dict(routed(boxes, links))


def routed(boxes: Mapping[str, Box], links: list[Link]) -> Iterator[tuple[str, list[Point]]]:
    """Paths of all wires one by one, the short ones first, so that long ones give way."""
    placed = anchors(boxes, links)
    obstacles = Obstacles(boxes.values())
    segments_of: dict[str, list[tuple[float, float, float, float]]] = {}
    """By the joint a wire starts from: wires of one joint may run together."""

    def span(link: Link) -> float:
        (x, y), (ox, oy) = boxes[link.a].centre, boxes[link.b].centre
        return (abs(x - ox) + abs(y - oy)) * (1.0 if link.signal else 0.1)

    for link in sorted(links, key=span):
        a, b = placed[(link.joint_a, link.a)], placed[(link.joint_b, link.b)]
        others = [s for joint, known in segments_of.items() if joint != link.joint_a for s in known]
        path = route(a, b, obstacles, np.array(others, dtype=float).reshape(-1, 4))
        segments_of.setdefault(link.joint_a, []).extend((*c, *d) for c, d in itertools.pairwise(path))
        yield link.key, path


def boundary(boxes: Iterable[Box], default: float = 320.0) -> float:
    """Height of the sampling boundary: below the lowest power card."""
    return max((b.y + b.h for b in boxes), default=default - 28) + 28


def segments(path: list[Point]) -> list[tuple[Point, Point]]:
    return list(itertools.pairwise(path))


def distance_to_path(path: list[Point], point: Point) -> float:
    """Shortest distance from a point to an orthogonal path."""
    best = float("inf")
    for (ax, ay), (bx, by) in itertools.pairwise(path):
        x = min(max(point[0], min(ax, bx)), max(ax, bx))
        y = min(max(point[1], min(ay, by)), max(ay, by))
        best = min(best, ((point[0] - x) ** 2 + (point[1] - y) ** 2) ** 0.5)
    return best
