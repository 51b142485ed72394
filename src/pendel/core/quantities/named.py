"""Named quantities that may refer to each other, evaluated in any order."""

from __future__ import annotations

import difflib
import keyword
import re
from collections.abc import Mapping

from pendel.core.errors import CircularDefinition, DriveProblem, UnknownName
from pendel.core.quantities.expressions import CONSTANTS, FUNCTIONS, Measured, evaluate, read
from pendel.core.quantities.units import is_unit

NAME = re.compile(r"[^\W\d²³][^\W²³]*")


def check_name(name: str, *, units_too: bool = False) -> None:
    """Raise `DriveProblem` with a sentence when ``name`` cannot name a quantity.

    ``units_too`` admits names of units, such as J, where numbers with units do not stand beside them.
    """
    if not NAME.fullmatch(name) or keyword.iskeyword(name):
        raise DriveProblem(f"“{name}” cannot be a name. Use letters, digits and _, starting with a letter.")
    if is_unit(name) and not units_too:
        raise DriveProblem(f"“{name}” is a unit. Choose another name, such as {name}_1.")
    if name in FUNCTIONS or name in CONSTANTS or name == "der":
        raise DriveProblem(f"“{name}” is a function or constant. Choose another name, such as {name}_1.")


MOST_GUESSED = 50_000
"""Names that are compared with unknown ones, in all."""


class Names:
    """Values of named expressions, each evaluated once; a problem in one does not hide the others.

    Parameters
    ----------
    texts
        expression text by name.
    """

    def __init__(self, texts: Mapping[str, str]):
        self.texts = texts
        self._values: dict[str, Measured] = {}
        self._open: list[str] = []
        self._guessed = 0

    def _near(self, name: str) -> str | None:
        """The name that may be meant; not for ever in a drive with thousands of them."""
        if self._guessed > MOST_GUESSED:
            return None
        self._guessed += len(self.texts)
        return next(iter(difflib.get_close_matches(name, self.texts, n=1)), None)

    def __call__(self, name: str) -> Measured:
        """Value of a name. Raises `UnknownName`, `CircularDefinition` or what its expression raises."""
        if name in self._values:
            return self._values[name]
        if name in self._open:
            raise CircularDefinition(tuple(self._open[self._open.index(name) :]))
        self._open.append(name)
        try:
            self._values[name] = self.worked_out(name)
        finally:
            self._open.pop()
        return self._values[name]

    def worked_out(self, name: str) -> Measured:
        """The same for the first time."""
        if name not in self.texts:
            raise UnknownName(name, self._near(name))
        text = self.texts[name]
        return evaluate(read(text), self, text)
