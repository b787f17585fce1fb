"""A lot re-evaluated by another plan: by values on record where both measure the same, else from scans."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeAlias

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.recorded_values import Pairs, comparable, evaluated_by_values, verdict_of
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.progress import Progress
from hemtra.runtime.crews import Crew, Lost, crew_for
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.reevaluation import scan_of
from hemtra.runtime.workers import Evaluated, evaluate
from hemtra.storage.files import write_text
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import evaluated_parts, plan_of
from hemtra.storage.records.store import Lot, PartRecord
from hemtra.storage.remote import local_copy
from hemtra.storage.tables import Table

Rows: TypeAlias = tuple[CharacteristicResult, ...]
JOBS = 2
"""Processes that look at scans, where nothing else is asked for."""


@dataclass(frozen=True)
class Change:
    """A part whose verdict, or one of whose characteristics, is another one now.

    rows: by balloon, the verdict then and the row as it is now; a balloon that is new has none then.
    """

    part: PartRecord
    now: Verdict
    rows: tuple[tuple[Verdict | None, CharacteristicResult], ...]

    @property
    def flips(self) -> bool:
        """Whether the part passes now and did not, or the other way round."""
        return (self.part.verdict is Verdict.PASS) != (self.now is Verdict.PASS)

    @property
    def words(self) -> str:
        """Changed verdicts."""
        return "; ".join(
            f"{row.balloon} {row.name} {then or 'new'} → {row.verdict} {row.reason}".rstrip()
            for then, row in self.rows
        )


@dataclass(frozen=True)
class LotReevaluation:
    """Result of a plan on a lot. by_values, by_scans: numbers of parts whose verdict is known from each.

    undecided: parts whose verdict is unknown, with the reason.
    """

    lot: Lot
    plan: str
    by_values: int = 0
    by_scans: int = 0
    changes: tuple[Change, ...] = ()
    undecided: tuple[tuple[PartRecord, str], ...] = ()

    @property
    def words(self) -> str:
        """Summarise in a sentence or two."""
        decided = self.by_values + self.by_scans
        flips = sum(change.flips for change in self.changes)
        text = f"{decided} parts were re-evaluated by “{self.plan}”: "
        text += (
            f"{len(self.changes)} change, {flips} of them the verdict." if self.changes else "nothing changes."
        )
        if self.by_scans and self.by_values:
            text += f" {self.by_values} from their values, {self.by_scans} from their scans."
        if self.undecided:
            text += f" Not re-evaluated: {len(self.undecided)}. {self.undecided[0][1]}"
        return text


def reevaluate(
    records: Records, lot: Lot, plan: Plan, progress: Progress, crew: Crew | None = None
) -> LotReevaluation | None:
    """Re-evaluate the parts of a lot; nothing in the records changes. None when `progress` asked to stop.

    crew: who looks at the scans, by default processes of this computer where there are many.
    Raises `RecordsError`.
    """
    return _Reevaluating(records, lot, plan, progress, crew).run()


@dataclass(frozen=True)
class Looking:
    """Evaluates the scan of a part by its path or address."""

    plan: Plan

    def __call__(self, path: str) -> Evaluated:
        """See `evaluate`."""
        try:
            copy = local_copy(path)
        except HemtraError as error:
            return Evaluated(Verdict.NOT_MEASURED, trouble=str(error), kind="faulty scan")
        return evaluate(self.plan, Arrived(path, 0.0, 0.0, path=copy), False)


def save_changes(path: Path, found: LotReevaluation) -> None:
    """Save what changes as CSV, one row a characteristic. Raises `FileError`."""
    text = io.StringIO()
    table = Table(text)
    names = ("balloon", "name", "verdict_then", "verdict_now", "value_now", "reason_now")
    table.writerow(("lot", "part", "serial", "part_then", "part_now", *names))
    for change in found.changes:
        part = change.part
        for then, row in change.rows:
            value = "" if row.value is None else row.value
            plain = (found.lot.name, part.number, part.serial, part.verdict, change.now, row.balloon, row.name)
            table.writerow((*plain, then or "", row.verdict, value, row.reason))
    write_text(path, text.getvalue())


@dataclass
class _Reevaluating:
    records: Records
    lot: Lot
    plan: Plan
    progress: Progress
    crew: Crew | None
    changes: list[Change] = field(default_factory=list)
    undecided: list[tuple[PartRecord, str]] = field(default_factory=list)
    by_values: int = 0
    by_scans: int = 0
    pairs: dict[int, Pairs | None] = field(default_factory=dict)
    """Rows that can be evaluated from values, by revision."""

    def run(self) -> LotReevaluation | None:
        total, waiting = self.records.counts(self.lot).all, []
        for done, (part, rows) in enumerate(evaluated_parts(self.records, self.lot)):
            if not self.progress(done, total, f"values of part {part.number}"):
                return None
            now = self._from_values(part, rows)
            if now is not None:
                self.by_values += 1
                self._take(part, rows, now)
                continue
            try:
                waiting.append((part, rows, scan_of(part)))
            except HemtraError as error:
                self.undecided.append((part, str(error)))
        if waiting and not self._from_scans(waiting):
            return None
        self.changes.sort(key=lambda change: change.part.number)
        return LotReevaluation(
            self.lot, self.plan.name, self.by_values, self.by_scans, tuple(self.changes), tuple(self.undecided)
        )

    def _from_values(self, part: PartRecord, rows: Rows) -> Rows | None:
        key = part.revision_id
        if key not in self.pairs:
            try:
                self.pairs[key] = comparable(plan_of(self.records, part), self.plan)
            except HemtraError:
                self.pairs[key] = None  # its scan, where that is kept, can still be evaluated
        pairs = self.pairs[key]
        return None if pairs is None else evaluated_by_values(pairs, rows)

    def _from_scans(self, waiting: Sequence[tuple[PartRecord, Rows, Path]]) -> bool:
        paths = [str(path) for _, _, path in waiting]
        crew = self.crew or crew_for(None, JOBS, len(paths))
        coming = crew.map(Looking(self.plan), paths)
        for done, (part, rows, _) in enumerate(waiting):
            if not self.progress(done, len(waiting), f"scan of part {part.number}"):
                return False
            found = next(coming)
            if isinstance(found, Lost):
                self.undecided.append((part, found.reason))
            elif found.trouble and not found.rows:
                self.undecided.append((part, found.trouble))
            else:
                self.by_scans += 1
                self._take(part, rows, found.rows)
        return True

    def _take(self, part: PartRecord, before: Rows, rows: Rows) -> None:
        """Note what is another now than on record."""
        then = {row.balloon: row.verdict for row in before}
        now = verdict_of(self.plan, rows)
        other = tuple((then.get(row.balloon), row) for row in rows if then.get(row.balloon) is not row.verdict)
        if now is not part.verdict or other:
            self.changes.append(Change(part, now, other))
