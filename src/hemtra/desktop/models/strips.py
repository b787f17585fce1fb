"""State of the strips: rows with many values, their places, and the failing stretches."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from hemtra.core.features.along_path import Along
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.series import Series, out_of_limits
from hemtra.core.runs import runs
from hemtra.desktop.models.bench import Shown, WorkspaceModel

GAP = 1.5
"""Spacings from which on two neighbours are not joined by a line: something between them was left out."""


def strip_rows(bench: WorkspaceModel) -> list[Characteristic]:
    """The rows that have a strip, in balloon order: all of a profile sequence, or those along the path."""
    shown = bench.shown
    if shown is None or (shown.here is None and shown.along is None):
        return []
    known: dict[int, Characteristic] = {c.balloon: c for c in bench.document.shown.sheet}
    rows = [known[balloon] for balloon in sorted(shown.result.series) if balloon in known]
    if shown.along is None:
        return rows
    return [row for row in rows if along_of(shown, row) is shown.along]


def along_of(shown: Shown, row: Characteristic) -> Along | None:
    """Path on which a row was measured."""
    if row.step is None or row.step not in shown.result.steps:
        return None
    needs = shown.result.steps[row.step].step.inputs.get("of", ())
    value = shown.result.steps[needs[0]].value if needs and needs[0] in shown.result.steps else None
    return value if isinstance(value, Along) else None


def strip_span(bench: WorkspaceModel) -> tuple[float, float]:
    """Start and end of the strips, mm."""
    shown = bench.shown
    if shown is None:
        return 0.0, 1.0
    if shown.along is not None:
        return 0.0, shown.along.path.curve.length
    series = next(iter(shown.result.series.values()), None)
    if series is None or not series.at.size:
        return 0.0, 1.0
    half = float(np.ptp(series.at)) / max(series.at.size - 1, 1) / 2 or 0.5
    return float(series.at[0]) - half, float(series.at[-1]) + half


def looked_at(shown: Shown) -> float | None:
    """Position of the section, mm."""
    if shown.along is not None:
        return shown.at
    series = next(iter(shown.result.series.values()), None)
    return None if series is None or shown.index < 0 else float(series.at[shown.index])


def value_here(shown: Shown, row: Characteristic) -> float | None:
    """Value of a row at the place shown; None where it was not measured or does not count."""
    if shown.here is not None:
        evaluated: CharacteristicResult | None = next(
            (c for c in shown.here.characteristics if c.balloon == row.balloon), None
        )
        return None if evaluated is None else evaluated.value
    series, at = shown.result.series.get(row.balloon), shown.at
    if series is None or at is None or not series.at.size:
        return None
    k = int(np.argmin(np.abs(series.at - at)))
    near = shown.along is None or abs(float(series.at[k]) - at) <= shown.along.spacing
    return float(series.values[k]) if near and series.measured[k] else None


def parts_of(series: Series) -> list[tuple[int, int]]:
    """First and last index of each stretch of neighbours that were measured, with nothing left out between."""
    if series.at.size == 0:
        return []
    apart = float(np.median(np.diff(series.at))) if series.at.size > 1 else 1.0
    ends = np.flatnonzero(np.diff(series.at) > GAP * apart) + 1
    found = []
    for part in np.split(np.arange(series.at.size), ends):
        for first, many in runs(series.measured[part], False):
            found.append((int(part[first]), int(part[first + many - 1])))
    return found


def missing_parts(along: Along) -> list[tuple[float, float, str]]:
    """mm from and how long it is that nothing lies along a path, or that it could not be measured, and why."""
    found = []
    closed, half = along.path.curve.closed, along.spacing / 2
    for mask in (along.absent, ~along.absent & (along.state != 0)):
        for first, many in runs(mask, closed):
            reason = along.reasons.get(int(along.state[first]), "it could not be measured")
            found.append((float(along.at[first]) - half, many * along.spacing, reason))
    return found


@dataclass(frozen=True)
class FailingStretch:
    """A stretch along a path that fails, or could not be measured: mm from, how long, and what of it."""

    balloon: int
    start: float
    length: float
    text: str

    @property
    def middle(self) -> float:
        """Position along the path, mm."""
        return self.start + self.length / 2


def troubles(shown: Shown, plan: Plan) -> list[FailingStretch]:
    """Every failing stretch along the path that is looked at, by where it begins."""
    along = shown.along
    if along is None:
        return []
    found = []
    of = {evaluated.balloon: evaluated.unit for evaluated in shown.result.characteristics}
    for row in plan.sheet:
        series = shown.result.series.get(row.balloon)
        if series is None or along_of(shown, row) is not along:
            continue
        for s in out_of_limits(series, row.lower, row.upper):
            low = row.lower is not None and s.worst < row.lower
            end = "least" if low else "greatest"
            text = f"{row.name} {end} {s.worst:.{row.decimals}f} {of.get(row.balloon, '')}".strip()
            found.append(FailingStretch(row.balloon, s.start, s.length, text))
    absent = [t for t in missing_parts(along) if t[2] == along.reasons.get(1)]
    breaks = [row for row in plan.sheet if _is_break(shown, row, along)]
    for start, length, reason in absent:
        for row in breaks[:1]:
            found.append(FailingStretch(row.balloon, start, length, reason))
    return sorted(found, key=lambda t: t.start)


def _is_break(shown: Shown, row: Characteristic, along: Along) -> bool:
    if along_of(shown, row) is not along or row.step is None:
        return False
    step = shown.result.steps[row.step].step
    return step.kind == "continuity" and step.params.get("take", "break") in ("break", "breaks")
