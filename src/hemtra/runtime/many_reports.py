"""Reports of many lots, one file each, made by a crew."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.progress import Progress
from hemtra.core.units import MM, LengthUnit
from hemtra.runtime.crews import Crew, Lost
from hemtra.runtime.reporting import report_lot
from hemtra.runtime.scan_store import folder_of
from hemtra.storage.files import make_folder, write_bytes
from hemtra.storage.records import Records
from hemtra.storage.records.store import Lot


@dataclass(frozen=True)
class Reported:
    """The report of a lot as a PDF, or the reason why there is none."""

    pdf: bytes
    trouble: str = ""


@dataclass(frozen=True)
class Reporting:
    """Reports a lot of the records at an address, with lengths in a unit."""

    db: str
    unit: LengthUnit = MM

    def __call__(self, lot: Lot) -> Reported:
        """The file as bytes: only whoever asked for it writes where reports are wanted."""
        try:
            records = Records(self.db, create=False)
            try:
                with tempfile.TemporaryDirectory() as folder:
                    path = Path(folder) / "lot.pdf"
                    report_lot(records, lot, path, unit=self.unit)
                    return Reported(path.read_bytes())
            finally:
                records.close()
        except HemtraError as error:
            return Reported(b"", str(error))


def report_lots(
    reporting: Reporting, lots: Sequence[Lot], folder: Path, crew: Crew, progress: Progress
) -> Iterator[tuple[Lot, str]]:
    """Report lots into a folder, a file each, in the order given; yields what went wrong, “” where nothing did.

    Ends early when `progress` asks to stop. Raises `FileError` where the folder cannot be written.
    """
    make_folder(folder)
    with closing(crew.map(reporting, lots)) as coming:
        for done, lot in enumerate(lots):
            if not progress(done, len(lots), f"lot {lot.name}"):
                return
            found = next(coming)
            trouble = found.reason if isinstance(found, Lost) else found.trouble
            if isinstance(found, Reported) and not trouble:
                write_bytes(folder / f"{folder_of(lot)}.pdf", found.pdf)
            yield lot, trouble
