"""What a process that runs compiled code may touch, as far as the kernel can see to it.

Files by Landlock (Linux, Documentation/userspace-api/landlock.rst), network and prying by a seccomp filter
(Documentation/userspace-api/seccomp_filter.rst), memory and sizes of files by limits. Where the kernel has
none of it, the process runs all the same, and says so. Nothing here can be taken back by the process it holds
for, or by those it starts."""

from __future__ import annotations

import contextlib
import ctypes
import os
import platform
import resource
import struct
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import IntFlag
from pathlib import Path

PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP, SECCOMP_MODE_FILTER = 38, 22, 2
"""From linux/prctl.h and linux/seccomp.h."""
LANDLOCK_CREATE, LANDLOCK_ADD, LANDLOCK_RESTRICT = 444, 445, 446
"""System calls, alike on all machines since they are new."""
EXECUTE, WRITE, READ_FILE, READ_DIR, TRUNCATE, IOCTL = 1 << 0, 1 << 1, 1 << 2, 1 << 3, 1 << 14, 1 << 15
RIGHTS_BY_VERSION = {1: (1 << 13) - 1, 2: (1 << 14) - 1, 3: (1 << 15) - 1, 5: (1 << 16) - 1}
"""All rights to files that a version of Landlock knows of."""
OF_FILES = EXECUTE | WRITE | READ_FILE | TRUNCATE | IOCTL
"""The rights that mean something for a file that is no folder."""
NET_VERSION, SCOPE_VERSION = 4, 6
BIND_AND_CONNECT, SIGNALS_AND_SOCKETS = 0b11, 0b11
SYSTEM = (
    "/usr",
    "/lib",
    "/lib32",
    "/lib64",
    "/bin",
    "/sbin",
    "/etc/ld.so.cache",
    "/etc/ld.so.conf",
    "/etc/ld.so.conf.d",
    "/etc/alternatives",
    "/etc/localtime",
    "/etc/passwd",
    "/etc/nsswitch.conf",
    "/opt",
    "/proc/self",
    "/proc/cpuinfo",
    "/proc/meminfo",
    "/sys/devices/system/cpu",
)
DEVICES = ("/dev/null", "/dev/zero", "/dev/urandom", "/dev/random")
MOST_MEMORY, MOST_WRITTEN = 64 << 30, 16 << 30
"""Bytes of addresses, and of one file."""
MORE_PROCESSES = 256
"""Threads and processes beyond those that the user has; the system does not hold its administrator to it."""


@dataclass(frozen=True)
class Calls:
    """Of a machine: its audit number (linux/audit.h), and numbers of its calls (asm/unistd_64.h, asm-generic/unistd.h):
    those that are refused, those that name a process first, `prlimit64`, and `ioctl`."""

    audit: int
    denied: tuple[int, ...]
    signals: tuple[int, ...]
    limits: int
    ioctl: int


MACHINES = {
    "x86_64": Calls(
        0xC000003E,
        (
            *(41, 42, 43, 49, 50, 288),  # socket and what goes with it
            *(101, 310, 311, 312, 438, 424, 434),  # ptrace, memory and handles of other processes
            *(155, 161, 165, 166, 272, 308, 428, 429, 430, 431, 432),  # roots, mounts, name spaces
            *(167, 175, 313, 246, 320, 248, 249, 250, 298, 304, 321, 323, 425, 426, 427),  # swap, modules, keys …
            *(29, 30, 31, 67, 64, 65, 66, 220, 68, 69, 70, 71, 240, 241, 242, 243, 244, 245),  # System V, POSIX queues
            *(141, 142, 144, 314, 251),  # priorities
            *(253, 254, 255, 294, 300, 301),  # watching files
            *(90, 91, 268, 452, 92, 93, 94, 260, 132, 235, 261, 280, 188, 189, 190, 197, 198, 199),  # what files are
        ),
        (62, 129, 200, 234, 297),
        302,
        16,
    ),
    "aarch64": Calls(
        0xC00000B7,
        (
            *(198, 200, 201, 202, 203, 242),
            *(117, 270, 271, 272, 438, 424, 434),
            *(51, 39, 40, 41, 97, 268, 265, 428, 429, 430, 431, 432),
            *(105, 106, 273, 104, 294, 217, 218, 219, 241, 280, 282, 425, 426, 427),
            *(194, 195, 196, 197, 190, 191, 192, 193, 186, 187, 188, 189, 180, 181, 182, 183, 184, 185),
            *(140, 118, 119, 274, 30),
            *(26, 27, 28, 262, 263),
            *(52, 53, 452, 54, 55, 88, 5, 6, 7, 14, 15, 16),
        ),
        (129, 138, 130, 131, 240),
        261,
        29,
    ),
}
"""Of machines that are known; for others there is no filter."""
OF_TERMINALS = (0x5412, 0x541C, 0x541D, 0x5423)
"""Commands of `ioctl` that type into a terminal or take it over: TIOCSTI, TIOCLINUX, TIOCCONS, TIOCSETD
(asm-generic/ioctls.h)."""
ERRNO_EPERM, ALLOW = 0x00050001, 0x7FFF0000


