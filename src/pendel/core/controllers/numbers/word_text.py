"""Words as texts, in decimal, hexadecimal or binary digits."""

from __future__ import annotations


def hexadecimal(word: int, bits: int) -> str:
    """A word in hexadecimal digits, two's complement."""
    return f"0x{word % 2**bits:0{bits // 4}X}"


def word_in_base(word: int, bits: int, base: str) -> str:
    """A word in one of `BASES`; two's complement where that is not decimal."""
    if base == "binary":
        return f"0b{word % 2**bits:0{bits}b}"
    return hexadecimal(word, bits) if base == "hexadecimal" else f"{word}"


def read_word(text: str, bits: int) -> int:
    """A word in decimal, hexadecimal or binary digits. Raises `ValueError` where it is none of so many
    bits."""
    text = text.partition("=")[0].strip().replace("−", "-")
    word = int(text, 0)
    if text.lower().startswith(("0x", "0b")) and 2 ** (bits - 1) <= word < 2**bits:
        word -= 2**bits
    if not -(2 ** (bits - 1)) <= word < 2 ** (bits - 1):
        raise ValueError(text)
    return word
