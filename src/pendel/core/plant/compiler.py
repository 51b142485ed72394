"""The C compiler, found once, and a cache of builds keyed by content."""

from __future__ import annotations

import atexit
import contextlib
import fcntl
import hashlib
import importlib.util
import math
import os
import re
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

from platformdirs import user_cache_dir

from pendel.core.cores import VARIABLE, usable_cores
from pendel.core.errors import BuildProblem, shorten
from pendel.core.temporary import temporary_folder

TIME_LIMIT, PATIENCE = 60.0, 5
"""Seconds of computing that a compiler may take, and how many times that by the clock, as others may compute
too."""
MOST_MEMORY, MOST_WRITTEN = 8 << 30, 1 << 30
"""Bytes of addresses, and of one file, that a compiler may take."""
CACHE_LIMIT, CACHE_BYTES = 2000, 512 << 20
"""Builds that are kept, and their bytes in all."""
WORK = re.compile(r"building-(\d+)-\w+")
"""Folders of builds under way, by the process."""
PRIVATE = 0o700
BUILDS = "builds"
COMPILER_CHOSEN = "PENDEL_COMPILER"
"""The environment's word for a compiler: one of `CAN_BE_CHOSEN`, or empty for the first that is found."""
CAN_BE_CHOSEN = {"gcc": "apt install gcc", "clang": "apt install clang", "zig": "pip install ziglang"}
"""Those that can be chosen, and how each is installed."""
KEPT = (
    "PATH",
    VARIABLE,
    COMPILER_CHOSEN,
    "HOME",
    "TMPDIR",
    "LANG",
    "USER",
    "LOGNAME",
    "LD_LIBRARY_PATH",
    "OPENBLAS_CORETYPE",
    "OPENBLAS_L2_SIZE",
    "OPENBLAS_NUM_THREADS",
    "OMP_NUM_THREADS",
    "ZIG_GLOBAL_CACHE_DIR",
)
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
LONG = 4000
"""Lines of a unit from which on the compiler does not look far back for what it has read already: that takes two
fifths of its time on a drive of hundreds of parts, and saves next to nothing."""
SHORT_SIGHTED = "--param=sccvn-max-alias-queries-per-access=50"
"""An option of GCC alone."""


@lru_cache(maxsize=1)
def compiler() -> tuple[str, ...]:
    """The command that compiles C: the one that was chosen, else the first that is found.

    Raises
    ------
    BuildProblem
        with what to install, when there is none.
    """
    chosen = os.environ.get(COMPILER_CHOSEN, "")
    if chosen and chosen not in CAN_BE_CHOSEN:
        known = ", ".join(CAN_BE_CHOSEN)
        raise BuildProblem(f"{COMPILER_CHOSEN} is “{shorten(chosen, 40)}”. Take {known} or none.")
    names = (chosen,) if chosen else ("cc", "gcc", "clang")
    path = next(filter(None, map(shutil.which, names)), None) if chosen != "zig" else None
    if path:
        return (path,)
    if chosen in ("", "zig") and importlib.util.find_spec("ziglang"):
        return (
            sys.executable,
            "-P",
            "-m",
            "ziglang",
            "cc",
        )  # -P: nothing is imported from the current folder
    if chosen:
        raise BuildProblem(
            f"The compiler that is chosen, {chosen}, is not on this machine. Install it with "
            f"“{CAN_BE_CHOSEN[chosen]}”, or choose another in the preferences."
        )
    raise BuildProblem(
        "There is no C compiler on this machine. Install one with “apt install gcc” or “pip install "
        "ziglang”, then run again."
    )


@lru_cache(maxsize=1)
def other_compiler() -> tuple[str, ...]:
    """A compiler of another maker than the one that is used, where one is installed; else nothing."""
    own = os.path.basename(os.path.realpath(compiler()[0]))
    for name in ("clang", "gcc"):
        path = shutil.which(name)
        if path and not own.endswith(name) and f"{name}-" not in own and len(compiler()) == 1:
            return (path,)
    return ()


