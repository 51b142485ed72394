"""Where the examples lie that come with Pendel; what is changed in them, and their runs, are kept elsewhere."""

from __future__ import annotations

from pathlib import Path

EXAMPLES = Path(__file__).parents[2] / "examples"
DEMO = EXAMPLES / "car_door_drive.pendel"
