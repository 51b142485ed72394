"""What can go wrong between Pendel and a board."""

from __future__ import annotations

from pendel.core.errors import PendelError
from pendel.core.quantities.units import figure


class BenchProblem(PendelError):
    """Root of all that happens on the bench."""


class DoorClosed(BenchProblem):
    """An address cannot be had."""

    def __init__(self, address: str, reason: str):
        super().__init__(address, reason)
        self.address, self.reason = address, reason

    def __str__(self) -> str:
        return f"The board cannot be reached at {self.address}: {self.reason}. Choose another port."


class NoLink(BenchProblem):
    """A link cannot be opened."""

    def __init__(self, address: str, reason: str):
        super().__init__(address, reason)
        self.address, self.reason = address, reason

    def __str__(self) -> str:
        return f"{self.address} cannot be opened: {self.reason}. Check the address, and that the board is on."


class LinkLost(BenchProblem):
    def __init__(self, address: str, reason: str = ""):
        super().__init__(address, reason)
        self.address, self.reason = address, reason

    def __str__(self) -> str:
        why = f": {self.reason}" if self.reason else ""
        return f"The link to {self.address} was lost{why}. Connect again."


class NoAnswer(BenchProblem):
    def __init__(self, what: str, seconds: float):
        super().__init__(what, seconds)
        self.what, self.seconds = what, seconds

    def __str__(self) -> str:
        return (
            f"The board did not answer to “{self.what}” within {self.seconds:g} s. Check that it runs, and "
            f"speed "
            "and identifiers of the link."
        )


class Nonsense(BenchProblem):
    """An answer that is none."""

    def __init__(self, what: str, answer: bytes):
        super().__init__(what, answer)
        self.what, self.answer = what, answer

    def __str__(self) -> str:
        shown = self.answer[:16].hex(" ") or "nothing"
        return (
            f"The board answered “{self.what}” with {shown}, which is no answer to it. Check that it speaks "
            f"XCP on "
            "this link."
        )


REFUSALS = {
    0x00: "it lost step with the commands",
    0x10: "it is busy",
    0x11: "it is measuring",
    0x12: "it is being programmed",
    0x20: "it does not know this command",
    0x21: "the command is not as it should be",
    0x22: "a number is out of range",
    0x23: "that place cannot be written",
    0x24: "that place cannot be reached, or the power stage is enabled",
    0x25: "it is locked",
    0x29: "this does not come next",
    0x2A: "the list of samples cannot be made so",
    0x30: "it has no room for this",
    0x31: "it cannot do this now",
    0x32: "what was loaded is not what arrived",
}


class Refused(BenchProblem):
    """The board answered with an error of the standard."""

    def __init__(self, what: str, code: int):
        super().__init__(what, code)
        self.what, self.code = what, code

    def __str__(self) -> str:
        why = REFUSALS.get(self.code, "it gives no reason that is known")
        return f"The board refused “{self.what}”: {why} (code {self.code:#04x})."


class OtherCode(BenchProblem):
    """The code on the board was not made from this drive as it is."""

    def __init__(self, on_board: int, here: int):
        super().__init__(on_board, here)
        self.on_board, self.here = on_board, here

    def __str__(self) -> str:
        if not self.on_board:
            return "The board is empty. Build and load the controller first."
        return (
            f"The code on the board (checksum {self.on_board:08x}) was not made from this drive as it is now "
            f"({self.here:08x}), so nothing is written to it. Build and load, or undo what was changed."
        )


class StillEnabled(BenchProblem):
    def __str__(self) -> str:
        return "The power stage is enabled, so nothing is loaded. Set it idle first: Set idle and load does both."


class NotConnected(BenchProblem):
    def __str__(self) -> str:
        return "No board is connected. Choose a link and connect first."


class TooMuch(BenchProblem):
    """More channels than the board can sample."""

    def __init__(self, channels: int, reason: str):
        super().__init__(channels, reason)
        self.channels, self.reason = channels, reason

    def __str__(self) -> str:
        return f"The board cannot sample {self.channels} channels at once: {self.reason}. Choose fewer."


class NoBoardAddress(BenchProblem):
    """A text that names no place of a board."""

    def __init__(self, text: str, reason: str):
        super().__init__(text, reason)
        self.text, self.reason = text, reason

    def __str__(self) -> str:
        return f"“{self.text}” is no place on the board: {self.reason}. Write it like 0:0x24 int16."


class BeyondEnds(BenchProblem):
    """A value that is outside what it can be live between."""

    def __init__(self, what: str, value: float, low: float, high: float, unit: str):
        super().__init__(what, value, low, high, unit)
        self.what, self.value, self.low, self.high, self.unit = what, value, low, high, unit

    def __str__(self) -> str:
        ends = f"{figure(self.low, self.unit)} to {figure(self.high, self.unit)}"
        return (
            f"{self.what} cannot become {figure(self.value, self.unit)}: on the board it goes from {ends}. "
            f"Write a "
            "value between, or give it other ends on the page Firmware and load again."
        )
