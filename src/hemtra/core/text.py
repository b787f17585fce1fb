"""Text that comes from outside, made fit to be kept, shown and printed anywhere."""

from __future__ import annotations

import unicodedata
from decimal import Decimal

LONGEST = 120
"""Letters of a serial or a name that are kept."""


def plain(text: str, most: int = LONGEST) -> str:
    """The text without what no file or screen can hold, and no longer than `most` letters, the last then “…”.

    Control characters become their own pictures, so that a group separator of a code stays to be seen (␝); any
    space becomes a plain one, and what no screen shows becomes �.
    """
    kept = text if text.isprintable() else "".join(map(_shown, text[: most + 1]))
    return kept if len(kept) <= most else kept[: most - 1] + "…"


def _shown(character: str) -> str:
    code = ord(character)
    if code < 0x20:
        return chr(0x2400 + code)
    if code == 0x7F:
        return "\u2421"
    if unicodedata.category(character).startswith("Z"):
        return " "
    # controls of the upper half, marks that turn text around, lone surrogates, private and empty places
    return character if character.isprintable() else "\ufffd"


def percent(share: float, digits: int = 0) -> str:
    """A share of 1 as people write it: “97.5 %”. A negative zero is a zero."""
    return f"{round(100 * share, digits) + 0.0:.{digits}f} %"


def decimal(value: float) -> str:
    """A number with all of its digits and no exponent, as `xs:decimal` of XML has it."""
    text = repr(value)
    return text if "e" not in text else format(Decimal(text), "f")
