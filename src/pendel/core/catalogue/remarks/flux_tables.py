"""Whether a machine by tables stayed within them."""

from __future__ import annotations

import numpy as np

from pendel.core.catalogue.remarks.seen import Seen
from pendel.core.drive.findings import Remark
from pendel.core.quantities.units import figure
from pendel.core.vocabulary import SignalRole


def left_tables(seen: Seen, key: str) -> Remark | None:
    """A machine whose currents left its flux tables, with the first time and the furthest current."""
    run, card = seen.run, seen.drive.cards[key]
    signals = seen.signals(key, SignalRole.CURRENT_DQ)
    if card.flux is None or not signals:
        return None
    currents = run.on_rows(signals, slice(None)).T
    edges = [(axis[0], axis[-1]) for axis in (card.flux.i_d, card.flux.i_q)]
    beyond = [np.maximum(low - y, y - high) for y, (low, high) in zip(currents, edges)]
    worst = int(np.argmax([np.max(b) for b in beyond]))
    if np.max(beyond[worst]) <= 0:
        return None
    first = float(run.rows[np.argmax(np.maximum(*beyond) > 0), 0])
    furthest = float(currents[worst][np.argmax(beyond[worst])])
    edge = edges[worst][0 if furthest < 0 else 1]
    name = signals[worst].partition(".")[2]
    return Remark(
        f"{card.name}: its currents left the flux tables at {figure(first, 's', 4)}; {name} went to "
        f"{figure(furthest, 'A', 3)}, the table ends at {figure(edge, 'A', 3)}. "
        "Beyond it the fluxes go on straight, which is a guess. Load wider tables or limit the current.",
        key,
        first,
    )
