"""A lot re-evaluated by another plan: by values on record where both measure the same, else from scans."""

from __future__ import annotations

import io
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, TypeAlias

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.recorded_values import Pairs, comparable, evaluated_by_values, verdict_of
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.progress import Progress
from hemtra.runtime.crews import Crew, Lost, crew_for
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.reevaluation import scan_moved, scan_of
from hemtra.runtime.workers import Evaluated, evaluate
from hemtra.storage.files import write_text
from hemtra.storage.records import Records
from hemtra.storage.records import reevaluations as on_record
from hemtra.storage.records.evidence import evaluated_parts, numbered_parts, plan_of
from hemtra.storage.records.store import Lot, PartRecord
from hemtra.storage.remote import local_copy, name_of
from hemtra.storage.tables import Table

CrewMaker: TypeAlias = Callable[[int], Crew]
Rows: TypeAlias = tuple[CharacteristicResult, ...]
CHECKPOINT, EVERY = 50, 5.0
"""Parts, and seconds, after which what was found on scans is kept."""
JOBS = 2
"""Processes that look at scans, where nothing else is requested."""


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

    def as_json(self) -> dict[str, Any]:
        """As it is kept and printed."""
        names = ("name", "value", "unit", "verdict", "reason")
        rows = [
            {"balloon": row.balloon.plain, "then": then} | {name: getattr(row, name) for name in names}
            for then, row in self.rows
        ]
        return {"part": self.part.number, "then": self.part.verdict, "now": self.now, "rows": rows}

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
    def flips(self) -> int:
        """Number of parts whose verdict changes between PASS and not."""
        return sum(change.flips for change in self.changes)

    def flips_by_row(self) -> dict[str, int]:
        """Number of flipped parts in which a row has another verdict, the most frequent first."""
        flipped = [change for change in self.changes if change.flips]
        counts = Counter(f"{row.balloon} {row.name}" for change in flipped for _, row in change.rows)
        return dict(counts.most_common())

    def as_json(self) -> dict[str, Any]:
        """As it is kept on record and printed."""
        return {
            "lot": self.lot.name,
            "plan": self.plan,
            "by_values": self.by_values,
            "by_scans": self.by_scans,
            "flips": self.flips,
            "flips_by_row": self.flips_by_row(),
            "changes": [change.as_json() for change in self.changes],
            "undecided": [{"part": part.number, "reason": why} for part, why in self.undecided],
        }

    @property
    def words(self) -> str:
        """Summarise in a sentence or two."""
        decided = self.by_values + self.by_scans
        text = f"{decided} parts were re-evaluated by “{self.plan}”: "
        changing = f"{len(self.changes)} change, {self.flips} of them the verdict."
        text += changing if self.changes else "nothing changes."
        if self.by_scans and self.by_values:
            text += f" {self.by_values} from their values, {self.by_scans} from their scans."
        if self.undecided:
            text += f" Not re-evaluated: {len(self.undecided)}. {self.undecided[0][1]}"
        return text


def reevaluate(
    records: Records,
    lot: Lot,
    plan: Plan,
    progress: Progress,
    crew: CrewMaker | None = None,
    author: str | None = None,
    scans: str = "",
) -> LotReevaluation | None:
    """Re-evaluate the parts of a lot; nothing on record changes. None when `progress` asked to stop.

    crew: makes who looks at so many scans, by default processes of this computer where there are many. author:
    in whose name the result is kept, with checkpoints from which a stopped one continues; None keeps nothing.
    scans: folder or address that the scans of this lot have been moved to, empty where they lie as on record.
    Raises `RecordsError`.
    """
    key, before = (None, {}) if author is None else on_record.begin(records, lot, plan, author)
    found = _Reevaluating(records, lot, plan, progress, crew, key, before, scans).run()
    if key is not None and found is not None:
        on_record.finish(records, key, found.as_json())
    return found


def reopened(records: Records, kept: on_record.KeptReevaluation) -> LotReevaluation:
    """A re-evaluation on record with its parts as they are there. Raises `RecordsError`, `HemtraError`."""
    result = kept.result
    lot = next((one for one in records.all_lots() if (one.id, one.name) == (kept.lot_id, kept.lot)), None)
    if result is None:
        raise HemtraError("This re-evaluation was stopped; start it again, and it continues where it was.")
    if lot is None:
        raise HemtraError(f"The lot {kept.lot} is not in these records any more.")
    changed, missing = result["changes"], result["undecided"]
    numbers = [one["part"] for one in (*changed, *missing)]
    parts = numbered_parts(records, lot, numbers)
    if len(parts) < len(set(numbers)):
        raise HemtraError(
            f"Some parts of {kept.lot} are not in these records any more; re-evaluate the lot again."
        )
    return LotReevaluation(
        lot,
        result["plan"],
        result["by_values"],
        result["by_scans"],
        tuple(_change(parts[one["part"]], one) for one in changed),
        tuple((parts[one["part"]], one["reason"]) for one in missing),
    )


