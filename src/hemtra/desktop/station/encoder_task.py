"""Guided task: measure the encoder's resolution over a known travel, instead of typing it from memory."""

from __future__ import annotations

import math

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QLabel, QPushButton

from hemtra.core.errors import NotMeasured
from hemtra.core.station.resolution import Resolution, Run, measure_resolution
from hemtra.core.station.station import Station
from hemtra.core.station.travel import LinearEncoder
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.guided_task import (
    GuidedTask,
    fill_table,
    in_a_row,
    number_field,
    number_in,
    sentence,
)
from hemtra.desktop.widgets import theme, units
from hemtra.virtual.line import encoder_run

USUAL_TRAVEL = 500.0
LONGEST_TRAVEL = 100_000.0
SHOWN_RUNS = 5
DIFFERS = 0.0005
"""Share by which a measured resolution must differ from the one in use to be worth taking."""


class EncoderTask(GuidedTask):
    """Runs over a known travel, and what they say."""

    artefact_requested = Signal()

    def __init__(self, bench: StationBench) -> None:
        super().__init__(
            bench,
            "Measure the encoder resolution",
            "Mark the belt, let the line move a travel you can measure, and repeat it: the counts of each run"
            " show how many make a millimetre, and their spread whether to believe it.",
            "Take this resolution",
        )
        self.runs: list[Run] = []
        self.found: Resolution | None = None
        self.travel = number_field(USUAL_TRAVEL, "Known travel in mm", 80)
        self.move_line = QPushButton("Move the line")
        self.move_line.setObjectName("secondary")
        self.move_line.clicked.connect(self.run_once)
        self._table = QGridLayout()
        self._table.setHorizontalSpacing(24)
        self.artefact = QPushButton("From a scanned artefact…")
        self.artefact.setObjectName("action")
        self.artefact.setToolTip("Its length along travel, known against measured, says the same.")
        self.artefact.clicked.connect(self.artefact_requested)
        self.steps.addLayout(
            in_a_row(QLabel("known travel"), self.travel, QLabel("mm"), self.move_line, self.artefact)
        )
        self.steps.addLayout(self._table)
        self._refresh()

    def begin(self) -> None:
        """Start without any runs."""
        self.runs = []
        self._refresh()
        self.travel.setFocus()

    def run_once(self) -> None:
        """Make one run over the travel typed."""
        travel = number_in(self.travel) or 0.0
        if not 0 < abs(travel) <= LONGEST_TRAVEL:
            self.message.setText(f"Type the travel in mm, up to {LONGEST_TRAVEL:g}.")
            return
        edges = self.bench.station.travel.encoder.edges
        self.runs.append(encoder_run(travel, edges, seed=len(self.runs)))
        self._refresh()

    def _refresh(self) -> None:
        now = self.bench.station.travel.encoder.counts_per_mm
        self.found, trouble = None, ""
        try:
            self.found = measure_resolution(self.runs)
        except NotMeasured as error:
            trouble = str(error)
        rows: list[tuple[str, ...]] = [("travel", "counts", "counts/mm", "deviation")]
        first = max(0, len(self.runs) - SHOWN_RUNS)
        for k, run in enumerate(self.runs[first:], start=first):
            share = f"{100 * self.found.deviations[k]:+.3f} %" if self.found else "–"
            per_mm = f"{run.counts / run.travel:.4f}"
            rows.append(tuple(map(units.signed, (f"{run.travel:g} mm", str(run.counts), per_mm, share))))
        fill_table(self._table, rows if self.runs else [])
        if self.found is None:
            self.message.setText(units.signed(f"In use: {now:.4f} counts/mm. {sentence(trouble)}"))
        else:
            spread = "" if len(self.runs) < 2 else f" ± {self.found.error:.4f}"
            longer = self.found.counts_per_mm / now - 1.0
            if abs(longer) < DIFFERS:
                tint, verdict = theme.current().passed, "agrees with what is in use"
            else:
                wrong = f"{abs(100 * longer):.2f} % too {'long' if longer > 0 else 'short'}"
                tint, verdict = theme.current().failed, f"in use: {now:.4f}, so parts come out {wrong}"
            measured = f"<b>{self.found.counts_per_mm:.4f}{spread} counts/mm</b>"
            self.message.setText(units.signed(f"{measured}: <span style='color:{tint}'>{verdict}</span>."))
        self.take.setEnabled(self.found is not None)

    def take_result(self) -> None:
        """Count with the measured resolution from now on."""
        if self.found is None:
            return
        found, station = self.found, self.bench.document.value
        self.finish("encoder resolution", lambda: with_measured(station, found))


def with_measured(station: Station, found: Resolution) -> Station:
    """The station with a measured resolution, and with its standard error where several runs show one."""
    if math.isfinite(found.error):
        share = 100.0 * found.error / found.counts_per_mm
        station = station.with_part("scales", y=float(f"{share:.3g}"))
    return with_resolution(station, found.counts_per_mm)


def with_resolution(station: Station, counts_per_mm: float) -> Station:
    """The station with another resolution, stated in mm per pulse."""
    edges = station.travel.encoder.edges
    encoder = LinearEncoder(
        mm_per_pulse=round(edges / counts_per_mm, 7), counting=station.travel.encoder.counting
    )
    return station.with_part("travel", encoder=encoder)
