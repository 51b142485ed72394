"""Whether a machine by tables stayed within them."""

from __future__ import annotations

import numpy as np

from pendel.core.drive.document import Drive
from pendel.core.quantities.units import figure
from pendel.core.runs.kept import KeptRun, Remark


def left_tables(run: KeptRun, drive: Drive) -> list[Remark]:
    """A remark on each machine whose currents left its flux tables, with the first time and the furthest
    current."""
    found = []
    for key, card in drive.cards.items():
        if card.flux is None or f"{key}.i_d" not in run.structure.signals:  # blocks have tables too
            continue
        currents = run.on_rows([f"{key}.i_d", f"{key}.i_q"], slice(None)).T
        edges = [(axis[0], axis[-1]) for axis in (card.flux.i_d, card.flux.i_q)]
        beyond = [np.maximum(low - y, y - high) for y, (low, high) in zip(currents, edges)]
        worst = int(np.argmax([np.max(b) for b in beyond]))
        if np.max(beyond[worst]) <= 0:
            continue
        first = float(run.rows[np.argmax(np.maximum(*beyond) > 0), 0])
        furthest = float(currents[worst][np.argmax(beyond[worst])])
        edge = edges[worst][0 if furthest < 0 else 1]
        name = ("i_d", "i_q")[worst]
        found.append(
            Remark(
                f"{card.name}: its currents left the flux tables at {figure(first, 's', 4)}; {name} went "
                f"to {figure(furthest, 'A', 3)}, the table ends at {figure(edge, 'A', 3)}. "
                "Beyond it the fluxes go on straight, which is a guess. Load wider tables or limit the current.",
                key,
                first,
            )
        )
    return found
