"""Records for a script: lots, and values as a frame."""

from __future__ import annotations

import importlib
from types import TracebackType
from typing import Any, Literal, Self

from hemtra.core.errors import HemtraError
from hemtra.storage.exports.iteration import Walk
from hemtra.storage.exports.long import COLUMNS, columns_of
from hemtra.storage.records.store import Lot, Records


class RecordsReader:
    """Reads a database of records and never writes to it; also a context manager that closes it."""

    def __init__(self, url: str) -> None:
        """url: a database address, or the path of a SQLite file. Raises `FileError` where there are none."""
        self._records = Records(url if "://" in url else f"sqlite:///{url}", create=False)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the database."""
        self._records.close()

    @property
    def lots(self) -> tuple[str, ...]:
        """Names of the lots, newest first."""
        return tuple(lot.name for lot in self._records.all_lots())

    def values(self, *lots: str, frame: Literal["pandas", "polars"] = "pandas") -> Any:
        """All values of some lots, or of all, oldest first: a frame with one row a value.

        Columns as in the export of values: lot, number, serial, scanned, part_verdict, balloon, name, value,
        text, unit, nominal, lower, upper, deviation, u, verdict, reason. Raises `HemtraError` for a lot that is
        not there, or without the package of the frame.
        """
        library = _library(frame)
        chosen = [self._lot(name) for name in lots] or self._records.all_lots()
        with self._records.reading() as db:
            walk = Walk.of(db, chosen, lambda done, of, what: True)
            held: dict[str, list[Any]] = {name: [] for name in COLUMNS}
            for chunk in walk.chunks():
                for name, values in columns_of(chunk, walk).items():
                    held[name] += values
        return library.DataFrame(held)

    def _lot(self, name: str) -> Lot:
        found = next((lot for lot in self._records.all_lots() if lot.name == name), None)
        if found is None:
            raise HemtraError(f"There is no lot “{name}”; `lots` names those there are.")
        return found


def _library(frame: str) -> Any:
    if frame not in ("pandas", "polars"):
        raise HemtraError(f"“{frame}” is no frame; take pandas or polars.")
    try:
        return importlib.import_module(frame)
    except ImportError:
        raise HemtraError(f"A frame needs the package {frame}: pip install {frame}.") from None
