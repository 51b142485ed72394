"""Set-ups of the oscilloscope in files: channels, how they are drawn, and the trigger."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pendel.core.errors import FileProblem

FORMAT = "pendel oscilloscope"
LARGEST, MOST_CHANNELS, LONGEST = 1 << 18, 32, 400


@dataclass(frozen=True)
class ChannelSetup:
    key: str
    scale: float = 1.0
    offset: float = 0.0
    visible: bool = True


@dataclass(frozen=True)
class Setup:
    channels: tuple[ChannelSetup, ...]
    trigger: dict[str, str]


def setup_text(channels: Sequence[ChannelSetup], trigger: dict[str, str]) -> str:
    rows = [{"key": c.key, "scale": c.scale, "offset": c.offset, "visible": c.visible} for c in channels]
    return json.dumps({"format": FORMAT, "version": 1, "channels": rows, "trigger": trigger}, indent=2) + "\n"


def read_setup(path: Path) -> Setup:
    """Raises `FileProblem`."""
    try:
        if path.stat().st_size > LARGEST:
            raise ValueError
        facts = json.loads(path.read_text("utf-8"))
        if facts["format"] != FORMAT or len(facts["channels"]) > MOST_CHANNELS:
            raise ValueError
        channels = tuple(channel_in(row) for row in facts["channels"])
        trigger = {str(k)[:LONGEST]: str(v)[:LONGEST] for k, v in facts["trigger"].items()}
    except OSError as problem:
        raise FileProblem(str(path), f"it cannot be read: {problem.strerror}.") from problem
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as problem:
        raise FileProblem(str(path), "this is no set-up of the oscilloscope. Choose another file.") from problem
    return Setup(channels, trigger)


def channel_in(row: dict) -> ChannelSetup:
    scale, offset = float(row["scale"]), float(row["offset"])
    if not (math.isfinite(scale) and math.isfinite(offset)) or scale == 0.0:
        raise ValueError("no scale")
    if not isinstance(row["visible"], bool):
        raise ValueError("neither shown nor hidden")
    return ChannelSetup(str(row["key"])[:LONGEST], scale, offset, row["visible"])
