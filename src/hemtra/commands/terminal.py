"""What commands print to: the terminal or another program, and bars of progress."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

WIDE = 160
"""Columns of tables that go to a file or another program, which no screen limits."""
out = Console(width=None if sys.stdout.isatty() else WIDE, markup=False)
err = Console(stderr=True, markup=False)


@contextmanager
def progress(what: str, hidden: bool = False) -> Iterator[Progress]:
    """A bar on stderr, where that is a terminal."""
    columns = TextColumn(what), BarColumn(), MofNCompleteColumn(), TextColumn("{task.description}")
    quiet = hidden or not err.is_terminal
    with Progress(*columns, console=err, transient=True, disable=quiet) as bar:
        yield bar


@contextmanager
def progress_reporter(what: str) -> Iterator[Callable[[int, int, str], bool]]:
    """A bar moved by what is yielded, which work calls with its progress."""
    with progress(what) as bar:
        task = bar.add_task(what)

        def report(done: int, of: int, message: str) -> bool:
            bar.update(task, total=of, completed=done, description=message)
            return True

        yield report


def complain(message: str) -> None:
    """Say on stderr what went wrong."""
    print(f"hemtra: {message}", file=sys.stderr)
