import subprocess
import sys


def test_core_needs_no_qt():
    code = "import sys\nfor n in ('PyQt6', 'pyqtgraph'): sys.modules[n] = None\nimport pendel, pendel.api, pendel.cli.main, pendel.core.runs.worker, pendel.core.firmware.ship\nfrom pendel.core.loops import tuning"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_what_few_drives_need_is_not_loaded_at_the_start():
    """SciPy's interpolation, optimisation and signals take most of a second to load."""
    code = "import sys, pendel.app.window; from pendel.core.catalogue.index import kinds; kinds(); print(*[m for m in ('scipy.interpolate', 'scipy.optimize', 'scipy.signal') if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []
