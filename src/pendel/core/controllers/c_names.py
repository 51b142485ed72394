"""The only way by which a drive's text comes into C: as an identifier, inside a comment, or as a string.

Whatever a title, a name or a docstring holds, `identifier` gives a word that C takes for a plain name, `comment`
a comment and `literal` a string that end where they are to end. Names of ours begin with ``pd_``, and no identifier
does.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

KEYWORDS = """auto break case char const continue default do double else enum extern float for goto if inline int long
register restrict return short signed sizeof static struct switch typedef union unsigned void volatile while asm
typeof bool true false nullptr constexpr thread_local alignas alignof static_assert class new delete this template
namespace operator private public protected virtual friend explicit mutable try catch throw using typename export and
or not xor"""
LIBRARY = """acos acosh asin asinh atan atan2 atanh cbrt ceil copysign cos cosh erf erfc exp exp2 expm1 fabs fdim
floor fma fmax fmin fmod frexp hypot ilogb ldexp lgamma log log10 log1p log2 logb lrint lround modf nan nearbyint
nextafter pow remainder remquo rint round scalbln scalbn sin sinh sqrt tan tanh tgamma trunc j0 j1 jn y0 y1 yn gamma
signgam isnan isinf isfinite isnormal signbit fpclassify isless isgreater isunordered main printf stdin stdout stderr
errno abs labs exit malloc free index"""
MACROS = "linux unix i386 NAN INFINITY HUGE_VAL NULL EOF BUFSIZ OVERFLOW UNDERFLOW DOMAIN SING PLOSS TLOSS"
RESERVED = frozenset(f"{KEYWORDS} {LIBRARY} {MACROS}".split())
"""Words of C and C++, functions and macros of the headers that generated code includes."""
SHORT = """real size ssize ptrdiff wchar time clock int float double div ldiv lldiv max_align off pid fpos ino mode
dev uid gid key id intptr uintptr intmax uintmax math stdint stdio stdlib string stddef limits errno"""
SIZED = {f"{sign}int{kind}{bits}" for sign in ("", "u") for kind in ("", "_least", "_fast") for bits in (8, 16, 32, 64)}
TYPES_AND_FILES = SIZED.union(SHORT.split())
"""Names that with ``_t`` behind them are types of the standard headers or ours, or with ``.h`` are such a
header."""


def identifier(text: str) -> str:
    """A plain C identifier that reads as close to ``text`` as may be."""
    letters = (c if c.isascii() and (c.isalnum() or c == "_") else _spelled(c) for c in text)
    name = re.sub(r"_{2,}", "_", "".join(letters)) or "n"
    if name[0] == "_" or name[0].isdigit() or name.startswith("pd_"):
        name = f"n{name}" if name[0] == "_" else f"n_{name}"
    return (
        f"{name}_"
        if name in RESERVED or re.fullmatch(r"U?INT\w*_(MAX|MIN|C)|M_\w+|FP_\w+|PRI\w+|SCN\w+", name)
        else name
    )


def _spelled(letter: str) -> str:
    """A letter beyond ASCII by its plain form or its name; anything else as a gap."""
    plain = unicodedata.normalize("NFKD", letter).encode("ascii", "ignore").decode()
    if plain.isalnum():
        return plain
    words = unicodedata.name(letter, "").split() if letter.isalnum() else []
    return words[-1].lower() if words and words[-1].isascii() and words[-1].isalnum() else "_"


def identifiers(texts: Iterable[str], taken: Iterable[str] = ()) -> dict[str, str]:
    """Identifiers of several texts that live side by side, each different from the others and from those
    ``taken``."""
    used = set(taken)
    names: dict[str, str] = {}
    for text in dict.fromkeys(texts):
        name = wished = identifier(text)
        number = 2
        while name in used:
            name, number = f"{wished}_{number}", number + 1
        used.add(name)
        names[text] = name
    return names


def drive_name(title: str) -> str:
    """Name of a drive's functions, types and files."""
    name = identifier(title)
    return f"{name.rstrip('_')}_drive" if name.rstrip("_") in TYPES_AND_FILES or name.rstrip("_") == "main" else name


def comment(text: str) -> str:
    """A C comment on one line; ``text`` cannot end it, and shows nothing that is not printed."""
    plain = "".join(c if c.isprintable() else " " for c in " ".join(text.split()))
    plain = re.sub(r"(?<=\*)(?=/)|(?<=/)(?=\*)", " ", plain)
    return f"/* {plain} */"


def literal(text: str) -> str:
    """A C string on one line: printed ASCII but for quotes, backslashes and question marks stands for itself,
    all else as its bytes in UTF-8."""
    plain = "".join(c if c.isprintable() else " " for c in text)
    bytes_ = plain.encode("utf-8", "replace")
    return '"' + "".join(chr(b) if 32 <= b < 127 and b not in b'"\\?' else f"\\{b:03o}" for b in bytes_) + '"'
