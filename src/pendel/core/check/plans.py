"""Series and duties that name something that is not there any more."""

from __future__ import annotations

from pendel.core.check.examined import Subject
from pendel.core.check.targets import target
from pendel.core.drive.findings import attention
from pendel.core.errors import DriveProblem, SyntaxProblem
from pendel.core.quantities.tokens import tokens


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
        for text in (*plan.measures, *plan.traces):
            for card in cards_named(text):
                if card not in of.drive.cards:
                    sentence = f"Series {name}: {text} is of a card {card}, and none is called so. Leave it out."
                    of.result.findings.append(attention(sentence, field=f"plan:{name}"))


def cards_named(text: str) -> list[str]:
    """Ids before the dots of names in a figure; none of what cannot be read, which is said where it is run."""
    try:
        names = [token.text for token in tokens(text) if token.kind == "name"]
    except SyntaxProblem:
        return []
    return list(dict.fromkeys(name.partition(".")[0] for name in names if "." in name))
