"""A run of trial parts through acquisition, beside the window."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from hemtra.core.maps.heightmap import Profile
from hemtra.core.maps.scan import Scan
from hemtra.core.station.assembler import Acquired, Assembler, Batch, Growing, Outcome
from hemtra.core.station.findings import Expected, Finding, findings, speed_findings
from hemtra.core.station.mount import calibrated
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.station import Station
from hemtra.core.station.trigger import Ignored
from hemtra.desktop.background.tasks import Task
from hemtra.desktop.models.station_bench import Trial
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.widgets import units
from hemtra.runtime.acquisition import Acquisition
from hemtra.runtime.sources import PassingParts, source_of
from hemtra.storage.files import make_folder
from hemtra.storage.scans import save_scan
from hemtra.virtual.line import Mishap
from hemtra.virtual.on_belt import OnBelt

LOOK_SECONDS = 0.05


@dataclass(frozen=True)
class TrialRequest:
    """Set-up of a trial: the number of parts, the first number, and the fault simulated."""

    station: Station
    on_belt: OnBelt
    first: int
    count: int
    defect: str
    mishap: Mishap
    folder: Path
    sensor: int = 0


@dataclass(frozen=True)
class Passing:
    """Live data of the chosen sensor while the line runs."""

    profile: Profile


@dataclass
class TrialRun:
    """A run; `trigger` and `stop` may be called from another thread."""

    request: TrialRequest
    _by_hand: threading.Event = field(default_factory=threading.Event)
    _acquisition: Acquisition | None = None
    _scans: int = 0
    _ignored: list[str] = field(default_factory=list)
    _error: BaseException | None = None
    _task: Task | None = None
    _found: dict[str, Finding] = field(default_factory=dict)
    _speeds: list[float] = field(default_factory=list)
    """mm/s of each batch, by the station's own resolution and the profiles' times."""

    def trigger(self) -> None:
        """A hand triggers."""
        self._by_hand.set()

    def work(self, task: Task) -> tuple[Finding, ...]:
        """Let the parts pass; produces `Trial`, `Passing` and `TrayPart`; answers with the summary of the lot.

        Raises what ended the run before its end.
        """
        request, self._task = self.request, task
        parts = [request.on_belt.part(100 + request.first + k, request.defect) for k in range(request.count)]
        line = source_of(request.station, PassingParts(parts, request.first, request.mishap), self._hand)
        assembler = Assembler.of(request.station, models_of(request.station))
        acquisition = Acquisition(line, assembler, self._on_outcome, self._failed, self._watch)
        acquisition.start()
        while not acquisition.wait(LOOK_SECONDS):
            if not task.report(self._scans, request.count, f"{self._scans} of {request.count} scans"):
                acquisition.stop()
        if self._error is not None:
            raise self._error
        return self._summary()

    def _hand(self) -> bool:
        if self._by_hand.is_set():
            self._by_hand.clear()
            return True
        return False

    def _failed(self, error: BaseException) -> None:
        self._error = error

    def _watch(self, batch: Batch, growing: Growing | None) -> None:
        assert self._task is not None
        request = self.request
        seen = batch.sensors[request.sensor]
        mount = request.station.sensors[request.sensor]
        if len(batch) > 1 and batch.times[-1] > batch.times[0]:
            places = abs(int(batch.places[-1]) - int(batch.places[0]))
            taken = float(batch.times[-1] - batch.times[0])
            self._speeds.append(places * request.station.travel.spacing / taken)
        self._task.produce(Passing(calibrated(mount, seen.x[-1], seen.z[-1], seen.intensity[-1])))
        if growing is not None:
            of = f" of {growing.of}" if growing.of else ""
            more = f", {growing.waiting} waiting" if growing.waiting else ""
            message = f"scan {growing.number}: {growing.taken}{of} profiles{more}"
            self._task.produce(Trial(growing.data, growing.taken, growing.of, growing.missed, message=message))

    def _on_outcome(self, outcome: Outcome) -> None:
        assert self._task is not None
        if isinstance(outcome, Ignored):
            self._ignored.append(outcome.reason)
            return
        self._scans += 1
        request, number = self.request, self.request.first + self._scans - 1
        name = f"trial-{number:02d}.x3p"
        scan = Scan(outcome.data, name, f"{100 + number:06d}", "", request.station.snapshot())
        make_folder(request.folder)
        save_scan(scan, request.folder / name)
        rows = outcome.data.shape[0]
        self._task.produce(
            Trial(outcome.data, rows, rows, outcome.missed, done=True, message=_trial_text(number, outcome))
        )
        whole = outcome.how == "complete" and not outcome.missed
        found = self._looked_at(outcome) if whole else speed_findings(self._expected())
        for finding in found:
            self._found.setdefault(finding.remedy or finding.text, finding)
        # what the station itself got wrong is no example of a good part
        tag = "bad" if request.defect else ("good" if whole and not found else "unknown")
        self._task.produce(TrayPart(scan, request.folder / name, tag))

    def _looked_at(self, outcome: Acquired) -> tuple[Finding, ...]:
        """Findings of a whole scan about the station."""
        station = self.request.station
        order = sorted(range(len(outcome.layers)), key=lambda k: station.sensors[k].x)
        return findings(outcome.data, [outcome.layers[k] for k in order], station.belt, self._expected())

    def _expected(self) -> Expected:
        """Known facts of the parts and the line, as it runs now."""
        travel, on_belt = self.request.station.travel, self.request.on_belt
        return Expected(
            on_belt.length,
            on_belt.width,
            symmetric=True,
            speed=travel.speed,
            seen_speed=float(np.median(self._speeds)) if self._speeds else None,
            by_clock=travel.clock == "internal",
        )

    def _summary(self) -> tuple[Finding, ...]:
        """Unexpected events."""
        count, ignored = self.request.count, self._ignored
        if ignored:
            worst = max(set(ignored), key=ignored.count)
            return (Finding(f"{len(ignored)} of the triggers made no scan: {worst}."),)
        if self._scans == 0:
            text = "No scan triggered. Check the trigger and the part position."
            return (Finding(text),)
        if self._scans < count and self.request.station.trigger.by in ("eye", "height"):
            return (Finding(f"{count} parts transported, {self._scans} scans recorded."),)
        return tuple(self._found.values())


def _trial_text(number: int, outcome: Acquired) -> str:
    """Describe how a scan ended."""
    rows = outcome.data.shape[0]
    if outcome.how in ("faulty", "short", "padded"):
        return f"Trial {number}: {outcome.how}, {outcome.reason}"
    if outcome.missed:
        return f"Trial {number}: {outcome.missed} of {rows} profiles missed: too fast"
    share = 100 * (1.0 - np.count_nonzero(np.isnan(outcome.data.z)) / outcome.data.z.size)
    return units.signed(f"Trial {number}: {rows} profiles, {share:.1f} % with data")
