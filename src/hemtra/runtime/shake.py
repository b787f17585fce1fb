"""A shake test of a plan on a tray of scans, on all cores."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from multiprocessing import get_context

from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.core.shake.shaking import Case, Shaken, TriedPart, shaken
from hemtra.storage.scans import load_scan
from hemtra.storage.trays import TrayEntry
from hemtra.virtual.rescan import rescan_of

CHUNK = 25
"""Copies of a part that are made in one go."""


@dataclass(frozen=True)
class _Work:
    plan: Plan
    entry: TrayEntry
    cases: tuple[Case, ...]
    seed: int
    first: int


def shaken_tray(
    plan: Plan,
    entries: Sequence[TrayEntry],
    cases: Sequence[Case],
    *,
    seed: int = 0,
    jobs: int | None = None,
    progress: Progress = lambda done, of, what: True,
) -> list[Shaken]:
    """Result of every case on every part, in order; fewer where `progress` asked to stop.

    Raises `FileError` for a scan that cannot be read.
    """
    work = [
        _Work(plan, entry, tuple(cases[first : first + CHUNK]), seed, first)
        for entry in entries
        for first in range(0, len(cases), CHUNK)
    ]
    if jobs == 1:
        return _taken(work, map(_shaken, work), progress)
    with ProcessPoolExecutor(jobs or os.cpu_count(), mp_context=get_context("spawn")) as pool:
        waiting = [pool.submit(_shaken, one) for one in work]
        found = _taken(work, (future.result() for future in waiting), progress)
        for future in waiting:
            future.cancel()
    return found


def _taken(work: Sequence[_Work], results: Iterable[list[Shaken]], progress: Progress) -> list[Shaken]:
    """All results, or those until `progress` asked to stop."""
    found: list[Shaken] = []
    coming = iter(results)
    for done, one in enumerate(work):
        if not progress(done, len(work), one.entry.path.name):
            break
        found += next(coming)
    return found


def _shaken(work: _Work) -> list[Shaken]:
    scan = load_scan(work.entry.path)
    good = {"good": True, "bad": False, "not measurable": False}.get(work.entry.tag)
    part = TriedPart(work.entry.path.name, scan.data, good, rescan_of(scan))
    found = shaken(work.plan, part, work.cases, seed=work.seed, first=work.first)
    # plans are large, and nobody asks for them here
    return [replace(one, broken=tuple(replace(row, plan=None) for row in one.broken)) for one in found]