@dataclass(frozen=True)
class Looking:
    """Evaluates the scan of a part."""

    plan: Plan

    def __call__(self, path: Path | str) -> Evaluated:
        """See `evaluate`; of an address, a copy."""
        try:
            arrived = Arrived(name_of(path), 0.0, 0.0, path=local_copy(path))
        except HemtraError as error:
            arrived = Arrived(name_of(path), 0.0, 0.0, trouble=str(error), kind="faulty scan")
        return evaluate(self.plan, arrived, False)


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
    crew: CrewMaker | None
    key: int | None
    before: Mapping[int, Any]
    """Outcomes of parts from before it was stopped, by their keys; see `on_record.checkpoint`."""
    scans: str
    changes: list[Change] = field(default_factory=list)
    undecided: list[tuple[PartRecord, str]] = field(default_factory=list)
    by_values: int = 0
    by_scans: int = 0
    new: dict[int, Any] = field(default_factory=dict)
    kept: float = field(default_factory=time.monotonic)
    """Outcomes of parts since the last checkpoint, by their keys, and when that was."""
    moved: set[Path | str] = field(default_factory=set)
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
            if part.id in self.before:
                self._again(part, self.before[part.id])
                continue
            try:
                waiting.append((part, rows, self._scan_of(part)))
            except HemtraError as error:
                self.undecided.append((part, str(error)))
        if waiting and not self._from_scans(waiting):
            return None
        self.changes.sort(key=lambda change: change.part.number)
        return LotReevaluation(
            self.lot, self.plan.name, self.by_values, self.by_scans, tuple(self.changes), tuple(self.undecided)
        )

    def _scan_of(self, part: PartRecord) -> Path | str:
        if not self.scans:
            return scan_of(part)
        scan = scan_moved(part, self.scans)
        if scan in self.moved:
            raise HemtraError(f"Another part of the lot has a scan called {name_of(scan)}, too.")
        self.moved.add(scan)
        return scan

    def _from_values(self, part: PartRecord, rows: Rows) -> Rows | None:
        key = part.revision_id
        if key not in self.pairs:
            try:
                self.pairs[key] = comparable(plan_of(self.records, part), self.plan)
            except HemtraError:
                self.pairs[key] = None  # its scan, where that is kept, can still be evaluated
        pairs = self.pairs[key]
        return None if pairs is None else evaluated_by_values(pairs, rows)

    def _from_scans(self, waiting: Sequence[tuple[PartRecord, Rows, Path | str]]) -> bool:
        paths = [path for _, _, path in waiting]
        crew = (self.crew or partial(crew_for, None, JOBS))(len(paths))
        with closing(crew.map(Looking(self.plan), paths)) as coming:
            try:
                for done, (part, rows, _) in enumerate(waiting):
                    if not self.progress(done, len(waiting), f"scan of part {part.number}"):
                        return False
                    self._land(part, rows, next(coming))
            finally:
                self._keep()
        return True

    def _land(self, part: PartRecord, rows: Rows, found: Evaluated | Lost) -> None:
        """Take what was found on a scan; only what is known is kept, so that the rest is tried again."""
        if isinstance(found, Lost):
            self.undecided.append((part, found.reason))
        elif found.trouble and not found.rows:
            self.undecided.append((part, found.trouble))
        elif self.scans and part.serial and found.serial not in ("", part.serial):
            self.undecided.append((part, f"The scan there is of another part, {found.serial}."))
        else:
            self.by_scans += 1
            change = self._take(part, rows, found.rows)
            self.new[part.id] = None if change is None else change.as_json()
        if len(self.new) >= CHECKPOINT or time.monotonic() - self.kept > EVERY:
            self._keep()

    def _keep(self) -> None:
        if self.key is not None:
            on_record.checkpoint(self.records, self.key, self.new)
        self.new, self.kept = {}, time.monotonic()

    def _again(self, part: PartRecord, found: Any) -> None:
        """Take what was found on the scan of a part before it was stopped."""
        self.by_scans += 1
        if found is not None:
            self.changes.append(_change(part, found))

    def _take(self, part: PartRecord, before: Rows, rows: Rows) -> Change | None:
        """Note what is another now than on record."""
        then = {row.balloon: row.verdict for row in before}
        now = verdict_of(self.plan, rows)
        other = tuple((then.get(row.balloon), row) for row in rows if then.get(row.balloon) is not row.verdict)
        if now is part.verdict and not other:
            return None
        self.changes.append(Change(part, now, other))
        return self.changes[-1]


def _change(part: PartRecord, kept: Mapping[str, Any]) -> Change:
    return Change(part, Verdict(kept["now"]), tuple(_row(one) for one in kept["rows"]))


def _row(kept: Mapping[str, Any]) -> tuple[Verdict | None, CharacteristicResult]:
    """The verdict then, and a row as it is now, from what was kept of them."""
    then = kept["then"]
    row = CharacteristicResult(
        balloon=Balloon.parse(str(kept["balloon"])),
        name=kept["name"],
        step="",
        value=kept["value"],
        unit=kept["unit"],
        nominal=None,
        lower=None,
        upper=None,
        decimals=3,
        verdict=Verdict(kept["verdict"]),
        reason=kept["reason"],
        at=None,
    )
    return None if then is None else Verdict(then), row
