"""Where loops are judged."""

from __future__ import annotations

from enum import StrEnum

from pendel.core.errors import DriveProblem


class JudgedAt(StrEnum):
    """At rest, in the steady rotation in which a run ends, or by sines in runs."""

    REST = "rest"
    STEADY = "steady"
    MEASURED = "measured"

    @property
    def label(self) -> str:
        return {
            JudgedAt.REST: "judged at rest",
            JudgedAt.STEADY: "judged in steady rotation",
            JudgedAt.MEASURED: "measured in runs",
        }[self]

    @property
    def runs(self) -> bool:
        """Whether the drive has to run for it."""
        return self is not JudgedAt.REST


def judged_at(word: str | None) -> JudgedAt:
    """By its word; at rest without one. Raises `DriveProblem`."""
    try:
        return JudgedAt(word or JudgedAt.REST)
    except ValueError as problem:
        known = f"{JudgedAt.REST}, {JudgedAt.STEADY} or {JudgedAt.MEASURED}"
        raise DriveProblem(f"Loops are judged at {known}, not at “{word}”. Choose one of these.") from problem


__all__ = ["JudgedAt", "judged_at"]
