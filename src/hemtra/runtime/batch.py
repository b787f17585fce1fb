"""Many scan files, one plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.plan.document import Plan
from hemtra.runtime.crews import Crew, Lost
from hemtra.storage.remote import local_copy, name_of
from hemtra.storage.scans import load_scan


@dataclass(frozen=True)
class Inspected:
    """Result of a file, or the error that kept it from being read."""

    path: str
    result: Result | None
    error: str = ""

    @property
    def name(self) -> str:
        """The last part of the path or address."""
        return name_of(self.path)


@dataclass(frozen=True)
class Inspecting:
    """Inspects a file by its path or address.

    covered: with the coverage of every value. whole: with all that was found, not only the rows.
    """

    plan: Plan
    covered: bool = False
    whole: bool = True

    def __call__(self, path: str) -> Inspected:
        """Result of one file; its maps stay where it was made."""
        try:
            scan = load_scan(local_copy(path))
            engine = Engine(scan.data, scan.serial)
            result = engine.run(self.plan)
        except HemtraError as error:
            return Inspected(path, None, str(error))
        result = engine.covered(result) if self.covered else result
        return Inspected(path, result.without_maps() if self.whole else result.rows_only())


def inspect_files(
    plan: Plan, paths: Sequence[str], crew: Crew, *, covered: bool = False, whole: bool = True
) -> Iterator[Inspected]:
    """Inspect files in the order given; one that cannot be read does not stop the others.

    paths: of files, or addresses that `local_copy` takes; covered, whole: see `Inspecting`. Closing the
    iterator cancels what has not started.
    """
    with closing(crew.map(Inspecting(plan, covered, whole), paths)) as coming:
        for path, found in zip(paths, coming, strict=True):
            yield Inspected(path, None, found.reason) if isinstance(found, Lost) else found
