"""Cards at random, wired by what is obvious: one feeder an input, and no unit where it does not belong."""

from __future__ import annotations

from random import Random

import pendel
from pendel.core.catalogue.index import kinds
from pendel.core.drive import commands
from pendel.core.wiring.completing import completing
from tests.campaigns.faults.report import Boundary

WRONG = ("Wire another signal to it", "Wire signals of one quantity", "Delete it", "does not exist")
"""What findings about wires that were never meant say."""


def wired_by_itself(rng: Random, into: Boundary) -> None:
    drive, known = pendel.Drive("Wired"), [kind.id for kind in kinds().values() if not kind.id.startswith("own")]
    drawn = [rng.choice(known) for _ in range(rng.randint(2, 7))]
    for number, kind in enumerate(drawn):
        drive.do(commands.add_card(drive.document, kind, f"Card {number}", 30 * number, 0))
    if rng.random() < 0.5:  # and what completes one of them
        best = completing(drive.document, rng.choice(list(drive.cards)))
        drawn += sorted(best, key=lambda kind: -best[kind])[:2]
        for kind in drawn[-2:] if best else ():
            drive.do(commands.add_card(drive.document, kind, "More"))
    before = {finding.sentence for finding in drive.check()}

    def act() -> None:
        drive.connect_obvious()
        wires = drive.document.wires.values()
        assert len({wire.b for wire in wires if is_input(drive, wire.b.card, wire.b.port)}) == sum(
            is_input(drive, wire.b.card, wire.b.port) for wire in wires
        )
        wrong = [f.sentence for f in drive.check() if f.sentence not in before and any(w in f.sentence for w in WRONG)]
        assert not wrong, wrong

    into.meet(" ".join(drawn).encode(), act)


def is_input(drive: pendel.Drive, card: str, port: str) -> bool:
    found = kinds()[drive.document.cards[card].kind].port(port)
    return found is not None and found.link.is_signal