class Held(IntFlag):
    """What is in force."""

    NOTHING = 0
    PRIVILEGES = 1
    FILES = 2
    NETWORK = 4
    SIGNALS = 8
    MEMORY = 16

    def __str__(self) -> str:
        if not self:
            return "Compiled code runs in a process of its own. This system cannot confine it further."
        words = {
            Held.FILES: "reads programs and libraries only, and writes builds and its own runs only",
            Held.NETWORK: "has no network",
            Held.PRIVILEGES: "gains no privileges",
            Held.SIGNALS: "sends no signals to other programs",
            Held.MEMORY: "has limits on memory and file sizes",
        }
        return (
            "Compiled code runs in a process of its own: it "
            + ", ".join(w for k, w in words.items() if k in self)
            + "."
        )


ALL_HELD = int(Held.PRIVILEGES | Held.FILES | Held.NETWORK | Held.SIGNALS | Held.MEMORY)


def confine(writable: Iterable[Path], readable: Iterable[Path] = ()) -> Held:
    """Confine this process and all it starts from now on: it may write there, and read programs and ``readable``. Call
    it before it has threads."""
    libc = ctypes.CDLL(None, use_errno=True)
    held = Held.NOTHING
    for limit, maximum in (
        (resource.RLIMIT_AS, MOST_MEMORY),
        (resource.RLIMIT_FSIZE, MOST_WRITTEN),
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_NPROC, processes_of_user() + MORE_PROCESSES),
    ):
        _, hard = resource.getrlimit(limit)
        allowed = maximum if hard == resource.RLIM_INFINITY else min(maximum, hard)
        resource.setrlimit(limit, (allowed, allowed))
    held |= Held.MEMORY
    if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0:
        return held  # neither of the others can be had without
    held |= Held.PRIVILEGES
    version = libc.syscall(LANDLOCK_CREATE, None, 0, 1)
    if version > 0 and landlock(libc, version, list(writable), readable):
        held |= Held.FILES
        if version >= SCOPE_VERSION:
            held |= Held.SIGNALS
    if no_network(libc):
        held |= Held.NETWORK
    return held


def processes_of_user() -> int:
    """Threads and processes of this user, as the limit counts them (getrlimit(2), RLIMIT_NPROC)."""
    own, count = os.getuid(), 0
    for place in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError, ValueError):
            if place.stat().st_uid == own:
                count += int((place / "stat").read_text().rpartition(")")[2].split()[17])
    return count


def landlock(libc: ctypes.CDLL, version: int, writable: list[Path], readable: Iterable[Path] = ()) -> bool:
    rights = max((n, r) for n, r in RIGHTS_BY_VERSION.items() if n <= version)[1]
    reading = EXECUTE | READ_FILE | READ_DIR
    rule_set = struct.pack(
        "QQQ",
        rights,
        BIND_AND_CONNECT if version >= NET_VERSION else 0,
        SIGNALS_AND_SOCKETS if version >= SCOPE_VERSION else 0,
    )
    size = 24 if version >= SCOPE_VERSION else 16 if version >= NET_VERSION else 8
    rules = libc.syscall(LANDLOCK_CREATE, ctypes.c_char_p(rule_set), ctypes.c_size_t(size), 0)
    if rules < 0:
        return False
    try:
        for path in {*SYSTEM, *python_folders(), *map(str, readable)}:
            allow_beneath(libc, rules, path, reading)
        for path in DEVICES:
            allow_beneath(libc, rules, path, READ_FILE | WRITE)
        for folder in writable:
            allow_beneath(libc, rules, str(folder), rights)
        return libc.syscall(LANDLOCK_RESTRICT, rules, 0) == 0
    finally:
        os.close(rules)


def python_folders() -> set[str]:
    """Where Python, its packages and Pendel lie. The folder in which a command was given, which comes first
    where a module is run, is the user's."""
    ours = str(Path(__file__).parents[4])
    given = os.getcwd() if sys.path and sys.path[0] == os.getcwd() else None
    return {
        sys.prefix,
        sys.base_prefix,
        sys.exec_prefix,
        ours,
        *(p for p in sys.path if p and os.path.isabs(p) and p != given),
    }


def allow_beneath(libc: ctypes.CDLL, rules: int, path: str, rights: int) -> None:
    """Allow rights to a file, or to a folder and all in it; what is not there is left out."""
    try:
        handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return
    try:
        if not os.path.isdir(path):
            rights &= OF_FILES
        rule = struct.pack("=Qi", rights, handle)
        libc.syscall(LANDLOCK_ADD, rules, 1, ctypes.c_char_p(rule), 0)
    finally:
        os.close(handle)


def no_network(libc: ctypes.CDLL) -> bool:
    """Refuse the calls of `MACHINES`, with “operation not permitted”: network, other processes, what belongs to
    them and to the user's files. On a machine that is not known, none."""
    calls = MACHINES.get(platform.machine())
    if calls is None or sys.maxsize < 2**32:
        return False
    program = b"".join(struct.pack("HBBI", *each) for each in filter_of(calls))
    kept = ctypes.create_string_buffer(program, len(program))

    class Program(ctypes.Structure):
        _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))

    whole = Program(len(program) // 8, ctypes.addressof(kept))
    return libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(whole), 0, 0) == 0


LOAD, EQUAL, ABOVE, END = 0x20, 0x15, 0x35, 0x06
NUMBER, ARCHITECTURE, FIRST_ARGUMENT, SECOND_ARGUMENT = 0, 4, 16, 24
"""Places of what a filter looks at (linux/seccomp.h, struct seccomp_data); of an argument its lower half."""


def filter_of(calls: Calls) -> list[tuple[int, int, int, int]]:
    """Instructions of the filter: what to do, how many to skip where it holds and where not, and a number."""
    parent, all_of_its = os.getppid(), -os.getpgid(os.getppid()) if os.getppid() > 1 else -1
    processes = {parent & 0xFFFFFFFF, all_of_its & 0xFFFFFFFF, 0xFFFFFFFF}
    deny = "deny"
    body: list[tuple[int, int | str, int | str, int]] = [(LOAD, 0, 0, NUMBER)]
    # Numbers from 2^30 up are those of another way into the same calls.
    body += [(ABOVE, deny, 0, 0x40000000)]
    body += [(EQUAL, deny, 0, number) for number in dict.fromkeys(calls.denied)]
    for number in calls.signals:
        body += [(EQUAL, 0, 2 + len(processes), number), (LOAD, 0, 0, FIRST_ARGUMENT)]
        body += [(EQUAL, deny, 0, process) for process in sorted(processes)]
        body += [(LOAD, 0, 0, NUMBER)]
    body += [(EQUAL, 0, 3, calls.limits), (LOAD, 0, 0, FIRST_ARGUMENT), (EQUAL, 0, deny, 0), (LOAD, 0, 0, NUMBER)]
    body += [(EQUAL, 0, 2 + len(OF_TERMINALS), calls.ioctl), (LOAD, 0, 0, SECOND_ARGUMENT)]
    body += [(EQUAL, deny, 0, command) for command in OF_TERMINALS]
    body += [(LOAD, 0, 0, NUMBER)]
    length = len(body)

    def skip(wish: int | str, place: int) -> int:
        return length - place if wish == deny else int(wish)

    code = [(LOAD, 0, 0, ARCHITECTURE), (EQUAL, 1, 0, calls.audit), (END, 0, 0, ERRNO_EPERM)]
    code += [(what, skip(yes, place), skip(no, place), number) for place, (what, yes, no, number) in enumerate(body)]
    return [*code, (END, 0, 0, ALLOW), (END, 0, 0, ERRNO_EPERM)]


