"""Pendel: model, simulate, tune and ship motor drives."""

__version__ = "0.1.0"

_API = ("Drive", "Run", "open_drive")


def __getattr__(name: str):
    """The script interface loads on first use, so that the window does not wait for it."""
    if name in _API or name == "open":
        from pendel import api

        return api.open_drive if name == "open" else getattr(api, name)
    raise AttributeError(f"module pendel has no attribute {name}")
