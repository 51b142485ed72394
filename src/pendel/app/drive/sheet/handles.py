"""Where ports can be grabbed: on their wires, or at their own side when free."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QPointF

from pendel.app.drive.sheet.geometry import Anchor, Box, anchors, spread
from pendel.app.drive.sheet.geometry import Link as Routed
from pendel.app.drive.sheet.items import CardItem
from pendel.app.drive.sheet.wiring import SIGNALS
from pendel.core.catalogue.declare import Kind, Part


def place_handles(
    cards: Mapping[str, CardItem], kinds: Mapping[str, Kind], boxes: Mapping[str, Box], links: list[Routed]
) -> dict[tuple[str, str], Anchor]:
    """Give each card the places of its ports' handles; free ports of one side share it evenly with those that
    are wired. Returns where these are, as `anchors` has it."""
    placed: dict[tuple[str, str], Anchor] = anchors(boxes, links)
    for key, item in cards.items():
        kind = kinds.get(key)
        if kind is None:
            continue
        item.handles = {}
        free: dict[str, list[str]] = {}
        for port in kind.ports:
            anchor = placed.get((f"{key}.{port.name}", key))
            if anchor:
                item.handles[port.name] = QPointF(*anchor.point)
            else:
                free.setdefault(port.side, []).append(port.name)
        if isinstance(kind, Part) and kind.signals:
            free.setdefault("bottom", []).append(SIGNALS)
        for side, names in free.items():
            item.handles |= handles_on(boxes[key], side, names, list(item.handles.values()))
    return placed


def handles_on(box: Box, side: str, names: list[str], known: list[QPointF]) -> dict[str, QPointF]:
    """Places for ports on one side of a card, away from the handles that are there."""
    used = [p for p in known if is_on_side(box, side, p)]
    points = [QPointF(*p) for p in spread(box, side, max(1, len(names) + len(used)))]

    def nearest(p: QPointF) -> float:
        return min([abs(p.x() - u.x()) + abs(p.y() - u.y()) for u in used] or [0.0])

    open_points = sorted(points, key=lambda p: -nearest(p))[: len(names)]
    return dict(zip(names, sorted(open_points, key=lambda p: (p.y(), p.x()))))


def is_on_side(box: Box, side: str, p: QPointF) -> bool:
    return {
        "left": p.x() == box.x,
        "right": p.x() == box.x + box.w,
        "top": p.y() == box.y,
        "bottom": p.y() == box.y + box.h,
    }[side]
