"""Entry of the Station workspace: its tab, its document, and its actions."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property, partial
from typing import ClassVar

from hemtra.core.station.station import Station
from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.workspace import Workspace
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.models.versioned import Versioned
from hemtra.desktop.station.workspace import StationWorkspace
from hemtra.desktop.widgets import theme
from hemtra.virtual.demo import DOOR_STATION

GUIDED = (
    ("encoder", "Measure the encoder resolution", "Over a known travel."),
    ("exposure", "Set the exposure", "Until the part is bright enough."),
    ("level", "Level the sensor", "Corrects the mounting tilt."),
    ("align", "Align the sensors", "All of them in one frame, by a target."),
    ("correct", "Correct the scales", "By known heights and diameters."),
)
"""The guided tasks: name, title and help."""


class StationEntry(Workspace):
    """Workspace in which a station is set up."""

    name: ClassVar = "station"
    order: ClassVar = 1
    keys: ClassVar = "Alt+1"
    help: ClassVar = "The station as a drawing, with its scan budget."
    manual: ClassVar = "station.md"
    edits: ClassVar = True

    @cached_property
    def page(self) -> StationWorkspace:
        """Drawing, fields and tasks; made when they are first shown, which most sessions never do."""
        session = self.session
        with theme.undressed():
            page = StationWorkspace(session.station_bench, session.notifications, session.tasks)
        page.scanned.connect(self._take_trial)
        page.reference_requested.connect(partial(session.trigger, "tray.reference"))
        return page

    @property
    def is_made(self) -> bool:
        """Whether it was shown."""
        return "page" in vars(self)

    @property
    def document(self) -> Versioned[Station]:
        """The station."""
        return self.session.station_bench.document

    @property
    def open_name(self) -> str:
        """The station's."""
        return self.document.value.name

    def actions(self) -> Iterable[Action]:
        """Files, trial scans, guided tasks."""
        session, stations = self.session, self.session.stations
        group = "Station"
        yield Action("station.open", "Open station…", group, self._ask_open, help="A .hstation file.")
        yield Action("station.save", "Save station", group, stations.save)
        yield Action(
            "station.save-as", "Save station as…", group, lambda: stations.ask_save(session.plans.folder)
        )
        yield Action(
            "station.trial", "Scan a trial part", group, self._scan_trial, help="Its scan goes to the tray."
        )
        for name, title, text in GUIDED:
            yield Action(f"station.{name}", title, group, partial(self._begin, name), help=text)
        yield Action(
            "station.two",
            "Open the demo with two sensors",
            group,
            self._open_two_sensors,
            help="Side by side, not aligned yet.",
        )
        yield Action(
            "station.reference",
            "Keep this profile as the reference",
            group,
            lambda: self.page.keep_reference(),
            lambda: session.station_bench.live is not None,
            help="Drawn dimmed behind.",
        )

    def stop(self) -> None:
        """End what runs beside it."""
        if "page" in vars(self):
            self.page.stop()

    def _take_trial(self, part: TrayPart) -> None:
        self.session.plans.take_parts([part])
        self.session.bench.tray.select(len(self.session.bench.tray.parts) - 1)

    def _ask_open(self) -> None:
        self.session.show(self.name)
        self.session.stations.ask_open(self.session.plans.folder)

    def _scan_trial(self) -> None:
        self.session.show(self.name)
        self.page.scan_trial()

    def _begin(self, task: str) -> None:
        self.session.show(self.name)
        self.page.begin(task)

    def _open_two_sensors(self) -> None:
        self.session.unsaved.set_aside()
        self.document.start_over(DOOR_STATION, None, DOOR_STATION)
        self.session.show(self.name)


WORKSPACE = StationEntry
