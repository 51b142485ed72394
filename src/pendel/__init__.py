"""Pendel: model, simulate, tune and ship motor drives."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pendel.core.errors import (
        BuildProblem,
        DriveHasFindings,
        DriveProblem,
        ExpressionProblem,
        FileProblem,
        PendelError,
        RunProblem,
    )
    from pendel.interface.api import CardView, Drive, NoSignal, Run
    from pendel.interface.board_view import Board
    from pendel.interface.live_view import Live
    from pendel.interface.opening import goals, new, open_drive, open_example
    from pendel.remote.here import connect, here

    open = open_drive

__version__ = "0.1.0"

__all__ = [
    "Board",
    "BuildProblem",
    "CardView",
    "Drive",
    "DriveHasFindings",
    "DriveProblem",
    "ExpressionProblem",
    "FileProblem",
    "Live",
    "NoSignal",
    "PendelError",
    "Run",
    "RunProblem",
    "connect",
    "goals",
    "here",
    "new",
    "open",
    "open_drive",
    "open_example",
]

ROOMS = {
    "Board": "pendel.interface.board_view",
    "connect": "pendel.remote.here",
    "here": "pendel.remote.here",
    "Live": "pendel.interface.live_view",
    "goals": "pendel.interface.opening",
    "new": "pendel.interface.opening",
    "open_drive": "pendel.interface.opening",
    "open_example": "pendel.interface.opening",
    "BuildProblem": "pendel.core.errors",
    "DriveHasFindings": "pendel.core.errors",
    "DriveProblem": "pendel.core.errors",
    "ExpressionProblem": "pendel.core.errors",
    "FileProblem": "pendel.core.errors",
    "PendelError": "pendel.core.errors",
    "RunProblem": "pendel.core.errors",
}
"""Where what is not in `pendel.interface.api` is."""


def __getattr__(name: str) -> Any:
    """The script interface loads on first use, so that the window does not wait for it."""
    if name in __all__:
        if name == "open":
            name = "open_drive"
        return getattr(import_module(ROOMS.get(name, "pendel.interface.api")), name)
    raise AttributeError(f"module pendel has no attribute {name}")


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
