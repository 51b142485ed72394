"""What a process that runs compiled code may touch, as far as the kernel can see to it.

Files by Landlock (Linux, Documentation/userspace-api/landlock.rst), network and prying by a seccomp filter
(Documentation/userspace-api/seccomp_filter.rst), memory and sizes of files by limits. Where the kernel has
none of it, the process runs all the same, and says so. Nothing here can be taken back by the process it holds
for, or by those it starts."""

from __future__ import annotations

import ctypes
import os
import platform
import resource
import struct
import sys
from collections.abc import Iterable
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

DENIED = {
    "x86_64": (
        0xC000003E,
        (
            41,
            42,
            43,
            49,
            50,
            101,
            155,
            161,
            165,
            166,
            167,
            175,
            246,
            248,
            249,
            250,
            272,
            288,
            298,
            304,
            308,
            310,
            311,
            313,
            320,
            321,
            323,
            425,
            426,
            427,
            428,
            429,
            430,
            431,
            432,
            438,
        ),
    ),
    "aarch64": (
        0xC00000B7,
        (
            198,
            200,
            201,
            202,
            203,
            242,
            39,
            40,
            41,
            51,
            97,
            104,
            105,
            106,
            117,
            217,
            218,
            219,
            241,
            242,
            265,
            268,
            270,
            271,
            273,
            280,
            282,
            294,
            425,
            426,
            427,
            428,
            429,
            430,
            431,
            432,
            438,
        ),
    ),
}
"""Of a machine: its audit number (linux/audit.h) and the numbers of calls it is refused (asm/unistd_64.h,
asm-generic/unistd.h): socket and what goes with it, ptrace and reading other processes, mounts, name spaces,
modules, kexec, keys, bpf, perf, userfaultfd, io_uring."""
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


def confine(writable: Iterable[Path]) -> Held:
    """Confine this process and all it starts from now on. Call it before it has threads."""
    libc = ctypes.CDLL(None, use_errno=True)
    held = Held.NOTHING
    for limit, maximum in (
        (resource.RLIMIT_AS, MOST_MEMORY),
        (resource.RLIMIT_FSIZE, MOST_WRITTEN),
        (resource.RLIMIT_CORE, 0),
    ):
        _, hard = resource.getrlimit(limit)
        allowed = maximum if hard == resource.RLIM_INFINITY else min(maximum, hard)
        resource.setrlimit(limit, (allowed, allowed))
    held |= Held.MEMORY
    if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) != 0:
        return held  # neither of the others can be had without
    held |= Held.PRIVILEGES
    version = libc.syscall(LANDLOCK_CREATE, None, 0, 1)
    if version > 0 and landlock(libc, version, list(writable)):
        held |= Held.FILES
        if version >= SCOPE_VERSION:
            held |= Held.SIGNALS
    if no_network(libc):
        held |= Held.NETWORK
    return held


def landlock(libc: ctypes.CDLL, version: int, writable: list[Path]) -> bool:
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
        for path in {*SYSTEM, *python_folders()}:
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
    ours = str(Path(__file__).parents[3])
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
    """Refuse the system calls of `DENIED`, with “operation not permitted”; on a machine that is not known,
    none."""
    audited = DENIED.get(platform.machine())
    if audited is None or sys.maxsize < 2**32:
        return False
    audit, calls = audited
    calls = tuple(dict.fromkeys(calls))
    load, equal, above, end = 0x20, 0x15, 0x35, 0x06
    code = [(load, 0, 0, 4), (equal, 1, 0, audit), (end, 0, 0, ERRNO_EPERM), (load, 0, 0, 0)]
    # Numbers from 2^30 up are those of another way into the same calls.
    code += [(above, len(calls) + 1, 0, 0x40000000)]
    code += [(equal, len(calls) - k, 0, number) for k, number in enumerate(calls)]
    code += [(end, 0, 0, ALLOW), (end, 0, 0, ERRNO_EPERM)]
    program = b"".join(struct.pack("HBBI", *each) for each in code)
    kept = ctypes.create_string_buffer(program, len(program))

    class Program(ctypes.Structure):
        _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))

    whole = Program(len(code), ctypes.addressof(kept))
    return libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(whole), 0, 0) == 0
