"""Readings of a gauge study: its scans evaluated, or taken from the records."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.recorded_values import comparable, evaluated_by_values, verdict_of
from hemtra.core.gauge.study import Presented
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.runtime.batch import inspect_files
from hemtra.runtime.crews import Crew, ThreadCrew
from hemtra.storage.records.evidence import evaluated_parts, plan_of
from hemtra.storage.records.store import Lot, Records
from hemtra.storage.study_lists import StudyEntry


def presented(
    plan: Plan, entries: Sequence[StudyEntry], progress: Progress, crew: Crew | None = None
) -> list[Presented]:
    """Evaluate a plan on the scans of a list; an unreadable scan is an error of its own.

    Raises `HemtraError` where it was stopped.
    """
    found = []
    paths = [str(entry.scan) for entry in entries]
    inspected = inspect_files(plan, paths, crew or ThreadCrew(), whole=False)
    for done, (entry, item) in enumerate(zip(entries, inspected, strict=True)):
        if not progress(done, len(entries), entry.scan.name):
            raise HemtraError("The study was cancelled.")
        here = Presented(entry.part, entry.operator, entry.trial, tag=entry.tag, error=item.error)
        if item.result is not None:
            here = replace(here, verdict=str(item.result.verdict), rows=item.result.characteristics)
        found.append(here)
    return found


def presented_on_record(
    plan: Plan, records: Records, lots: Mapping[str, Lot], progress: Progress
) -> list[Presented]:
    """Readings on record of parts in some lots, one lot per operator, as the plan evaluates them.

    lots: by operator. Serials name the parts; those of one serial in one lot are its trials, in their
    order. Raises `HemtraError` where a part has no serial, where the lots were inspected with several revisions
    of a plan or with one that measures otherwise than this one, or where it was stopped.
    """
    found: list[Presented] = []
    used: dict[int, str] = {}
    pairs = None
    for done, (operator, lot) in enumerate(lots.items()):
        if not progress(done, len(lots), lot.name):
            raise HemtraError("The study was cancelled.")
        trials: Counter[str] = Counter()
        for part, rows in evaluated_parts(records, lot):
            if not part.serial:
                raise HemtraError(
                    f"Part {part.number} of lot “{lot.name}” has no serial, so nothing says which part it was."
                )
            if part.revision_id not in used:
                used[part.revision_id] = f"part {part.number} of lot “{lot.name}”"
                pairs = comparable(plan_of(records, part), plan)
            if len(used) > 1:
                first, second = used.values()
                raise HemtraError(
                    f"The plan was changed within the study: {first} and {second} were inspected with different"
                    " revisions. Present all parts with one."
                )
            evaluated = None if pairs is None else evaluated_by_values(pairs, rows)
            if evaluated is None:
                raise HemtraError(
                    f"Lot “{lot.name}” was inspected with a revision of the plan that measures otherwise."
                    " Go back to that revision, or present the parts again."
                )
            trials[part.serial] += 1
            verdict = str(verdict_of(plan, evaluated))
            found.append(Presented(part.serial, operator, trials[part.serial], verdict, evaluated))
    return found


def unread(found: Sequence[Presented]) -> Iterator[str]:
    """Scans that could not be read, in words."""
    for one in found:
        if one.error:
            yield f"Part {one.part}, {one.operator}, trial {one.trial}: {one.error}"
