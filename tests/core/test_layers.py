import subprocess
import sys


def test_core_needs_no_qt():
    code = "import sys\nfor n in ('PyQt6', 'pyqtgraph'): sys.modules[n] = None\nimport pendel, pendel.api, pendel.cli.main, pendel.core.runs.worker, pendel.core.firmware.ship\nfrom pendel.core.loops import tuning"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0
