"""The report of a gauge study: the grade of each row, and a picture of its readings."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path

from reportlab.lib.units import mm
from reportlab.platypus import Flowable, KeepTogether, Spacer

from hemtra.core.gauge.chart import GaugeChart, chart_of
from hemtra.core.gauge.study import StudiedRow, Study
from hemtra.core.text import percent
from hemtra.storage.reports import page

CHART = (page.WIDTH, 42 * mm)
LEFT, FOOT, HEAD = 16 * mm, 8 * mm, 5 * mm
SHADES = (page.SPRUCE, page.COPPER, page.ANCHOR, page.MUTED)


def save_gauge_report(plan: str, study: Study, rule: str, made: datetime.date, path: Path) -> None:
    """Save as a PDF. Raises `FileError`; what stood at `path` is untouched then.

    plan: its name. rule: the name of the rule that graded the gauge. made: day of the study.
    """
    title = f"Gauge study of {plan}"
    facts = [
        ("plan", plan),
        ("study", f"{study.parts} parts, {study.operators} operators, {study.trials} trials"),
        ("rule", rule),
        ("made", made.isoformat()),
    ]
    for name, found in (("verdicts of one part agree", study.verdicts), ("with the tags", study.tags)):
        if found is not None:
            facts.append((name, percent(found.share, 1)))
    story: list[Flowable] = [
        page.text(title, size=15, bold=True, colour=page.SPRUCE, after=4),
        page.facts(facts),
        Spacer(0, 6),
        *page.heading("Characteristics"),
        _table(study.rows),
        Spacer(0, 8),
    ]
    for row in study.rows:
        chart = chart_of(row)
        if chart is not None:
            head = page.text(f"{row.balloon} {row.name}: {row.grade}", size=9, bold=True, after=2)
            story.append(KeepTogether([head, _Picture(chart), Spacer(0, 6)]))
    page.build(path, title, "GRR, EV, AV, PV as standard deviations (AIAG MSA, 4th edition).", story)


def _table(rows: Sequence[StudiedRow]) -> Flowable:
    head = ["", "characteristic", "unit", "EV", "AV", "GRR", "PV", "ndc", "% of tol.", "grade"]
    widths = [side * page.WIDTH / 187 for side in (9, 44, 12, 15, 15, 15, 15, 10, 17, 35)]
    cells = [
        [
            str(row.balloon),
            page.fitted(row.name, 8, 40 * mm),
            row.unit,
            *_numbers(row),
            "" if row.share is None else f"{row.share:.1f}",
            page.text(row.reason or row.grade, size=7 if row.reason else 8),
        ]
        for row in rows
    ]
    return page.plain_table([head, *cells], widths, head=1, right=range(3, 9))


def _numbers(row: StudiedRow) -> list[str]:
    """EV, AV, GRR, PV, ndc; of one part only what its readings scatter by."""
    if row.spread is not None:
        found = row.spread
        shown = found.repeatability, found.reproducibility, found.gauge, found.parts
        return [*(f"{one.deviation:.4f}" for one in shown), str(min(found.categories, 999))]
    return [f"{row.size.deviation:.4f}" if row.size is not None else "", "", "", "", ""]


class _Picture(Flowable):
    """Readings with their levels; each operator has a shade and stands beside the others."""

    def __init__(self, chart: GaugeChart) -> None:
        super().__init__()
        self._chart = chart
        self.alt = f"Readings by part: {chart.title}"
        self.width, self.height = CHART

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Its size in points."""
        return self.width, self.height

    def draw(self) -> None:
        """Scale, levels, readings, names."""
        canvas, chart = self.canv, self._chart
        low, high = chart.span
        wide, tall = self.width - LEFT, self.height - FOOT - HEAD
        count = len(chart.groups) or max((one.values.size for one in chart.series), default=1)

        def level(value: float) -> float:
            return FOOT + tall * (value - low) / (high - low)

        page.load_fonts()
        canvas.setFont(page.REGULAR, 7)
        canvas.setFillColor(page.MUTED)
        canvas.drawString(0, self.height - 6, chart.title)
        for line in chart.lines:
            y = level(line.value)
            canvas.setStrokeColor(page.MUTED if line.kind == "centre" else page.COPPER)
            canvas.setLineWidth(0.5)
            canvas.line(LEFT, y, self.width, y)
            canvas.setFillColor(page.MUTED)
            canvas.drawRightString(LEFT - 3, y - 2.4, f"{line.value:.4f}")
        for k, one in enumerate(chart.series):
            canvas.setFillColor(SHADES[k % len(SHADES)])
            for at, value in zip(one.at.tolist(), one.values.tolist(), strict=True):
                canvas.circle(LEFT + wide * (at + 0.5) / count, level(value), 1.3, stroke=0, fill=1)
        canvas.setFillColor(page.INK)
        for k, name in enumerate(chart.groups):
            shown = page.fitted(name, 7, wide / count)
            canvas.drawCentredString(LEFT + wide * (k + 0.5) / count, 1, shown)
        right = self.width
        for k, one in reversed(list(enumerate(chart.series))):
            canvas.setFillColor(SHADES[k % len(SHADES)])
            canvas.drawRightString(right, self.height - 6, one.name)
            right -= 4 * mm + 4 * len(one.name)
