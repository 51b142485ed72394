"""The ways that are usually looked at around a loop, with the loops outside it opened."""

from __future__ import annotations

from pendel.core.controllers.deck import ControlDeck
from pendel.core.drive.document import KeptTransfer
from pendel.core.loops.regulators.find import Loop, upstream


def usual_ways(loop: Loop, deck: ControlDeck) -> dict[str, KeptTransfer]:
    """By what they are called: L at the plant's input and output, and what setpoint, disturbance and noise do.

    Outer loops act through the setpoint, which is opened, unless it is where something comes in.
    """
    outer = (loop.setpoint,) if loop.setpoint in deck.signals else ()
    output = f"{loop.regulator}.{loop.regulation.out}"
    inputs = [c for c, source in deck.commands.items() if source and loop.regulator in upstream(deck, source)]
    ways = {}
    if len(inputs) == 1:  # through several commands at once, a loop has no single input of its plant
        ways["L at the plant's input"] = KeptTransfer(inputs[0], inputs[0], (inputs[0], *outer))
    ways["L at the plant's output"] = KeptTransfer(loop.source, loop.source, (loop.source, *outer))
    ways["L at the regulator"] = KeptTransfer(output, output, (output, *outer))
    if loop.setpoint in deck.signals:
        assert loop.setpoint is not None
        ways["setpoint → actual value"] = KeptTransfer(loop.setpoint, loop.actual, outer)
    if len(inputs) == 1:
        ways["disturbance at the plant's input → actual value"] = KeptTransfer(inputs[0], loop.actual, outer)
    ways["noise of the sensor → actuator"] = KeptTransfer(loop.source, output, outer)
    return ways


__all__ = ["usual_ways"]
