"""C that a user typed: read into tokens here, so that nothing of it is anything but statements, and shown to
the compiler only where it was allowed.

What leaves `read_c` is a `CheckedC`, the only C of a drive's author that reaches a compiler or a shipped
file. It holds tokens of C99 (ISO/IEC 9899:1999, 6.4) in the places where they were typed and comments of ours
in place of the typed ones: no ``#`` in any spelling, no line that goes on in the next, no text in quotes, no
assembler, and brackets that match, so that the statements stay in the function they are put into. The
preprocessor finds nothing to do in it but the macros of ``math.h``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import NamedTuple

from pendel.core.controllers.c_names import RESERVED, comment
from pendel.core.controllers.deck import BlockInstance
from pendel.core.controllers.language import INTRINSICS, Update
from pendel.core.errors import BuildProblem, PendelError
from pendel.core.plant.compiler import compiler, run_compiler

COMPUTING = 10
"""Seconds of computing that looking at typed C may take."""
ERROR = re.compile(r"^own:(\d+):\d+: (?:fatal )?error: (.+)$", re.MULTILINE)
TOKEN = re.compile(
    r"""(?P<space>[ \t\n]+)
    |(?P<comment>/\*.*?\*/|//[^\n]*)
    |(?P<name>[A-Za-z_][A-Za-z0-9_]*)
    |(?P<number>\.?[0-9](?:[eEpP][+-]|[A-Za-z0-9_.])*)
    |(?P<sign>\.\.\.|<<=|>>=|->|\+\+|--|<<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^=]=|[][(){}.,;:?~!<>=+\-*/%&|^])""",
    re.VERBOSE | re.DOTALL,
)
DIGRAPH = re.compile(r"%:|<:|:>|<%|%>|\?\?")
"""Other spellings of #, brackets and braces."""
REFUSED = frozenset(
    [
        "asm",
        "__asm",
        "__asm__",
        "_Pragma",
        "__attribute__",
        "__attribute",
        "__extension__",
        "__builtin_va_arg",
    ]
)
CLOSES = {")": "(", "]": "[", "}": "{"}
LONGEST, DEEPEST = 200_000, 100
"""Letters, and brackets within brackets."""


class CheckedC(str):
    """Statements in C that `read_c` has read."""

    __slots__ = ()


class CProblem(PendelError):
    """Typed C that is none, at a line counted from 0."""

    def __init__(self, line: int, reason: str):
        super().__init__(line, reason)
        self.line, self.reason = line, reason

    def __str__(self) -> str:
        return self.reason


def read_c(lines: Sequence[str]) -> CheckedC:
    """Typed lines as statements.

    Raises
    ------
    CProblem
        where something is no token of C, or may not stand here.
    """
    text = "\n".join(lines)
    if len(text) > LONGEST:
        raise CProblem(0, f"The update has {len(text)} letters; it may have {LONGEST}. Shorten it")
    if digraph := DIGRAPH.search(text):
        raise CProblem(
            text.count("\n", 0, digraph.start()),
            f"“{digraph[0]}” cannot be used here. Write #, brackets and braces as what they are",
        )
    parts, at, line = [], 0, 0
    opened: list[tuple[str, int]] = []
    while at < len(text):
        token = TOKEN.match(text, at)
        if token is None or (token["sign"] and text.startswith("/*", at)):
            raise CProblem(line, why_no_token(text, at))
        word, at = token[0], token.end()
        if token["comment"]:
            if "\\" in word:
                raise CProblem(line, "A backslash cannot be used here. Delete it")
            parts.append(" " + comment(word.strip("/*")) + "\n" * word.count("\n"))
        else:
            parts.append(word)
        if word in REFUSED:
            raise CProblem(line, f"“{word}” cannot be used here. Write statements of C99")
        if word in CLOSES.values():
            opened.append((word, line))
            if len(opened) > DEEPEST:
                raise CProblem(line, f"Brackets lie more than {DEEPEST} deep. Part the statement")
        elif word in CLOSES and (not opened or opened.pop()[0] != CLOSES[word]):
            raise CProblem(line, f"“{word}” closes nothing. Braces and brackets must match")
        line += word.count("\n")
    if opened:
        raise CProblem(opened[-1][1], f"“{opened[-1][0]}” is never closed. Braces and brackets must match")
    return CheckedC("".join(parts))