def cache_folder() -> Path:
    """The folder of builds, which only its user may touch, as what lies there is loaded and run.

    Raises
    ------
    BuildProblem
        when it cannot be made, or is another user's.
    """
    folder = Path(user_cache_dir("pendel")) / BUILDS
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=PRIVATE)
        status = folder.stat()
        if status.st_uid != os.getuid():
            raise BuildProblem(
                f"The build cache {folder} belongs to another user, whose builds are not to be run. Remove "
                "it, or set XDG_CACHE_HOME to a folder of your own."
            )
        if stat.S_IMODE(status.st_mode) & 0o077:
            folder.chmod(PRIVATE)
    except OSError as problem:
        raise BuildProblem(
            f"The build cache {folder} cannot be made private: {problem.strerror}. Make the folder yours and writable."
        ) from problem
    return folder


@lru_cache(maxsize=1)
def spare_folder() -> Path:
    """Where builds go that a read-only cache cannot take; it ends with this process."""
    folder = temporary_folder("builds")
    atexit.register(folder.cleanup)
    return Path(folder.name)


def library_path(source: str, flags: tuple[str, ...] = FLAGS) -> Path:
    """Where the library of ``source`` is or will be kept. Raises `BuildProblem` without a compiler."""
    key = hashlib.sha256("\0".join((source, *compiler(), *flags)).encode()).hexdigest()[:32]
    folder = cache_folder()
    library = folder / f"{key}.so"
    if os.access(folder, os.W_OK) or library.exists():
        return library
    return spare_folder() / library.name


_sound: set[Path] = set()
"""Libraries whose bytes this process has checked."""


def check_again() -> None:
    """Forget which libraries were found whole."""
    _sound.clear()


def is_built(library: Path) -> bool:
    """Whether a library is there with the bytes that were built; a damaged one is not."""
    if library in _sound and library.exists():
        return True
    try:
        written = library.with_suffix(".sum").read_text("ascii")
        whole = library.is_file() and hashlib.sha256(library.read_bytes()).hexdigest() == written
    except (OSError, ValueError):
        return False
    if whole:
        _sound.add(library)
    return whole


def copy_build(library: Path, cache: Path) -> None:
    """Give a library that is built to a process with a cache of its own, so that it need not build it
    again."""
    if not is_built(library):
        return
    folder = cache / "pendel" / BUILDS
    with contextlib.suppress(OSError):  # it builds its own then
        folder.mkdir(parents=True, exist_ok=True, mode=PRIVATE)
        for path in (library.with_suffix(".sum"), library):
            shutil.copy(path, folder)


