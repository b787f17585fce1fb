"""Tables as text (RFC 4180) that a spreadsheet opens as what they are."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable
from typing import IO, Any

RISKY = frozenset("=+-@\t\r")
"""What a cell begins with that a spreadsheet would work out instead of showing it."""
NUMBER = re.compile(r"[+-]?\d+(\.\d*)?([eE][+-]?\d+)?\Z")


class Table:
    """Rows of a table, written to a stream of text."""

    def __init__(self, stream: IO[str]) -> None:
        self._writer = csv.writer(stream, lineterminator="\n")

    def writerow(self, cells: Iterable[Any]) -> None:
        """One row; text that would be taken for a formula gets an apostrophe before it."""
        self._writer.writerow([harmless(cell) if isinstance(cell, str) else cell for cell in cells])

    def writerows(self, rows: Iterable[Iterable[Any]]) -> None:
        """Several."""
        for row in rows:
            self.writerow(row)


def harmless(text: str) -> str:
    """A cell that no spreadsheet works out: numbers and other text stay as they are."""
    return f"'{text}" if text[:1] in RISKY and not NUMBER.match(text) else text