def why_no_token(text: str, at: int) -> str:
    letter = text[at]
    if letter == "#":
        return "Lines for the preprocessor are not possible here. math.h is there already"
    if letter in "\"'":
        return "Texts and characters in quotes are not possible here. Write numbers"
    if letter == "\\":
        return "A backslash cannot be used here. Delete it"
    if text.startswith("/*", at):
        return "This comment is never closed. End it with */"
    shown = letter if letter.isprintable() else f"the character {ord(letter)}"
    return f"“{shown}” is no sign of C. Delete it"


def holds_c(blocks: Iterable[BlockInstance]) -> bool:
    """Whether a deck contains C that was typed, which runs on this computer with the user's rights."""
    return any(block.code.verbatim for block in blocks)


def c_problem(update: Update, ports: Sequence[str], values: Sequence[str]) -> CWrong | None:
    """The first error in a typed update, its conversion of values, or its update in words; none when there is
    none or the compiler cannot be asked. Nothing is run."""
    numbers = [a for a in update.arguments if a in values or a == "dt"]
    remembered = [a for a in update.arguments if a not in (*ports, *numbers)]
    steps = "".join(f"    const int {p}_q = 1;\n    (void){p}_q;\n" for p in ports)
    in_words = steps + declared("wide_t", [*(p for p in ports if p in update.arguments), *remembered])
    converting = steps + declared("wide_t", remembered) + declared("real_t", numbers)
    wrong = compiled_wrong("equations", update.verbatim, declared("real_t", update.arguments))
    if wrong is None and update.convert:
        wrong = compiled_wrong("convert", update.convert, converting)
    if wrong is None and update.words:
        wrong = compiled_wrong("words", update.words, in_words)
    return wrong


class CWrong(NamedTuple):
    """An error of the compiler: the section, the line in it from 0, and what the compiler says."""

    section: str
    line: int
    reason: str


def declared(kind: str, names: Iterable[str]) -> str:
    return "".join(f"    {kind} {n} = 0;\n    (void){n};\n" for n in names)


@lru_cache(maxsize=100)
def compiled_wrong(section: str, typed: str, names: str) -> CWrong | None:
    """The first error in typed statements between names that are ours."""
    ours = "".join(f"real_t {name}();\n" for name in INTRINSICS if name not in RESERVED) + "wide_t moved();\n"
    kinds = "typedef float real_t;\ntypedef int32_t word_t;\ntypedef int64_t wide_t;\n"
    text = f"#include <math.h>\n#include <stdint.h>\n{kinds}{ours}void own(void);\nvoid own(void)\n"
    text += f'{{\n{names}    {{\n#line 1 "own"\n{typed}\n#line 1 "after"\n    }}\n}}\n'
    try:
        run_compiler(
            [
                *compiler(),
                "-std=c99",
                "-Werror=implicit-function-declaration",  # else it builds and cannot be loaded
                "-fsyntax-only",
                "-fno-diagnostics-color",
                "-x",
                "c",
                "-",
            ],
            text,
            COMPUTING,
        )
    except BuildProblem as problem:
        output = str(problem)
        if not problem.refused:
            return None
        error = ERROR.search(output)
        if error is None:
            return CWrong(section, typed.count("\n"), "the compiler cannot read it to its end")
        reason = error[2].replace("‘", "“").replace("’", "”").replace("'", "")
        return CWrong(section, int(error[1]) - 1, re.sub(r" \[-W[^]]*\]$", "", reason))
    return None
