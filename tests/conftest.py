"""Every test session has its own cache, state and settings folders and no screen."""

import atexit
import os
import shutil
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
_home = tempfile.mkdtemp(prefix="pendel-test-")
atexit.register(shutil.rmtree, _home, ignore_errors=True)
os.environ["XDG_STATE_HOME"] = str(Path(_home) / "state")
os.environ["XDG_DATA_HOME"] = str(Path(_home) / "data")
os.environ.setdefault("XDG_CACHE_HOME", str(Path(_home) / "cache"))

import pytest  # noqa: E402

from pendel.core.drive.file import load  # noqa: E402

EXAMPLE = Path(__file__).parent.parent / "src" / "pendel" / "examples" / "car_door_drive.pendel"


WHOLE = bool(os.environ.get("PENDEL_WHOLE"))
"""Whether what is looked at in some examples is looked at in all of them: `./run whole`."""
OF_EVERY_KIND = (
    "analogue_controller",
    "car_door_drive",
    "haul_drive_tables",
    "old_haul_feedback",
    "valley_filter",
    "wayside_supply",
)
"""Examples that among them have machines with and without a shaft sensor, tables, circuits, converters and grids."""


def examples_looked_at(folder):
    """Paths of examples, in their order."""
    return [path for path in sorted(folder.glob("*.pendel")) if WHOLE or path.stem in OF_EVERY_KIND]


LONGEST = (
    "test_gaps",
    "test_circuit",
    "test_window",
    "test_machine_ways",
    "test_catalogue",
    "test_everyday",
    "test_examples",
    "test_numbers",
    "test_truth",
    "test_bench",
    "test_safety",
    "test_plots",
    "test_look",
    "test_command_line",
    "test_power_drives",
    "test_ways",
    "test_live_values",
    "test_emulated_board",
    "test_measured",
    "test_power_ways",
    "test_loops",
    "test_values_in_code",
    "test_within_limits",
)
"""Files that take longest, first: where files are shared out among workers, none is left alone with one of them at the
end."""


LEFT_TO_WHOLE = frozenset(
    line for line in (Path(__file__).parent / "whole.txt").read_text("utf-8").splitlines() if not line.startswith("#")
)


def pytest_collection_modifyitems(config, items):
    asked = [str(each).partition("[")[0] for each in config.args if "::" in str(each)]
    if not WHOLE and not asked:  # one that is named is run
        left = [item for item in items if item.nodeid.removeprefix("tests/") in LEFT_TO_WHOLE]
        config.hook.pytest_deselected(items=left)
        out = set(left)
        items[:] = [item for item in items if item not in out]
    places = {name: place for place, name in enumerate(LONGEST)}
    items.sort(key=lambda item: places.get(item.path.stem, len(places)))


@pytest.fixture(autouse=True)
def patient(monkeypatch):
    """Boards may take their time to answer while other tests keep both cores busy."""
    monkeypatch.setattr("pendel.core.bench.master.PATIENCE", 2.0)


@pytest.fixture
def door():
    """The car door drive as a document."""
    return load(EXAMPLE)


@pytest.fixture
def example_path():
    return EXAMPLE
