"""Results as text: JSON for programs, CSV for spreadsheets."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from hemtra.core.plan.engine import Result
from hemtra.storage.files import write_text

COLUMNS = ("balloon", "name", "value", "unit", "lower", "upper", "verdict", "reason")


def to_dict(scan: str, result: Result) -> dict[str, Any]:
    """The result of one part as plain values, ready for JSON."""
    return {
        "scan": scan,
        "verdict": str(result.verdict),
        "elapsed_ms": round(result.elapsed_ms, 3),
        "characteristics": [
            {name: _plain(getattr(judged, name)) for name in COLUMNS} for judged in result.characteristics
        ],
    }


def save_csv(path: Path, parts: Iterable[tuple[str, Result]]) -> None:
    """Save one row a characteristic, all parts below each other, atomically. Raises `FileError`."""
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(("scan", "part_verdict", *COLUMNS))
    for scan, result in parts:
        for judged in result.characteristics:
            values = (_plain(getattr(judged, name)) for name in COLUMNS)
            table.writerow((scan, result.verdict, *("" if v is None else v for v in values)))
    write_text(path, text.getvalue())


def save_series(path: Path, parts: Iterable[tuple[str, Result]]) -> None:
    """Save the values that verdicts over many profiles or instances come from, atomically. Raises `FileError`.

    One row a value: where it was taken, in mm along travel or as the number of the instance; empty with the
    reason where it was not measured.
    """
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(("scan", "balloon", "name", "by", "at", "value", "reason"))
    for scan, result in parts:
        names = {judged.balloon: judged.name for judged in result.characteristics}
        for balloon, series in sorted(result.series.items()):
            for k, (at, value) in enumerate(zip(series.at.tolist(), series.values.tolist(), strict=True)):
                told = "" if math.isnan(value) else value
                row = (scan, balloon, names[balloon], series.by, f"{at:.4f}", told, series.reasons.get(k, ""))
                table.writerow(row)
    write_text(path, text.getvalue())


def _plain(value: Any) -> Any:
    return str(value) if isinstance(value, str) else value
