"""The report of a lot: the verdicts of its parts, how each characteristic ran, and evidence of what failed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from reportlab.lib.units import mm
from reportlab.platypus import Flowable, Spacer

from hemtra.core.plan.limits import Verdict, format_limits
from hemtra.core.statistics import Statistics
from hemtra.core.text import percent
from hemtra.storage.records.store import Counts, PartRecord
from hemtra.storage.records.trends import Failures, Trend
from hemtra.storage.reports import page
from hemtra.storage.reports.charts import Pareto, TrendChart
from hemtra.storage.reports.drawing import PartPicture
from hemtra.storage.reports.part_report import Look, in_pairs

DRAWING = (page.WIDTH, 92 * mm)
CHART = (50 * mm, 9 * mm)
LISTED = 2000
"""Parts that are listed one by one; of larger lots only those that did not pass are."""


@dataclass(frozen=True)
class LotContent:
    """Content of a lot report. picture: a part of it; missing: why there is none.

    series: each way a characteristic stood, with its statistics. parts: to be listed, in their order; of all
    that did not pass there may be more than are listed. looks: close ones at failures, painted already, so that
    no scan is held; unseen: how many of those wanted have none.
    """

    title: str
    facts: Sequence[tuple[str, str]]
    counts: Counts
    pareto: Sequence[Failures]
    series: Sequence[tuple[Trend, Statistics]]
    parts: Sequence[PartRecord]
    picture: PartPicture | None = None
    missing: str = ""
    looks: Sequence[Look] = ()
    unseen: int = 0


def save_lot_report(path: Path, lot: LotContent) -> None:
    """Save as a PDF. Raises `FileError`; what stood at `path` is untouched then."""
    story: list[Flowable] = [
        page.text(lot.title, size=15, bold=True, colour=page.SPRUCE, after=4),
        _verdicts(lot.counts),
        Spacer(0, 6),
        page.facts(lot.facts),
        Spacer(0, 6),
    ]
    if lot.picture is None:
        story.append(page.text(lot.missing, colour=page.MUTED, after=6))
    else:
        lot.picture.hAlign = "CENTER"
        story += [
            lot.picture,
            page.text("Diamonds: what some part failed.", size=7, colour=page.MUTED, after=6),
        ]
    story += [*page.heading("Not passed"), Pareto(lot.pareto, page.WIDTH), Spacer(0, 8)]
    story += [*page.heading("Characteristics"), _characteristics(lot), Spacer(0, 8)]
    story += _evidence(lot)
    story += _parts(lot)
    footer = (
        "Cp, Cpk from the moving range, Pp, Ppk from all values (ISO 22514-2). Below 50 parts: in brackets."
    )
    page.build(path, lot.title, footer, story)


def _verdicts(counts: Counts) -> Flowable:
    rows = (Verdict.PASS, counts.passed), (Verdict.FAIL, counts.failed), (Verdict.NOT_MEASURED, counts.missing)
    share = "" if counts.share is None else f"{percent(counts.share, 1)} of {counts.all} parts pass"
    cells = [cell for verdict, number in rows for cell in (page.Sign(verdict, word=True), str(number))]
    widths = [side * mm for side in (20, 16, 20, 16, 34, 16)]
    return page.plain_table([[*cells, share]], [*widths, page.WIDTH - sum(widths)], lines=False)


def _characteristics(lot: LotContent) -> Flowable:
    verdicts = {row.balloon: row.verdict for row in lot.pareto}
    head = ["", "characteristic", "trend and histogram", "n", "mean", "s", "Cp", "Cpk", "Pp", "Ppk"]
    rows = [_row(trend, found, verdicts[trend.balloon]) for trend, found in lot.series]
    widths = [side * page.WIDTH / 187 for side in (9, 42, 54, 10, 16, 14, 10.5, 10.5, 10.5, 10.5)]
    return page.plain_table([head, *rows], widths, head=1, right=range(3, 10))


def _row(trend: Trend, found: Statistics, verdict: Verdict) -> list[Any]:
    name = page.text(page.fitted(trend.name, 8, 38 * mm)), page.text(_asked(trend), size=7, colour=page.MUTED)
    row = [page.Sign(verdict, str(trend.balloon)), list(name)]
    if trend.reads:
        words = f"reads text; right on {int((trend.values > 0).sum())} of {trend.values.size} parts"
        return [*row, page.text(words, size=7, colour=page.MUTED), str(found.count), *[""] * 6]
    digits = trend.decimals + (trend.decimals < 4)

    def number_text(value: float | None) -> str:
        return "–" if value is None else f"{value:.{digits}f}"

    def index(value: float | None) -> str:
        if value is None:
            return "–"
        return f"({value:.2f})" if found.few else f"{value:.2f}"

    indices = (index(value) for value in (found.cp, found.cpk, found.pp, found.ppk))
    return [
        *row,
        TrendChart(trend, CHART),
        str(found.count),
        number_text(found.mean),
        number_text(found.deviation),
        *indices,
    ]


def _asked(trend: Trend) -> str:
    asked = f"{format_limits(trend.lower, trend.upper, trend.decimals)} {trend.unit}".strip()
    # series of one characteristic that was measured otherwise do not compare, and say so
    return f"{asked}; method {trend.method}" if trend.method else asked


def _evidence(lot: LotContent) -> list[Flowable]:
    if not lot.looks and not lot.unseen:
        return []
    story: list[Flowable] = [*page.heading("Evidence of failures"), *in_pairs(lot.looks)]
    if lot.unseen:
        words = f"{lot.unseen} more: no image (scan not stored)."
        story.append(page.text(words, colour=page.MUTED, after=6))
    return story


def _parts(lot: LotContent) -> list[Flowable]:
    if not lot.parts:
        return []
    all_listed = len(lot.parts) == lot.counts.all
    title = "All parts" if all_listed else "Parts that did not pass"
    rows = [
        [
            str(part.number),
            page.fitted(part.serial, 8, 30 * mm),
            page.format_time(part.scanned),
            part.verdict,
            page.fitted(part.reason, 8, 88 * mm),
        ]
        for part in lot.parts
    ]
    widths = [side * mm for side in (12, 32, 34, 26, 74)]
    table = page.plain_table(
        [["part", "serial", "scanned", "verdict", "reason"], *rows], widths, head=1, right=(0,)
    )
    return [*page.heading(title), table]