@contextlib.contextmanager
def building(library: Path) -> Iterator[None]:
    """Held by whoever builds a library, in any process; others wait, and then find it built."""
    with open(library.with_suffix(".lock"), "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


_elsewhere: list[Callable[[str, tuple[str, ...]], None]] = []
"""What has another process build, where this one may start none."""


def build_elsewhere(ask: Callable[[str, tuple[str, ...]], None]) -> None:
    """From now on this process compiles nothing; ``ask`` has a source built with these options, and returns once it is.
    It raises `BuildProblem`."""
    _elsewhere[:] = [ask]


def build_library(source: str, *, flags: tuple[str, ...] = FLAGS) -> Path:
    """Shared library of ``source``, from the cache when the same text was built before.

    Raises
    ------
    BuildProblem
        with the compiler's own words.
    """
    library = library_path(source, flags)
    if _elsewhere and not is_built(library):
        _elsewhere[0](source, flags)
    if not is_built(library):
        try:
            for suffix in (".so", ".sum", ".lock"):
                make_way(library.with_suffix(suffix))
            with building(library):
                if not is_built(library):
                    _build(source, flags, library)
        except OSError as problem:
            raise BuildProblem(
                f"The build cannot be kept in {library.parent}: {problem.strerror}. Free some space there."
            ) from problem
    with contextlib.suppress(OSError):  # a read-only cache only loses its order of use
        os.utime(library)
    return library


def _build(source: str, flags: tuple[str, ...], library: Path) -> None:
    command, folder = compiler(), library.parent
    with work_folder(folder) as work:
        out = Path(work) / "model.so"
        units = source.split(UNIT)
        paths = [Path(work) / f"unit_{n}.c" for n in range(len(units))]
        for path, text in zip(paths, units):
            path.write_text(text)
        if len(units) > 1:
            paths = compiled_apart(command, flags, paths, units)
        run_compiler([*command, *flags, *map(str, paths), "-o", str(out), "-lm"])
        # The sum first: a library without its sum, or with another, is built again.
        checked = Path(work) / "model.sum"
        checked.write_text(hashlib.sha256(out.read_bytes()).hexdigest(), "ascii")
        os.replace(checked, library.with_suffix(".sum"))
        os.replace(out, library)
    _sound.add(library)
    prune(folder)


def library_of(units: Sequence[tuple[str, tuple[str, ...]]], *, headers: Mapping[str, str]) -> bytes:
    """Content of a library of texts that are compiled each with its own flags and see ``headers`` by name.

    Raises
    ------
    BuildProblem
    """
    command, folder = compiler(), cache_folder()
    writable = folder if os.access(folder, os.W_OK) else spare_folder()
    try:
        with work_folder(writable) as work:
            for name, text in headers.items():
                (Path(work) / name).write_text(text)
            paths = [Path(work) / f"unit_{n}.c" for n in range(len(units))]
            objects = [path.with_suffix(".o") for path in paths]

            def compile_one(place: int) -> None:
                text, flags = units[place]
                paths[place].write_text(text)
                wanted = [f for f in flags if f != "-shared"] + flags_for(text)
                run_compiler([*command, *wanted, "-c", str(paths[place]), "-o", str(objects[place])])

            with ThreadPoolExecutor(len(units)) as pool:
                list(pool.map(compile_one, range(len(units))))
            out = Path(work) / "unit.so"
            run_compiler([*command, "-shared", "-s", *map(str, objects), "-o", str(out), "-lm"])
            return out.read_bytes()
    except OSError as problem:
        raise BuildProblem(
            f"The library cannot be built in {writable}: {problem.strerror}. Free some space there."
        ) from problem


def flags_for(text: str) -> list[str]:
    """Compiler options of one unit, besides those of all."""
    flags = ["-Og"] if text.startswith(PLAIN) else []
    if text.count("\n") > LONG and "gcc" in os.path.basename(os.path.realpath(compiler()[0])):
        flags.append(SHORT_SIGHTED)
    return flags


def compiled_apart(command: tuple[str, ...], flags: tuple[str, ...], paths: list[Path], units: list[str]) -> list[Path]:
    """Object files of units, compiled at the same time. Raises `BuildProblem`."""
    objects = [path.with_suffix(".o") for path in paths]
    wanted = [f for f in flags if f != "-shared"]

    def compile_one(path: Path, out: Path, text: str) -> None:
        run_compiler([*command, *wanted, *flags_for(text), "-c", str(path), "-o", str(out)])

    with ThreadPoolExecutor(len(paths)) as pool:
        list(pool.map(compile_one, paths, objects, units))
    return objects


def build_together(sources: Iterable[str]) -> None:
    """Build several texts at once, so that each can be loaded without waiting for the next. Raises
    `BuildProblem`."""
    wanted = [source for source in dict.fromkeys(sources) if not is_built(library_path(source))]
    with ThreadPoolExecutor(max(1, len(wanted))) as pool:
        list(pool.map(build_library, wanted))


COMPILERS = threading.BoundedSemaphore(usable_cores())
"""As many at once as there are cores."""


def run_compiler(command: list[str], text: str = "", computing: float = TIME_LIMIT) -> str:
    """Run a compiler in a group of its own, with limits on its computing (s), memory and files; one that is
    given up ends with its children. ``text`` is what it reads from its input.

    Raises
    ------
    BuildProblem
    """
    if _elsewhere:
        raise BuildProblem(
            "This needs a C compiler, and no program is started where scripts, calls of other programs and typed C "
            "run. Do it in the window, by the command pendel, or in a Python program of your own (pendel.open)."
        )
    with COMPILERS:
        try:
            code, output = run_limited(command, text, computing)
        except OSError as problem:
            raise BuildProblem(f"The C compiler cannot be started: {problem.strerror}.") from problem
        except subprocess.TimeoutExpired as problem:
            raise BuildProblem(f"The C compiler did not finish within {PATIENCE * computing:.0f} s.") from problem
    if code != 0:
        if code == -signal.SIGXCPU or "signal" in output[:400] and "CPU" in output[:400]:
            raise BuildProblem(f"The C compiler did not finish within {computing:.0f} s of computing.")
        refusal = BuildProblem("The C compiler refused the code:\n" + output[:4000])
        refusal.refused = True
        raise refusal
    return output


def run_limited(command: list[str], text: str, computing: float) -> tuple[int, str]:
    """Run a program in a group of its own, with limits as of `run_compiler`; one that is given up ends with its
    children. Returns what it ended with and what it told of errors.

    Raises
    ------
    OSError
        where it cannot be started.
    subprocess.TimeoutExpired
    """
    process = subprocess.Popen(
        limited(command, computing),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        errors="replace",
        env=plain_environment(),
        start_new_session=True,
    )
    try:
        _, output = process.communicate(text, timeout=PATIENCE * computing)
    finally:
        if process.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
    return process.returncode, output


def limited(command: Sequence[str], computing: float) -> list[str]:
    """A command behind limits on computing (s), files and addresses that its own process sets, as one that is confined
    may set none for others; POSIX, ulimit (sh). The first limit on computing sends a signal, the second ends it."""
    seconds = math.ceil(computing)
    limits = (f"-S -t {seconds}", f"-H -t {seconds + 1}", f"-f {MOST_WRITTEN >> 9}", f"-v {MOST_MEMORY >> 10}")
    words = "".join(f"ulimit {limit} 2>/dev/null || :; " for limit in limits)  # where there is a lower one, that holds
    return ["/bin/sh", "-c", f'{words}exec "$@"', "sh", *command]


def plain_environment() -> dict[str, str]:
    """What a process of ours gets to know: where programs, home and temporary files are, and no more of
    Python than its safe path."""
    kept = {n: v for n, v in os.environ.items() if n in KEPT or n.startswith(("LC_", "XDG_", "QT_"))}
    paths = [p for p in os.environ.get("PYTHONPATH", "").split(os.pathsep) if os.path.isabs(p)]
    return {
        **kept,
        "LC_ALL": "C.UTF-8",
        "PYTHONSAFEPATH": "1",
        **({"PYTHONPATH": os.pathsep.join(paths)} if paths else {}),
    }


def work_folder(folder: Path) -> tempfile.TemporaryDirectory[str]:
    """A folder for one build, which says whose it is, as a process that is killed leaves it."""
    return tempfile.TemporaryDirectory(prefix=f"building-{os.getpid()}-", dir=folder, ignore_cleanup_errors=True)


def make_way(path: Path) -> None:
    """Remove a folder that is where a file belongs."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)


def prune(folder: Path) -> None:
    """Keep the newest builds, and remove what killed ones left; another process may remove the same file first."""
    found: list[tuple[float, int, Path]] = []
    for build in folder.glob("*.so"):
        with contextlib.suppress(OSError):
            status = build.stat()
            found.append((status.st_mtime, status.st_size, build))
    held = 0
    for count, (_, size, build) in enumerate(sorted(found, reverse=True)):
        held += size
        if count >= CACHE_LIMIT or (held > CACHE_BYTES and count):
            for suffix in (".so", ".sum", ".lock"):
                with contextlib.suppress(OSError):
                    build.with_suffix(suffix).unlink(missing_ok=True)
            _sound.discard(build)
    for left in folder.glob("building-*"):
        match = WORK.fullmatch(left.name)
        if match and not Path("/proc", match[1]).exists():
            shutil.rmtree(left, ignore_errors=True)