RUNNING = {
    "x86_64": (
        *(0, 1, 3, 5, 8, 17, 18, 19, 20, 45, 44, 47, 46, 48),  # reading and writing what is open
        *(2, 4, 6, 21, 79, 82, 83, 84, 87, 89, 217, 78, 262, 263, 264, 267, 269, 332, 439, 316, 258),  # files
        *(16, 32, 33, 72, 73, 74, 75, 77, 285, 292, 293, 326, 40, 436),
        *(9, 10, 11, 12, 25, 26, 27, 28, 324),  # memory
        *(13, 14, 15, 131, 202, 273, 274, 334, 24, 35, 230, 7, 23, 270, 271),  # threads, waiting
        *(39, 63, 97, 98, 99, 96, 100, 102, 104, 107, 108, 110, 111, 186, 201, 204, 228, 229, 309, 318, 158, 302),
        *(60, 231),
    ),
}
"""Calls that a run needs once its builds are there, by number; all others are refused. `prlimit64` passes for this
process alone, by the filter before."""
CLONE, CLONE3, OPENAT, TGKILL = 56, 435, 257, 234
CLONE_THREAD, O_PATH = 0x10000, 0x200000
THIRD_ARGUMENT = 32
ERRNO_ENOSYS, ALL_SET = 0x00050026, 0x45


def strictly(writable: Sequence[Path], readable: Sequence[Path]) -> bool:
    """Confine this process further, for good: it may write in ``writable`` alone, load what is in ``readable``, start
    no process, name no other one, and call nothing but what computing needs. On a machine without a list of these
    calls, nothing more is refused than before, and False is returned."""
    libc = ctypes.CDLL(None, use_errno=True)
    version = libc.syscall(LANDLOCK_CREATE, None, 0, 1)
    if version > 0:
        landlock(libc, version, list(writable), readable)
    running = RUNNING.get(platform.machine())
    if running is None or sys.maxsize < 2**32:
        return False
    code = strict_filter(MACHINES[platform.machine()].audit, running)
    program = b"".join(struct.pack("HBBI", *each) for each in code)
    kept = ctypes.create_string_buffer(program, len(program))

    class Program(ctypes.Structure):
        _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))

    whole = Program(len(code), ctypes.addressof(kept))
    return bool(libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(whole), 0, 0) == 0)


def strict_filter(audit: int, running: Iterable[int]) -> list[tuple[int, int, int, int]]:
    """Instructions of the filter of a runner, on x86_64."""
    own = os.getpid()
    body: list[tuple[int, int | str, int | str, int]] = [(LOAD, 0, 0, NUMBER), (ABOVE, "deny", 0, 0x40000000)]
    body += [(EQUAL, "allow", 0, number) for number in dict.fromkeys(running)]
    body += [(EQUAL, "missing", 0, CLONE3)]
    body += [(EQUAL, 0, 2, CLONE), (LOAD, 0, 0, FIRST_ARGUMENT), (ALL_SET, "allow", "deny", CLONE_THREAD)]
    body += [(EQUAL, 0, 2, OPENAT), (LOAD, 0, 0, THIRD_ARGUMENT), (ALL_SET, "deny", "allow", O_PATH)]
    body += [(EQUAL, 0, 2, TGKILL), (LOAD, 0, 0, FIRST_ARGUMENT), (EQUAL, "allow", "deny", own)]
    body += [(END, 0, 0, ERRNO_EPERM)]
    ends = {"allow": len(body), "deny": len(body) + 1, "missing": len(body) + 2}

    def skip(wish: int | str, place: int) -> int:
        return ends[wish] - place - 1 if isinstance(wish, str) else wish

    code = [(LOAD, 0, 0, ARCHITECTURE), (EQUAL, 1, 0, audit), (END, 0, 0, ERRNO_EPERM)]
    code += [(what, skip(yes, place), skip(no, place), number) for place, (what, yes, no, number) in enumerate(body)]
    return [*code, (END, 0, 0, ALLOW), (END, 0, 0, ERRNO_EPERM), (END, 0, 0, ERRNO_ENOSYS)]
