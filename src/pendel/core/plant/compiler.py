"""The C compiler, found once, and a cache of builds keyed by content."""

from __future__ import annotations

import contextlib
import hashlib
import importlib.util
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

from platformdirs import user_cache_dir

from pendel.core.errors import BuildProblem

TIME_LIMIT = 60.0
CACHE_LIMIT = 400
FLAGS = (
    "-std=c99",
    "-O1",
    "-fPIC",
    "-shared",
    "-ffp-contract=off",
    "-fno-math-errno",
    "-fno-trapping-math",
    "-fno-semantic-interposition",
)


UNIT = "/* next unit */\n"
"""Parts a source into units that are compiled side by side and linked."""
PLAIN = "/* little optimisation */\n"
"""Begins a unit that is compiled so."""


@lru_cache(maxsize=1)
def compiler() -> tuple[str, ...]:
    """The command that compiles C.

    Raises
    ------
    BuildProblem
        with what to install, when there is none.
    """
    found = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if found:
        return (found,)
    if importlib.util.find_spec("ziglang"):
        return (sys.executable, "-m", "ziglang", "cc")
    raise BuildProblem(
        "There is no C compiler on this machine. Install one with “apt install gcc” or “pip install ziglang”, then run again."
    )


def cache_folder() -> Path:
    folder = Path(user_cache_dir("pendel")) / "builds"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise BuildProblem(
            f"The build cache {folder} cannot be made: {problem.strerror}. Make the folder writable."
        ) from problem
    return folder


def library_path(source: str, flags: tuple[str, ...] = FLAGS) -> Path:
    """Where the library of ``source`` is or will be kept. Raises `BuildProblem` without a compiler."""
    key = hashlib.sha256("\0".join((source, *compiler(), *flags)).encode()).hexdigest()[:32]
    return cache_folder() / f"{key}.so"


def build_library(source: str, *, flags: tuple[str, ...] = FLAGS) -> Path:
    """Shared library of ``source``, from the cache when the same text was built before.

    Raises
    ------
    BuildProblem
        with the compiler's own words.
    """
    command, library = compiler(), library_path(source, flags)
    if library.exists():
        os.utime(library)
        return library
    folder = library.parent
    with tempfile.TemporaryDirectory(dir=folder) as work:
        out = Path(work) / "model.so"
        units = source.split(UNIT)
        paths = [Path(work) / f"unit_{n}.c" for n in range(len(units))]
        for path, text in zip(paths, units):
            path.write_text(text)
        if len(units) > 1:
            paths = compiled_apart(command, flags, paths, units)
        run_compiler([*command, *flags, *map(str, paths), "-o", str(out), "-lm"])
        os.replace(out, library)
    prune(folder)
    return library


def compiled_apart(
    command: tuple[str, ...], flags: tuple[str, ...], paths: list[Path], units: list[str]
) -> list[Path]:
    """Object files of units, compiled at the same time. Raises `BuildProblem`."""
    objects = [path.with_suffix(".o") for path in paths]
    wanted = [f for f in flags if f != "-shared"]

    def compile_one(path: Path, made: Path, text: str) -> None:
        plain = ["-Og"] if text.startswith(PLAIN) else []
        run_compiler([*command, *wanted, *plain, "-c", str(path), "-o", str(made)])

    with ThreadPoolExecutor(len(paths)) as pool:
        list(pool.map(compile_one, paths, objects, units))
    return objects


def build_together(sources: Iterable[str]) -> None:
    """Build several texts at once, so that each can be loaded without waiting for the next. Raises `BuildProblem`."""
    wanted = [source for source in dict.fromkeys(sources) if not library_path(source).exists()]
    with ThreadPoolExecutor(max(1, len(wanted))) as pool:
        list(pool.map(build_library, wanted))


def run_compiler(command: list[str]) -> str:
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=TIME_LIMIT, check=False)
    except subprocess.TimeoutExpired as problem:
        raise BuildProblem(f"The C compiler did not finish within {TIME_LIMIT:.0f} s.") from problem
    except OSError as problem:
        raise BuildProblem(f"The C compiler cannot be started: {problem.strerror}.") from problem
    if done.returncode != 0:
        raise BuildProblem("The C compiler refused the code:\n" + done.stderr[:4000])
    return done.stderr


def prune(folder: Path) -> None:
    """Keep the newest builds; another process may remove the same file first."""
    ages: list[tuple[float, Path]] = []
    for build in folder.glob("*.so"):
        with contextlib.suppress(FileNotFoundError):
            ages.append((build.stat().st_mtime, build))
    for _, old in sorted(ages)[:-CACHE_LIMIT]:
        old.unlink(missing_ok=True)
