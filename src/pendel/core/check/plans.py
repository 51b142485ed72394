"""Series and duties that name something that is not there any more."""

from __future__ import annotations

from pendel.core.check.examined import Subject
from pendel.core.check.targets import target
from pendel.core.drive.findings import attention
from pendel.core.errors import DriveProblem


def plans(of: Subject) -> None:
    """Runs go on without it, so nothing of this stops one."""
    for name, duty in of.drive.duties.items():
        for each in duty.targets:
            try:
                target(of.drive, each)
            except DriveProblem as problem:
                of.result.findings.append(attention(f"Duty {name}: {problem}", field=f"duty:{name}"))
    for name, plan in of.drive.plans.items():
        for varied in plan.varied:
            try:
                target(of.drive, varied.target)
            except DriveProblem as problem:
                of.result.findings.append(attention(f"Series {name}: {problem}", field=f"plan:{name}"))
