"""Many scan files, one plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.plan.document import Plan
from hemtra.storage.scans import load_scan


@dataclass(frozen=True)
class Inspected:
    """Result of a file, or the error that kept it from being read."""

    path: Path
    result: Result | None
    error: str = ""
    engine: Engine | None = None
    """Engine that evaluated it, for a closer look."""


def inspect_files(plan: Plan, paths: Sequence[Path], jobs: int = 1) -> Iterator[Inspected]:
    """Inspect files in the order given, `jobs` at a time; one unreadable file does not stop the others.

    Threads, since reading, hashing and the kernels all release the interpreter lock. Closing the iterator
    cancels what has not started.
    """
    with ThreadPoolExecutor(max_workers=max(1, jobs)) as pool:
        pending = [pool.submit(_inspect_file, plan, path) for path in paths]
        try:
            for future in pending:
                yield future.result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def _inspect_file(plan: Plan, path: Path) -> Inspected:
    try:
        scan = load_scan(path)
        engine = Engine(scan.data, scan.serial)
        return Inspected(path, engine.run(plan), engine=engine)
    except HemtraError as error:
        return Inspected(path, None, str(error))
