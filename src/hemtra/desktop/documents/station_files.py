"""Opening and saving stations beside the window."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from hemtra.core.station.station import Station
from hemtra.desktop.background.tasks import Tasks
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.versioned import Versioned
from hemtra.storage.settings import files_begin_at
from hemtra.storage.stations import load_station, save_station

KIND = "Stations (*.hstation)"


class StationFiles:
    """Stations on disk and the document they come to."""

    def __init__(self, document: Versioned[Station], tasks: Tasks, parent: QWidget) -> None:
        self.leaving = Signal()
        """The station that is open now is about to be left behind."""
        self._document, self._tasks, self._parent = document, tasks, parent

    def open(self, path: Path) -> None:
        """Read a station."""

        def done(station: Station) -> None:
            self.leaving.emit()
            self._document.start_over(station, path, station)

        self._tasks.start(f"Opening {path.name}", lambda task: load_station(path), done)

    def save(self, path: Path | None = None) -> None:
        """Write the station where it lies, or to a path; ask when there is none."""
        target = path or self._document.path
        if target is None:
            self.ask_save(files_begin_at())
            return
        station = self._document.value
        self._tasks.start(
            f"Saving {target.name}",
            lambda task: save_station(station, target),
            lambda _: self._document.mark_saved(station, target),
        )

    def ask_open(self, folder: Path) -> None:
        """Ask which station to open."""
        name, _ = QFileDialog.getOpenFileName(self._parent, "Open station", str(folder), KIND)
        if name:
            self.open(Path(name))

    def ask_save(self, folder: Path) -> None:
        """Ask where to save."""
        proposed = folder / f"{self._document.value.name.replace(' ', '-')}.hstation"
        name, _ = QFileDialog.getSaveFileName(self._parent, "Save station", str(proposed), KIND)
        if name:
            self.save(Path(name).with_suffix(".hstation"))
