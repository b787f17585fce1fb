"""A shake test of a plan on a tray of scans, on all cores."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace

from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.core.shake.shaking import Case, Shaken, TriedPart, shaken
from hemtra.runtime.crews import Crew, Lost
from hemtra.storage.scans import load_scan
from hemtra.storage.trays import TrayEntry
from hemtra.virtual.rescan import rescan_of

CHUNK = 25
"""Copies of a part that are made in one go."""


@dataclass(frozen=True)
class Stretch:
    """Some of the cases on one part; first: the number of the first of them."""

    entry: TrayEntry
    cases: tuple[Case, ...]
    first: int


@dataclass(frozen=True)
class Shaking:
    """Tries a plan on copies of a part."""

    plan: Plan
    seed: int

    def __call__(self, stretch: Stretch) -> list[Shaken]:
        """Result of each case. Raises `FileError` for a scan that cannot be read."""
        entry = stretch.entry
        scan = load_scan(entry.path)
        good = {"good": True, "bad": False, "not measurable": False}.get(entry.tag)
        part = TriedPart(entry.path.name, scan.data, good, rescan_of(scan))
        found = shaken(self.plan, part, stretch.cases, seed=self.seed, first=stretch.first)
        # plans are large, and nobody requires them here
        return [replace(one, broken=tuple(replace(row, plan=None) for row in one.broken)) for one in found]


def stretches(entries: Sequence[TrayEntry], cases: Sequence[Case]) -> list[Stretch]:
    """All cases on all parts, in pieces of `CHUNK`."""
    return [
        Stretch(entry, tuple(cases[first : first + CHUNK]), first)
        for entry in entries
        for first in range(0, len(cases), CHUNK)
    ]


def shaken_tray(
    plan: Plan,
    entries: Sequence[TrayEntry],
    cases: Sequence[Case],
    crew: Crew,
    *,
    seed: int = 0,
    progress: Progress = lambda done, of, what: True,
) -> list[Shaken]:
    """Result of every case on every part, in order; fewer where `progress` asked to stop.

    Raises `FileError` for a scan that cannot be read, and `HemtraError` where workers died on one.
    """
    work, found = stretches(entries, cases), list[Shaken]()
    with closing(crew.map(Shaking(plan, seed), work)) as coming:
        for done, one in enumerate(work):
            if not progress(done, len(work), one.entry.path.name):
                break
            result = next(coming)
            if isinstance(result, Lost):
                raise HemtraError(f"{one.entry.path.name} could not be tried. {result.reason}")
            found += result
    return found
