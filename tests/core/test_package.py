"""What is installed: built as users build it, and tried from an empty folder, with and without Qt."""

import json
import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

import pendel
from pendel.core.quantities import units

ROOT = Path(__file__).parent.parent.parent
WITHOUT_QT = (
    "import sys; sys.modules.update(PyQt6=None, pyqtgraph=None, ziamath=None, pygments=None);"
    "from pendel.cli.apart import terminal; sys.exit(terminal(sys.argv[1:]))"
)
WINDOW = (
    "import sys; from pathlib import Path; from PyQt6.QtGui import QFontDatabase;"
    "from PyQt6.QtWidgets import QApplication;"
    "app = QApplication([]); from pendel.app.widgets.theme import dress; dress(app);"
    "from pendel.app.window.main_window import MainWindow; w = MainWindow(); w.show();"
    "w.files.open_path(Path(sys.argv[1]));"
    "[w.show_page(name) for name in w.pages]; assert 'B612' in QFontDatabase.families(); w.close()"
)


@pytest.fixture(scope="module")
def built(tmp_path_factory):
    """Folder of the wheel and the source archive, and one in which the wheel lies unpacked."""
    source, made, site = (tmp_path_factory.mktemp(name) for name in ("source", "made", "site"))
    left = shutil.ignore_patterns(".*", "build", "*.egg-info", "__pycache__", "screenshots")
    shutil.copytree(ROOT, source, ignore=left, dirs_exist_ok=True)
    command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(made), str(source)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    with zipfile.ZipFile(next(made.glob("*.whl"))) as wheel:
        wheel.extractall(site)
    return made, site


def ask(site, empty, *arguments):
    """Python with the unpacked wheel and what else is installed, in an empty folder."""
    environment = {**os.environ, "PYTHONPATH": str(site)}
    return subprocess.run(
        [sys.executable, "-P", *map(str, arguments)],
        cwd=empty,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )


def test_the_wheel_works_from_an_empty_folder_without_qt_and_with_it(built, tmp_path):
    _, site = built
    where = ask(site, tmp_path, "-c", "import pendel; print(pendel.__file__)").stdout
    assert where.startswith(str(site)), "it is the wheel that is tried"
    door = site / "pendel" / "examples" / "car_door_drive.pendel"
    run = ask(site, tmp_path, "-c", WITHOUT_QT, "run", door, "--until", "10 ms", "--signals", "door_motor.speed")
    assert run.returncode == 0 and run.stdout.startswith("time [s],door_motor.speed [rad/s]"), run.stderr
    shown = ask(site, tmp_path, "-c", WINDOW, door)
    assert shown.returncode == 0, shown.stderr
    assert not [p for p in tmp_path.iterdir() if p.suffix != ".runs"]


def test_what_belongs_to_a_desktop_is_in_the_wheel_and_the_sources_in_the_archive(built):
    made, site = built
    (share,) = site.glob("pendel-*.data/data/share")
    for name in (
        "applications/pendel.desktop",
        "icons/hicolor/scalable/apps/pendel.svg",
        "mime/packages/pendel-mime.xml",
        "man/man1/pendel.1",
    ):
        assert (share / name).stat().st_size > 100
    assert (site / "pendel" / "py.typed").is_file()
    (notes,) = site.glob("pendel-*.dist-info/METADATA")
    assert "Requires-Dist: PyQt6" in notes.read_text() and 'extra == "window"' in notes.read_text()
    with tarfile.open(next(made.glob("*.tar.gz"))) as archive:
        names = {n.partition("/")[2] for n in archive.getnames()}
    assert {"LICENSE", "LICENSE-EXCEPTION.md", "src/pendel/core/plant/loop/run.h", "pyproject.toml"} <= names


def test_the_manual_page_is_that_of_the_parser(monkeypatch):
    monkeypatch.syspath_prepend(ROOT / "packaging")
    monkeypatch.setenv("COLUMNS", "80")
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "0")
    import make_man_page

    written = make_man_page.PAGE.read_text("utf-8")
    assert make_man_page.page() == written, "run python packaging/make_man_page.py"
    assert f"pendel {pendel.__version__}" in written


def test_the_table_of_units_is_what_pint_says(monkeypatch):
    monkeypatch.syspath_prepend(ROOT / "packaging")
    import make_unit_table

    table = make_unit_table.table()
    assert json.loads(make_unit_table.FILE.read_text("utf-8")) == table, "run python packaging/make_unit_table.py"
    assert units.unit("GVA") == (1e9, units.unit("W")[1]) and units.unit("uVA")[0] == 1e-6
