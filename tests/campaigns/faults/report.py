"""What was tried at a boundary, and what came through it that must not."""

from __future__ import annotations

import contextlib
import signal
import time
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from pendel.core.errors import PendelError

FAILED = Path(__file__).parents[3] / "build" / "faults"
"""Where failing cases are kept."""
TOO_LONG = 2.0
"""Seconds that one case may take."""


class Hang(BaseException):
    """A case took too long. No exception of its own kind, so that no boundary swallows it."""


@dataclass
class Boundary:
    """One way by which something comes in; how many cases it met, and what it let through."""

    name: str
    count: int = 0
    refused: int = 0
    failed: list[str] = field(default_factory=list)
    longest: float = 0.0
    pieces: int = 0
    """That came in with the cases, where these are of many."""

    def meet(self, case: bytes, act: Callable[[], object], patience: float = TOO_LONG) -> None:
        """Let a case come in. A sentence of ours is an answer; any other exception, or none for too long, is a
        failure."""
        self.count += 1
        begun = time.thread_time()  # of the processor: others may have it meanwhile
        try:
            with at_most(10 * patience):
                act()
        except PendelError as told:
            self.refused += 1
            if not str(told).strip():
                self.fail(case, "refused without a sentence")
        except Hang:
            self.fail(case, f"no end within {10 * patience:.0f} s")
        except Exception as foreign:  # noqa: BLE001  what is looked for
            place = traceback.extract_tb(foreign.__traceback__)[-1]
            self.fail(
                case,
                f"{type(foreign).__name__}: {str(foreign)[:80]} ({Path(place.filename).name}:{place.lineno})",
            )
        took = time.thread_time() - begun
        self.longest = max(self.longest, took)
        if took > patience:
            self.fail(case, f"took {took:.1f} s")

    def fail(self, case: bytes, sentence: str) -> None:
        self.failed.append(sentence)
        FAILED.mkdir(parents=True, exist_ok=True)
        (FAILED / f"{self.name.replace(' ', '_')}_{len(self.failed)}").write_bytes(case)


@contextlib.contextmanager
def at_most(seconds: float) -> Iterator[None]:
    """Raise `Hang` inside when it takes longer; in the main thread only."""

    def ring(*_: object) -> None:
        raise Hang

    before = signal.signal(signal.SIGALRM, ring)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def table(boundaries: list[Boundary]) -> str:
    lines = [f"{'boundary':<34}{'cases':>9}{'refused':>9}{'failed':>8}{'longest, s':>12}"]
    for b in boundaries:
        lines.append(f"{b.name:<34}{b.count:>9}{b.refused:>9}{len(b.failed):>8}{b.longest:>12.2f}")
        if b.pieces:
            lines.append(f"    in {b.pieces} frames")
        seen: dict[str, int] = {}
        for sentence in b.failed:
            seen[sentence] = seen.get(sentence, 0) + 1
        lines += [f"    {count} × {sentence}" for sentence, count in sorted(seen.items(), key=lambda s: -s[1])[:20]]
    return "\n".join(lines)
