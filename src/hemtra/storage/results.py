"""Results as text: JSON for programs, CSV for spreadsheets."""

from __future__ import annotations

import io
import math
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from hemtra.core.evaluation.results import Result
from hemtra.core.features.along_path import Along
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.series import out_of_limits
from hemtra.storage.files import write_text
from hemtra.storage.records.fields import numbers_of
from hemtra.storage.tables import Table

COLUMNS = ("balloon", "name", "value", "unit", "lower", "upper", "verdict", "reason")


def to_dict(scan: str, result: Result) -> dict[str, Any]:
    """The result of one part as plain values, ready for JSON; with its paths, where it has any."""
    paths = [_path(step_id, found, result) for step_id, found in _along(result).items()]
    return {
        "scan": scan,
        "verdict": str(result.verdict),
        "elapsed_ms": round(result.elapsed_ms, 3),
        "characteristics": [
            {name: _plain(getattr(evaluated, name)) for name in COLUMNS} | _rests(evaluated, result)
            for evaluated in result.characteristics
        ],
        **({"paths": paths} if paths else {}),
    }


def _rests(evaluated: CharacteristicResult, result: Result) -> dict[str, Any]:
    """Coverage of a value, and its bounds or the range of many."""
    found: dict[str, Any] = {number.key: value for number, value in numbers_of(evaluated)}
    if evaluated.budget is not None:
        found |= budget_as_json(evaluated.budget)
    coverage = evaluated.coverage or result.coverage.get(evaluated.balloon)
    if coverage is not None:
        found["coverage"] = {
            "seen": round(coverage.seen, 5),
            "filled": round(coverage.filled, 5),
            "longest_unseen": _mm(coverage.gap),
            "isolated_points": coverage.spikes,
        }
    return found


def budget_as_json(budget: Budget) -> dict[str, Any]:
    """Standard and expanded uncertainty, and what they are made of, as shares of the variance."""
    shares = {source: round(share, 4) for source, share in budget.shares.items()}
    return {
        "u": budget.u,
        "U": USUAL_COVERAGE * budget.u,
        "k": USUAL_COVERAGE,
        "unit": budget.unit,
        "shares": shares,
    }


def _along(result: Result) -> dict[str, Along]:
    """Values on sections along a path, by step."""
    return {i: r.value for i, r in result.steps.items() if isinstance(r.value, Along)}


def _path(step_id: str, found: Along, result: Result) -> dict[str, Any]:
    """Values along one path: counts, breaks, and the failing stretches, in mm."""
    stretches = []
    for evaluated in result.characteristics:
        series = result.series.get(evaluated.balloon)
        if series is None or step_id not in result.steps[evaluated.step].step.needs:
            continue
        for s in out_of_limits(series, evaluated.lower, evaluated.upper):
            stretches.append(
                {
                    "balloon": Balloon(evaluated.balloon).plain,
                    "start": _mm(s.start),
                    "length": _mm(s.length),
                    "worst": _mm(s.worst),
                }
            )
    return {
        "feature": result.steps[step_id].step.name,
        "length": _mm(found.path.curve.length),
        "closed": found.path.curve.closed,
        "sections": int(found.at.size),
        "measured": int(np.count_nonzero(found.state == 0)),
        "absent": int(np.count_nonzero(found.absent)),
        "breaks": [{"start": _mm(gap.start), "length": _mm(gap.length)} for gap in found.breaks],
        "stretches": stretches,
    }


def _mm(value: float) -> float:
    return round(value, 4)


def save_csv(path: Path, parts: Iterable[tuple[str, Result]]) -> None:
    """Save one row a characteristic, all parts below each other, atomically. Raises `FileError`."""
    text = io.StringIO()
    table = Table(text)
    table.writerow(("scan", "part_verdict", *COLUMNS, "u"))
    for scan, result in parts:
        for evaluated in result.characteristics:
            values = (_plain(getattr(evaluated, name)) for name in (*COLUMNS, "u"))
            table.writerow((scan, result.verdict, *("" if v is None else v for v in values)))
    write_text(path, text.getvalue())


def save_series(path: Path, parts: Iterable[tuple[str, Result]]) -> None:
    """Save the values that verdicts over many profiles or instances come from, atomically. Raises `FileError`.

    One row a value: where it was taken, in mm along travel or as the number of the instance; empty with the
    reason where it was not measured.
    """
    text = io.StringIO()
    table = Table(text)
    table.writerow(("scan", "balloon", "name", "by", "at", "value", "reason"))
    for scan, result in parts:
        names: dict[int, str] = {evaluated.balloon: evaluated.name for evaluated in result.characteristics}
        for balloon, series in sorted(result.series.items()):
            for k, (at, value) in enumerate(zip(series.at.tolist(), series.values.tolist(), strict=True)):
                cell = "" if math.isnan(value) else value
                row = (
                    scan,
                    balloon,
                    names[balloon],
                    series.by,
                    f"{at:.4f}",
                    cell,
                    series.reasons.get(k, ""),
                )
                table.writerow(row)
    write_text(path, text.getvalue())


def save_sections(path: Path, parts: Iterable[tuple[str, Result]]) -> None:
    """Save one row a section along a path, with everything measured on it, atomically. Raises `FileError`.

    Distances in mm along the path, places in mm of the scan; a size that was not measured is empty, and the
    state says why.
    """
    held = [(scan, result, i, found) for scan, result in parts for i, found in _along(result).items()]
    names = list(dict.fromkeys(name for *_, found in held for name in found.quantities))
    units = {name: q.unit for *_, found in held for name, q in found.quantities.items()}
    text = io.StringIO()
    table = Table(text)
    sizes = [f"{name} ({units[name]})" for name in names]
    table.writerow(("scan", "feature", "at (mm)", "x (mm)", "y (mm)", "z (mm)", "state", *sizes))
    for scan, result, step_id, found in held:
        columns = [
            found.values(name) if name in found.quantities else np.full(found.at.size, np.nan) for name in names
        ]
        title = result.steps[step_id].step.name
        for k, (at, place) in enumerate(zip(found.at.tolist(), found.places().tolist(), strict=True)):
            state = int(found.state[k])
            message = "measured" if state == 0 else found.reasons.get(state, "it could not be measured")
            values = ("" if math.isnan(column[k]) else f"{column[k]:.5f}" for column in columns)
            table.writerow((scan, title, f"{at:.4f}", *(f"{c:.4f}" for c in place), message, *values))
    write_text(path, text.getvalue())


def _plain(value: Any) -> Any:
    if isinstance(value, Balloon):
        return value.plain
    return str(value) if isinstance(value, str) else value
