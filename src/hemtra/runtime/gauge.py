"""The scans of a gauge study, evaluated one after the other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from hemtra.core.errors import HemtraError
from hemtra.core.gauge.study import Presented
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.runtime.batch import inspect_files
from hemtra.storage.study_lists import StudyEntry


def presented(plan: Plan, entries: Sequence[StudyEntry], progress: Progress, jobs: int = 1) -> list[Presented]:
    """What a plan finds on the scans of a list; a scan that cannot be read is an error of its own.

    Raises `HemtraError` where it was stopped.
    """
    found = []
    inspected = inspect_files(plan, [entry.scan for entry in entries], jobs)
    for done, (entry, item) in enumerate(zip(entries, inspected, strict=True)):
        if not progress(done, len(entries), entry.scan.name):
            raise HemtraError("The study was cancelled.")
        here = Presented(entry.part, entry.operator, entry.trial, tag=entry.tag, error=item.error)
        if item.result is not None:
            here = replace(here, verdict=str(item.result.verdict), rows=item.result.characteristics)
        found.append(here)
    return found


def unread(found: Sequence[Presented]) -> Iterator[str]:
    """Scans that could not be read, in words."""
    for one in found:
        if one.error:
            yield f"Part {one.part}, {one.operator}, trial {one.trial}: {one.error}"
