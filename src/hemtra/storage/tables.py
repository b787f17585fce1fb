"""Tables as text (RFC 4180) that a spreadsheet opens as what they are."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import IO, Any, Self

RISKY = frozenset("=+-@\t\r")
"""First characters of a cell that a spreadsheet would evaluate instead of showing it."""
NUMBER = re.compile(r"[+-]?\d+(\.\d*)?([eE][+-]?\d+)?\Z")


@dataclass(frozen=True)
class TableStyle:
    """Style of a table. bom: whether it begins with the mark that identifies UTF-8 to spreadsheets."""

    title: str
    separator: str = ","
    decimal: str = "."
    line_end: str = "\n"
    bom: bool = False


PLAIN = TableStyle("plain: 1.25, commas")
STYLES = {
    "plain": PLAIN,
    "rfc4180": TableStyle("RFC 4180: 1.25, commas, CRLF", line_end="\r\n"),
    "bom": TableStyle("spreadsheet: 1.25, commas, CRLF, BOM", line_end="\r\n", bom=True),
    "comma": TableStyle("spreadsheet: 1,25, semicolons, CRLF, BOM", ";", ",", "\r\n", bom=True),
}
"""Styles by name."""


class Table:
    """Rows of a table, written to a stream of text."""

    def __init__(self, stream: IO[str], style: TableStyle = PLAIN, *, quote_text: bool = False) -> None:
        """quote_text: all text is quoted and no number is, so that a serial of digits is no number."""
        self._style = style
        if style.bom:
            stream.write("\ufeff")
        self._writer = csv.writer(
            stream,
            delimiter=style.separator,
            lineterminator=style.line_end,
            quoting=csv.QUOTE_NONNUMERIC if quote_text else csv.QUOTE_MINIMAL,
        )

    def writerow(self, cells: Iterable[Any]) -> None:
        """Write a row; text that looks like a formula gets an apostrophe before it."""
        self._writer.writerow([self._shown(cell) for cell in cells])

    def _shown(self, cell: Any) -> Any:
        if isinstance(cell, str):
            return harmless(cell)
        if isinstance(cell, float) and self._style.decimal != ".":
            return _Written(repr(cell).replace(".", self._style.decimal))
        return cell

    def writerows(self, rows: Iterable[Iterable[Any]]) -> None:
        """Several."""
        for row in rows:
            self.writerow(row)


class _Written(float):
    """A number that is written with another decimal sign; as a text it would be quoted."""

    def __new__(cls, text: str) -> Self:
        return super().__new__(cls)

    def __init__(self, text: str) -> None:
        self._text = text

    def __repr__(self) -> str:
        return self._text

    __str__ = __repr__


def harmless(text: str) -> str:
    """A cell that no spreadsheet works out: numbers and other text stay as they are."""
    return f"'{text}" if text[:1] in RISKY and not NUMBER.match(text) else text
