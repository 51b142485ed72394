"""What a program can be built for that is loaded onto a board: this computer, or a processor that is emulated."""

from __future__ import annotations

from pendel.core.controllers.numbers.lowering import Lowered
from pendel.core.errors import PendelError
from pendel.core.firmware.board_image import image_text
from pendel.core.firmware.emulated_image import processor_image
from pendel.core.firmware.processors import processor_of
from pendel.core.plant.compiler import build_library

HOST, M4F = "host", "m4f"
TARGETS = {HOST: "this computer", M4F: "an emulated Cortex-M4F"}


class UnknownTarget(PendelError):
    def __init__(self, name: str):
        super().__init__(name)
        self.name = name

    def __str__(self) -> str:
        return f"There is no target “{self.name}” to build for. Choose one of {', '.join(TARGETS)}."


def image_for(lowered: Lowered, target: str = HOST) -> bytes:
    """The program of a simulated board.

    Raises
    ------
    UnknownTarget, NoProcessor, BuildProblem, SensorReadsController
    """
    if target == HOST:
        return build_library(image_text(lowered)).read_bytes()
    if target == M4F:
        return processor_image(lowered, processor_of(M4F))
    raise UnknownTarget(target)


__all__ = ["HOST", "M4F", "TARGETS", "UnknownTarget", "image_for"]
