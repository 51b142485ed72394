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


@pytest.fixture
def door():
    """The car door drive as a document."""
    return load(EXAMPLE)


@pytest.fixture
def example_path():
    return EXAMPLE
