"""Assembly of reports: recorded data, and evidence that is evaluated again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from hemtra.core.balloon_layout import points_at
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.marks import Mark
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict, reason_of
from hemtra.core.plan.shown_units import in_unit
from hemtra.core.progress import Progress
from hemtra.core.statistics import statistics
from hemtra.core.units import MM, LengthUnit
from hemtra.runtime.reevaluation import ReevaluatedPart, reevaluate_part
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import PartSheet, part_sheet
from hemtra.storage.records.pages import NOT_PASS, Filter, LotView, lot_views, page
from hemtra.storage.records.store import Lot, PartRecord
from hemtra.storage.records.trends import balloons_in, failures, trends
from hemtra.storage.remote import local_copy, name_of
from hemtra.storage.reports import LotContent, PartContent, save_lot_report, save_part_report
from hemtra.storage.reports.drawing import PartPicture, Pointer
from hemtra.storage.reports.first_article import FirstArticle, save_first_article
from hemtra.storage.reports.lot_report import DRAWING, LISTED
from hemtra.storage.reports.page import format_time
from hemtra.storage.reports.part_report import Look, PartEvidence, close_look
from hemtra.storage.scans import load_scan
from hemtra.storage.settings import load_settings

EACH, MOST = 2, 16
"""Parts with evidence for each balloon of a lot, and in all."""
FEW = 5
"""Number of passed parts searched for one with a scan."""
LOOKED_AT = 200
"""Number of failed parts searched for evidence."""


def report_part(records: Records, key: int, path: Path, unit: LengthUnit = MM) -> None:
    """Save the report of a part, with lengths in a unit. Raises `FileError` or `RecordsError`."""
    save_part_report(path, [part_content(reevaluate_part(records, key), unit)])


def first_article(records: Records, key: int, path: Path, unit: LengthUnit = MM) -> None:
    """Save the first-article report of a part on record. Raises `FileError` or `RecordsError`."""
    content = part_content(reevaluate_part(records, key), unit)
    save_first_article(path, FirstArticle(content, load_settings().author))


def report_lot(
    records: Records,
    lot: Lot,
    path: Path,
    progress: Progress = lambda done, of, what: True,
    unit: LengthUnit = MM,
) -> bool:
    """Save the report of a lot, with lengths in a unit; False when `progress` asked to stop.

    Raises `FileError` or `RecordsError`.
    """
    content = lot_content(records, lot, progress, unit)
    if content is None:
        return False
    save_lot_report(path, content)
    return True


def report_files(path: Path, plan: Plan, scans: Sequence[str], unit: LengthUnit = MM) -> None:
    """Save the reports of parts that are on no record, by their scans; unreadable ones are left out."""
    contents = []
    for name in scans:
        try:
            scan = load_scan(local_copy(name))
        except HemtraError:
            continue
        engine = Engine(scan.data, scan.serial)
        result = engine.run(plan)
        contents.append(
            PartContent(
                title=name_of(name),
                verdict=result.verdict,
                reason=reason_of(_rows(result.characteristics, unit)),
                facts=(("plan", plan.name), ("serial", engine.serial or "–")),
                rows=_rows(result.characteristics, unit),
                seen=seen_of(plan, engine, result),
                notes=result.faults,
            )
        )
    save_part_report(path, contents)


def part_content(seen: ReevaluatedPart, unit: LengthUnit = MM) -> PartContent:
    """Content of the report of a recorded part, with lengths in a unit."""
    sheet, part = seen.sheet, seen.sheet.part
    notes = [f"Evaluated again, it differs: {text}" for text in seen.differences]
    notes += [f"{event.kind}: {event.text}" for event in sheet.events if event.text not in seen.differences]
    again = seen.again
    return PartContent(
        title=f"Part {part.number} of {sheet.lot.name}",
        verdict=part.verdict,
        # a reason that the rows do not give, such as a lost scan, names no length
        reason=reason_of(_rows(sheet.rows, unit)) if part.reason == reason_of(sheet.rows) else part.reason,
        facts=part_facts(sheet),
        rows=_rows(sheet.rows, unit),
        seen=None if again is None else seen_of(again.plan, again.engine, again.result, sheet.rows),
        missing=seen.missing,
        notes=notes,
    )


def _rows(rows: Sequence[CharacteristicResult], unit: LengthUnit) -> tuple[CharacteristicResult, ...]:
    return tuple(in_unit(row, unit) for row in rows)


def part_facts(sheet: PartSheet) -> tuple[tuple[str, str], ...]:
    """Facts of a part besides its values."""
    part = sheet.part
    return (
        ("serial", part.serial or "–"),
        ("lot", sheet.lot.name),
        ("scanned", format_time(part.scanned)),
        ("station", sheet.station),
        ("plan revision", f"{sheet.revision}, {format_time(sheet.revised)}"),
        ("signals", part.signal),
    )


def seen_of(
    plan: Plan, engine: Engine, result: Result, rows: Sequence[CharacteristicResult] | None = None
) -> PartEvidence:
    """Picture of a part, with marks of what does not pass."""
    shown = result.characteristics if rows is None else rows
    verdicts = {row.balloon: row.verdict for row in shown}
    pointers: list[Pointer] = []
    marks: dict[int, tuple[Mark, ...]] = {}
    for row in result.characteristics:
        verdict = verdicts.get(row.balloon, row.verdict)
        place = points_at(plan, result, row)
        if place is not None:
            pointers.append(Pointer(row.balloon, verdict, *place))
            if verdict is not Verdict.PASS and plan.by_profile is None:
                marks[row.balloon] = marks_of(plan, engine, result, row)
    return PartEvidence(engine.data, tuple(pointers), marks)


def marks_of(plan: Plan, engine: Engine, result: Result, row: CharacteristicResult) -> tuple[Mark, ...]:
    """The evidence of a row: of its own step and of those it is made from, not of datums these follow."""
    if not row.step:
        return ()
    made_from = (i for ids in plan.step(row.step).inputs.values() for i in ids)
    return tuple(mark for i in (row.step, *made_from) for mark in engine.explain(result, i).marks)


def lot_content(records: Records, lot: Lot, progress: Progress, unit: LengthUnit = MM) -> LotContent | None:
    """Content of the report of a lot; None when `progress` asked to stop."""
    view = next((view for view in lot_views(records) if view.lot.id == lot.id), None)
    if view is None:
        raise HemtraError("This lot is no longer in the records.")
    balloons = balloons_in(records, [lot])
    series = []
    for done, balloon in enumerate(balloons):
        if not progress(done, 2 * len(balloons), f"characteristic {balloon}"):
            return None
        found = [trend.in_unit(unit) for trend in trends(records, [lot], balloon)]
        series += [(trend, statistics(trend.values, trend.lower, trend.upper, trend.gauge)) for trend in found]
    pareto = failures(records, [lot])
    evidence = _Evidence(records, lot, {row.balloon: row.verdict for row in pareto}, unit)
    if not evidence.gather(progress):
        return None
    wanted = Filter(lots=(lot.id,), verdicts=() if view.counts.all <= LISTED else NOT_PASS)
    listed = page(records, wanted, most=LISTED).parts[::-1]
    return LotContent(
        title=lot.name,
        facts=_lot_facts(records, view),
        counts=view.counts,
        pareto=pareto,
        series=series,
        parts=listed,
        picture=evidence.picture,
        missing=evidence.missing,
        looks=evidence.looks,
        unseen=evidence.unseen,
    )


@dataclass
class _Evidence:
    """Pictures of a lot: the newest failures that have a scan, so many a balloon, and a part to point at."""

    records: Records
    lot: Lot
    verdicts: Mapping[int, Verdict]
    """Failures of all parts together, by balloon."""
    unit: LengthUnit = MM
    looks: list[Look] = field(default_factory=list)
    picture: PartPicture | None = None
    missing: str = "No image: the lot has no parts."
    unseen: int = 0
    counted: Counter[int] = field(default_factory=Counter)

    def gather(self, progress: Progress) -> bool:
        """Go through parts one by one; none is held. False when `progress` asked to stop."""
        bad = page(self.records, Filter(lots=(self.lot.id,), verdicts=NOT_PASS), most=LOOKED_AT).parts
        for done, part in enumerate(bad):
            if len(self.looks) >= MOST:
                break
            if not progress(len(bad) + done, 2 * len(bad), f"evidence of part {part.number}"):
                return False
            self._look(part)
        # a part that passes shows best where everything belongs
        good = page(self.records, Filter(lots=(self.lot.id,), verdicts=(Verdict.PASS,)), most=FEW).parts
        for part in good:
            seen = reevaluate_part(self.records, part.id)
            if seen.again is not None:
                self.picture = self._pictured(seen_of(seen.again.plan, seen.again.engine, seen.again.result))
                break
            self.missing = seen.missing
        return True

    def _look(self, part: PartRecord) -> None:
        rows = [row for row in part_sheet(self.records, part.id).rows if row.verdict is not Verdict.PASS]
        wanted = [row for row in rows if self.counted[row.balloon] < EACH]
        if rows and not wanted:
            return
        seen = reevaluate_part(self.records, part.id)
        if seen.again is None:
            self.unseen, self.missing = self.unseen + 1, seen.missing
            return
        look = seen_of(seen.again.plan, seen.again.engine, seen.again.result, seen.sheet.rows)
        if self.picture is None:
            self.picture = self._pictured(look)
        for row in wanted[: MOST - len(self.looks)]:
            found = close_look(in_unit(row, self.unit), look, f"part {part.number} {part.serial}")
            if found:
                self.counted[row.balloon] += 1
                self.looks.append(found)

    def _pictured(self, seen: PartEvidence) -> PartPicture:
        """The part with what the lot fails."""
        pointers = [
            replace(p, verdict=self.verdicts.get(p.balloon, Verdict.NOT_MEASURED)) for p in seen.pointers
        ]
        return PartPicture(seen.data, DRAWING, pointers, legend=True)


def _lot_facts(records: Records, view: LotView) -> tuple[tuple[str, str], ...]:
    lot = view.lot
    newest = page(records, Filter(lots=(lot.id,)), most=1).parts
    sheet = part_sheet(records, newest[0].id) if newest else None
    return (
        ("plan", lot.plan),
        ("began", format_time(lot.started)),
        ("ended", format_time(lot.ended or 0.0) if lot.ended else "still open"),
        ("plan revision", "–" if sheet is None else f"{sheet.revision}, {format_time(sheet.revised)}"),
        ("station", "–" if sheet is None else sheet.station),
        ("parts", str(view.counts.all)),
    )
