"""How a drawing is tidied, without Qt: power cards along the energy path, control cards in columns. Units are pixels,
places steps of the grid."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

from pendel.app.drive.sheet.geometry import (
    CONTROL_PITCH_Y,
    CONTROL_SIZE,
    GRID,
    MARGIN,
    PER_ROW,
    PITCH_X,
    PITCH_Y,
    POWER_SIZE,
    Box,
    boundary,
)


def tidy(
    power: list[str],
    power_links: list[tuple[str, str]],
    control: list[str],
    signal_links: list[tuple[str, str]],
    outputs: set[str],
    sources: list[str],
    measured: set[str] = frozenset(),
) -> dict[str, tuple[int, int]]:
    """Places of all cards in grid steps; no two overlap.

    Power cards follow the energy path from the sources, row by row, every other row backwards. Control cards
    stand in columns by their distance from the power deck, signals running to the left. ``outputs`` drive it,
    ``measured`` read from it."""
    places = tidy_power(power, power_links, sources)
    line = boundary(Box(x * GRID, y * GRID, *POWER_SIZE) for x, y in places.values())
    top = round(line + 28) // GRID
    places.update(tidy_control(control, signal_links, outputs, measured, top))
    return places


def tidy_power(cards: list[str], links: list[tuple[str, str]], sources: list[str]) -> dict[str, tuple[int, int]]:
    neighbours: dict[str, list[str]] = {c: [] for c in cards}
    for a, b in links:
        if a in neighbours and b in neighbours:  # a wrong wire may end on the other deck
            neighbours[a].append(b)
            neighbours[b].append(a)
    order: list[str] = []
    for start in [*sources, *cards]:
        queue = [start]
        while queue:
            card = queue.pop(0)
            if card not in order:
                order.append(card)
                queue = [n for n in neighbours[card] if n not in order] + queue
    places = {}
    for n, card in enumerate(order):
        row, column = divmod(n, PER_ROW)
        if row % 2:
            column = PER_ROW - 1 - column
        places[card] = ((MARGIN + column * PITCH_X) // GRID, (40 + row * PITCH_Y) // GRID)
    return places


def tidy_control(
    cards: list[str], links: list[tuple[str, str]], outputs: set[str], measured: set[str], top: int
) -> dict[str, tuple[int, int]]:
    readers: dict[str, list[str]] = {c: [] for c in cards}
    for a, b in links:
        readers[a].append(b)
    column = distances(cards, readers)
    row: dict[str, float] = {}
    taken: dict[int, set[int]] = {}
    for card in sorted(cards, key=lambda c: (column[c], c not in outputs, cards.index(c))):
        wished = [row[r] for r in readers[card] if r in row]
        want = round(sum(wished) / len(wished)) if wished else 0
        used = taken.setdefault(column[card], set())
        free = next(r for d in itertools.count() for r in (want + d, want - d) if r >= 0 and r not in used)
        used.add(free)
        row[card] = free
    lefts = column_places(column, row, links, outputs | measured)
    bands = in_bands(column, lefts)
    places: dict[str, tuple[int, int]] = {}
    down = 0
    for band in bands:
        within = [card for card in cards if column[card] in band]
        rows = sorted({round(row[card]) for card in within})  # one that is empty all along is left out
        for card in within:
            x = lefts[column[card]] - lefts[band[0]] + MARGIN
            places[card] = (x // GRID, top + (down + rows.index(round(row[card]))) * CONTROL_PITCH_Y // GRID)
        down += len(rows)
    return places


def in_bands(column: Mapping[str, int], lefts: list[int]) -> list[list[int]]:
    """Where there are more columns than can be read side by side, the further ones go on below the nearer ones, as
    lines of a text do."""
    bands: list[list[int]] = [[]]
    for c in sorted(set(column.values())):
        if bands[-1] and lefts[c] - lefts[bands[-1][0]] + CONTROL_SIZE[0] > BAND_WIDTH - MARGIN:
            bands.append([])
        bands[-1].append(c)
    return bands if bands[0] else []


def distances(cards: list[str], readers: Mapping[str, list[str]]) -> dict[str, int]:
    """The longest way from each card to one that nobody reads. What closes a loop does not count: seen from
    the cards that read nobody, a wire back to a card on the way there."""
    steps: dict[str, int] = {}
    fed = {reader for card in cards for reader in readers[card]}
    for start in sorted(cards, key=lambda card: card in fed):
        way = [start] if start not in steps else []
        while way:
            card = way[-1]
            ahead = next((r for r in readers[card] if r not in steps and r not in way), None)
            if ahead is not None:
                way.append(ahead)
            else:
                steps[way.pop()] = max((steps[r] + 1 for r in readers[card] if r in steps), default=0)
    return steps


LANE, MOST_LANES = 2 * GRID, 12
BAND_WIDTH = 760
"""Of columns side by side, px: as much as can be read beside both side columns of a window of 1280 px."""


def column_places(
    column: Mapping[str, int], row: Mapping[str, float], links: list[tuple[str, str]], outside: set[str]
) -> list[int]:
    """Left edges of all columns, in px: between two there is room for the wires that run upright there, side
    by side.

    Those into a column run at its right, but for one that comes straight from the next; those of a card that
    is joined to the power deck, below the first row, at either side.
    """
    upright: dict[int, set[str]] = {}
    for a, b in links:
        if column[a] != column[b] + 1 or row[a] != row[b]:
            upright.setdefault(column[b], set()).add(a)
    places = [MARGIN]
    for c in range(max(column.values(), default=0)):
        passing = sum(column[card] in (c, c + 1) and row[card] > 0 for card in outside & column.keys()) / 2
        lanes = min(MOST_LANES, round(len(upright.get(c, ())) + passing))
        places.append(places[-1] + max(PITCH_X, CONTROL_SIZE[0] + (lanes + 1) * LANE))
    return places
