"""Small things about words that many rooms say."""

from __future__ import annotations


def sentence_case(text: str) -> str:
    """The text with a capital first letter; names such as DC and EMF within it stay as they are.

    >>> sentence_case("current of the DC link")
    'Current of the DC link'
    """
    return text[:1].upper() + text[1:]
