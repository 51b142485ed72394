"""The one tree of errors. Each is named by its situation and builds its sentence from its fields."""

from __future__ import annotations


class PendelError(Exception):
    """Root of everything Pendel raises on purpose. ``str()`` is a sentence for the user."""


class Stopped(PendelError):
    """Work was left off because it was asked to stop."""

    def __str__(self) -> str:
        return "Stopped."


class ExpressionProblem(PendelError):
    """An expression cannot be read or evaluated."""


class SyntaxProblem(ExpressionProblem):
    def __init__(self, text: str, position: int, reason: str):
        super().__init__(text, position, reason)
        self.text, self.position, self.reason = text, position, reason

    def __str__(self) -> str:
        where = f" at “{self.text[self.position : self.position + 12]}”" if self.position < len(self.text) else ""
        return f"“{shorten(self.text)}” cannot be read{where}: {self.reason}."


class UnknownName(ExpressionProblem):
    def __init__(self, name: str, close: str | None = None):
        super().__init__(name, close)
        self.name, self.close = name, close

    def __str__(self) -> str:
        hint = f"Did you mean {self.close}?" if self.close else "Add it to the quantities or write a value."
        return f"{self.name} has no value. {hint}"


class UnknownCardValue(ExpressionProblem):
    """A name of the form card.value that stands for nothing."""

    def __init__(self, name: str, reason: str):
        super().__init__(name, reason)
        self.name, self.reason = name, reason

    def __str__(self) -> str:
        return f"{self.name} has no value: {self.reason}"


class WrongDimension(ExpressionProblem):
    def __init__(self, got: str, wanted: str, what: str = "This"):
        super().__init__(got, wanted, what)
        self.got, self.wanted, self.what = got, wanted, what

    def __str__(self) -> str:
        is_what = "is a plain number" if self.got == "a plain number" else f"is in {self.got}"
        return f"{self.what} {is_what}, but {self.wanted} is needed."


class MixedTurns(ExpressionProblem):
    """Cycles and radians meet, and 2π may be in it already or not."""

    def __init__(self, text: str):
        super().__init__(text)
        self.text = text

    def __str__(self) -> str:
        text = f"“{shorten(self.text)}” takes a frequency (Hz) for a speed (rad/s, rpm), "
        text += "or the other way round. Write 2*pi*f or w/(2*pi)."
        return text


class DividesByZero(ExpressionProblem):
    def __init__(self, text: str):
        super().__init__(text)
        self.text = text

    def __str__(self) -> str:
        return f"“{shorten(self.text)}” divides by zero. Give the divisor a value other than 0."


class NotANumber(ExpressionProblem):
    def __init__(self, text: str, value: float):
        super().__init__(text, value)
        self.text, self.value = text, value

    def __str__(self) -> str:
        kind = "is not a number" if self.value != self.value else "is infinite"
        return f"“{shorten(self.text)}” {kind}. Write a finite value."


class CircularDefinition(ExpressionProblem):
    def __init__(self, names: tuple[str, ...]):
        super().__init__(names)
        self.names = names

    def __str__(self) -> str:
        chain = " → ".join((*self.names, self.names[0]))
        return f"{self.names[0]} is defined by itself: {chain}. Give one of them a plain value."


class OutOfRange(ExpressionProblem):
    def __init__(self, what: str, value: str, allowed: str):
        super().__init__(what, value, allowed)
        self.what, self.value, self.allowed = what, value, allowed

    def __str__(self) -> str:
        return f"{self.what} is {self.value}; it must be {self.allowed}."


class DriveProblem(PendelError):
    """An edit or a file asks for something the drive cannot hold."""


class FileProblem(PendelError):
    """A file cannot be read or written. The sentence says which and what to do."""

    def __init__(self, path: str, reason: str):
        super().__init__(path, reason)
        self.path, self.reason = path, reason

    def __str__(self) -> str:
        return f"{self.path}: {self.reason}"


class DriveHasFindings(PendelError):
    """The drive cannot be run or built until its faults are fixed."""

    def __init__(self, findings: list):
        super().__init__(findings)
        self.findings = findings

    def __str__(self) -> str:
        return "\n".join(str(f) for f in self.findings)


class BuildProblem(PendelError):
    """The C compiler is missing, was given up, or refused the code, which ``refused`` tells."""

    refused = False


class RunProblem(PendelError):
    """A run ended before its time for a reason in the drive; ``run`` holds what was recorded until then."""

    def __init__(self, sentence: str, run: object = None):
        super().__init__(sentence)
        self.run = run


def shorten(text: str, width: int = 60) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"
