"""C that the user typed, as the compiler sees it."""

from __future__ import annotations

from pendel.core.catalogue.own_block import C, block_of
from pendel.core.controllers.language import Update
from pendel.core.controllers.own_c import c_problem
from pendel.core.drive.document import Drive
from pendel.core.drive.findings import Finding, fault
from pendel.core.trust import is_allowed


def refused_c(drive: Drive) -> list[Finding]:
    """What the compiler has against typed C that was allowed here; other C it is not shown."""
    faults = []
    for key, card in drive.cards.items():
        if card.kind != C or card.own is None or not is_allowed(card.own):
            continue
        kind = block_of(card)
        update, ports, values = kind.update, [p.name for p in kind.ports], [v.name for v in kind.values]
        if isinstance(update, Update) and update.verbatim and (wrong := c_problem(update, ports, values)):
            section, line, reason = wrong
            where = {"equations": "update", "convert": "conversion", "words": "update in words"}[section]
            sentence = f"{card.name}, {where} line {line + 1}: The compiler says: {reason}."
            faults.append(fault(sentence, key, f"{section}:{line}"))
    return faults
