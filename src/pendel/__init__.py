"""Pendel: model, simulate, tune and ship motor drives."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pendel.api import CardView, Drive, NoSignal, Run
    from pendel.opening import open_drive, open_example

    open = open_drive

__version__ = "0.1.0"

__all__ = ["CardView", "Drive", "NoSignal", "Run", "open", "open_drive", "open_example"]


def __getattr__(name: str) -> Any:
    """The script interface loads on first use, so that the window does not wait for it."""
    if name in __all__:
        from pendel import api, opening

        if name == "open":
            return opening.open_drive
        return getattr(opening if name in opening.__all__ else api, name)
    raise AttributeError(f"module pendel has no attribute {name}")


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
