import ast
import importlib
import pkgutil
import re
import subprocess
import sys
from pathlib import Path

import pendel
from pendel.core.catalogue.declare import Part
from pendel.core.catalogue.index import kinds
from pendel.core.vocabulary import Link

SOURCES = Path(pendel.__file__).parent
ROOT = Path(__file__).parents[2]
EVERYDAY = {
    "own",
    "step",
    "profile",
    "switch",
    "p",
    "pi",
    "delay",
    "sum",
    "logic",
    "transistor",
    "diode",
    "own_c",
    "selector",
    "notch",
}
"""Ids of kinds that are words for other things too: settings, sections of the file, keywords of C, symbols of a
drawing, options of the terminal, controls of a panel."""
COMMON = {
    "every",
    "place",
    "position",
    "level",
    "load",
    "power",
    "current",
    "speed",
    "temperature",
    "torque",
    "angle",
    "sector",
    "setpoint",
    "actual",
    "share",
}
"""Names of signals and values with a role that are also plain words; with a dot before them they are not."""


def strings_outside_the_catalogue() -> list[tuple[str, str]]:
    files = [p for p in SOURCES.rglob("*.py") if "catalogue" not in p.parts and "examples" not in p.parts]
    return [
        (f"{path.relative_to(SOURCES)}:{node.lineno}", node.value)
        for path in files
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    ]


def test_nobody_outside_the_catalogue_names_a_kind():
    ids = set(kinds()) - EVERYDAY
    assert [at for at in strings_outside_the_catalogue() if at[1] in ids] == []


def test_nobody_outside_the_catalogue_names_a_signal_or_value_that_has_a_role():
    """Names of one letter and the gains and currents that regulations and flux tables declare by name are their own
    words."""
    with_role = {v.name for k in kinds().values() for v in k.values if v.role} | {
        s.name
        for k in kinds().values()
        for s in (k.signals if isinstance(k, Part) else k.ports)
        if s.role and getattr(s, "link", None) is not Link.SIGNAL_IN
    }
    words = {n for n in with_role if len(n) > 1} - {"K_p", "K_i", "i_d", "i_q"}
    found = strings_outside_the_catalogue()
    assert [at for at in found if at[1] in words - COMMON] == []
    assert [at for at in found if at[1].startswith(".") and at[1][1:] in words | {"i_d", "i_q"}] == []


def test_core_needs_no_qt():
    code = "import sys\nfor n in ('PyQt6', 'pyqtgraph'): sys.modules[n] = None\n"
    code += "import pendel, pendel.interface.api, pendel.cli.main, pendel.core.processes.worker\n"
    code += "import pendel.core.firmware.ship\nfrom pendel.core.loops.tuning import tuning"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_arrays_that_c_is_handed_have_a_name_that_holds_them():
    """`pointer` gives an address alone: an array made in its brackets is gone before C reads it."""
    for path in SOURCES.rglob("*.py"):
        for found in re.findall(r"(?<!def )\bpointer\(([^\n]*)", path.read_text("utf-8")):
            assert re.match(r"[\w.]+(\[[^]]*\])?\)", found), f"{path}: pointer({found}"


def test_what_few_drives_need_is_not_loaded_at_the_start():
    """SciPy's interpolation, optimisation and signals take most of a second to load."""
    code = "import sys, pendel.app.window.main_window; from pendel.core.catalogue.index import kinds\n"
    code += "kinds(); print(*[m for m in ('scipy.interpolate', 'scipy.optimize', 'scipy.signal') if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split() == []


def test_programs_beside_the_tests_name_what_there_is():
    """Benchmarks and campaigns are run by hand, and would break unseen."""
    lost = []
    for folder in ("benchmarks", "tests/campaigns"):
        files = [*(ROOT / folder).rglob("*.py")]
        assert files
        for path in files:
            for node in ast.walk(ast.parse(path.read_text("utf-8"))):
                if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("pendel."):
                    module = importlib.import_module(node.module)
                    rooms = {found.name for found in pkgutil.iter_modules(getattr(module, "__path__", ()))}
                    unknown = [
                        each.name for each in node.names if each.name not in rooms and not hasattr(module, each.name)
                    ]
                    lost += [f"{path.relative_to(ROOT)}: {node.module}.{name}" for name in unknown]
    assert not lost


def test_a_function_that_a_signal_calls_does_not_alone_hold_whose_signal_it_is():
    """What a method of Qt's returned, such as the line of a combo box, is known to Python by such a function only; both
    are then collected as garbage, and the signal, which still comes, calls what is no more."""
    lost = []
    for path in (SOURCES / "app").rglob("*.py"):
        for function in (n for n in ast.walk(ast.parse(path.read_text("utf-8"))) if isinstance(n, ast.FunctionDef)):
            pairs = []
            for node in ast.walk(function):
                for target in node.targets if isinstance(node, ast.Assign) else ():
                    several = isinstance(target, ast.Tuple) and isinstance(node.value, ast.Tuple)
                    pairs += list(zip(target.elts, node.value.elts)) if several else [(target, node.value)]
            returned = {
                name.id
                for name, value in pairs
                if isinstance(name, ast.Name)
                and isinstance(value, ast.Call)
                and isinstance(value.func, ast.Attribute)
                and value.func.attr[:1].islower()
            }
            for node in ast.walk(function):
                if (
                    isinstance(node, ast.Call)
                    and isinstance(node.func, ast.Attribute)
                    and node.func.attr == "connect"
                    and isinstance(node.args[0], ast.Lambda)
                ):
                    whose = re.match(r"\w+", ast.unparse(node.func)).group()
                    used = {n.id for n in ast.walk(node.args[0]) if isinstance(n, ast.Name)}
                    lost += [f"{path.name}:{node.lineno} {whose}"] if whose in returned & used else []
    assert not lost


def test_lines_of_the_source_are_no_longer_than_a_diff_can_show():
    """120 bytes, which is what tools without Unicode count."""
    long = [
        f"{path.relative_to(SOURCES)}:{number}"
        for ending in ("py", "c", "h")
        for path in sorted(SOURCES.rglob(f"*.{ending}"))
        for number, line in enumerate(path.read_bytes().splitlines(), 1)
        if len(line) > 120
    ]
    assert not long


def test_modules_and_functions_stay_short_enough_to_be_read_at_once():
    modules = {path: path.read_text("utf-8") for path in SOURCES.rglob("*.py")}
    lengths = {path.name: text.count("\n") for path, text in modules.items()}
    assert max(lengths.values()) <= 600 and sorted(lengths.values())[len(lengths) // 2] <= 150
    long = [
        f"{path.name}: {node.name}"
        for path, text in modules.items()
        for node in ast.walk(ast.parse(text))
        if isinstance(node, ast.FunctionDef) and node.end_lineno - node.lineno >= 80
    ]
    assert not long
