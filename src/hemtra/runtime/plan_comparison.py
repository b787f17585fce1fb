"""Effect of another plan: the parts of a tray or lot whose verdict it changes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.progress import Progress
from hemtra.runtime.lot_reevaluation import Change, LotReevaluation, reevaluate
from hemtra.storage.records import Records
from hemtra.storage.records.store import Lot


@dataclass(frozen=True)
class ChangedVerdict:
    """A part that has another verdict by the second plan. rows: the characteristics it comes from, in words."""

    part: str
    before: Verdict
    after: Verdict
    rows: tuple[str, ...] = ()


@dataclass(frozen=True)
class VerdictChanges:
    """Number of parts, those whose verdict changes, and undecided ones with the reason."""

    parts: int
    changes: tuple[ChangedVerdict, ...]
    undecided: tuple[tuple[str, str], ...] = ()

    @property
    def words(self) -> str:
        """Summarise in a sentence."""
        if not self.parts:
            return "There are no parts to try the two plans on."
        few = f"{len(self.changes)} of {self.parts} parts" if self.changes else f"none of {self.parts} parts"
        text = f"The verdict changes on {few}."
        return text + (f" Unknown: {len(self.undecided)}." if self.undecided else "")


def on_parts(
    before: Plan, after: Plan, parts: Iterable[tuple[str, Engine]], progress: Progress
) -> VerdictChanges:
    """The parts, each with its engine, whose verdict is another by the second plan.

    When `progress` asks to stop, only the parts tried so far are counted.
    """
    known = list(parts)
    changes = []
    tried = 0
    for done, (name, engine) in enumerate(known):
        if not progress(done, len(known), name):
            break
        one, other = engine.run(before), engine.run(after)
        tried += 1
        if one.verdict is not other.verdict:
            changes.append(ChangedVerdict(name, one.verdict, other.verdict, _rows(one, other)))
    return VerdictChanges(tried, tuple(changes))


def _rows(one: Result, other: Result) -> tuple[str, ...]:
    """The characteristics whose verdict is another."""
    then = {row.balloon: row.verdict for row in one.characteristics}
    found = [
        f"{row.balloon} {row.name} {then.get(row.balloon, 'new')} → {row.verdict} {row.reason}".rstrip()
        for row in other.characteristics
        if then.get(row.balloon) is not row.verdict
    ]
    there = {row.balloon for row in other.characteristics}
    gone = [f"{row.balloon} {row.name} is gone" for row in one.characteristics if row.balloon not in there]
    return (*found, *gone)


def on_lot(before: Plan, after: Plan, records: Records, lot: Lot, progress: Progress) -> VerdictChanges | None:
    """The parts of a lot whose verdict is another by the second plan; None when `progress` asked to stop.

    Both follow from values on record where these mean the same, else from kept scans.
    """
    first = reevaluate(records, lot, before, lambda done, of, what: progress(done, 2 * of, what))
    second = None
    if first is not None:
        second = reevaluate(records, lot, after, lambda done, of, what: progress(of + done, 2 * of, what))
    if first is None or second is None:
        return None
    undecided = {part.id: (f"{part.number} {part.serial}".strip(), why) for part, why in first.undecided}
    undecided |= {part.id: (f"{part.number} {part.serial}".strip(), why) for part, why in second.undecided}
    one, other = _verdicts(first), _verdicts(second)
    changes = []
    for key in sorted({*one, *other} - set(undecided)):
        part = (one.get(key) or other[key]).part
        then = one[key].now if key in one else part.verdict
        now = other[key].now if key in other else part.verdict
        if then is not now:
            rows = tuple(filter(None, other[key].words.split("; "))) if key in other else ()
            changes.append(ChangedVerdict(f"{part.number} {part.serial}".strip(), then, now, rows))
    return VerdictChanges(records.counts(lot).all, tuple(changes), tuple(undecided.values()))


def _verdicts(found: LotReevaluation) -> dict[int, Change]:
    """Change of each part, by its key."""
    return {change.part.id: change for change in found.changes}
