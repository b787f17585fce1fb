"""Terminal output: text or JSON, files or a pipe, and progress."""

from __future__ import annotations

import json
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from rich.console import Console

from hemtra.core.errors import HemtraError
from hemtra.core.progress import pace

WIDE = 160
"""Columns of tables that go to a file or another program, which no screen limits."""
EVERY = 10.0
"""Interval between lines of progress where stderr is no terminal, s."""
PIPE = "-"
"""Stands for standard output where a file is requested."""
out = Console(width=None if sys.stdout.isatty() else WIDE, markup=False)
err = Console(stderr=True, markup=False)
settings = {"quiet": False, "verbose": False}
"""Verbosity, from the options before a command."""


@contextmanager
def progress_reporter(what: str, hidden: bool = False) -> Iterator[Callable[[int, int, str], bool]]:
    """Progress callback: a bar on a terminal, else a line on stderr every `EVERY` seconds.

    Both say how fast it goes and what time is left. Nothing where `hidden` or quiet.
    """
    if hidden or settings["quiet"]:
        yield lambda done, of, message: True
    elif not err.is_terminal:
        yield _Lines(what)
    else:
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

        columns = (TextColumn(what), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
        with Progress(*columns, TextColumn("{task.description}"), console=err, transient=True) as bar:
            task, began = bar.add_task(what), time.monotonic()

            def report(done: int, of: int, message: str) -> bool:
                speed = done / max(time.monotonic() - began, 1e-9)
                rate = f"{speed:.3g}/s  " if done else ""
                bar.update(task, total=of, completed=done, description=f"{rate}{message}")
                return True

            yield report


class _Lines:
    """Progress for a log or another program."""

    def __init__(self, what: str, clock: Callable[[], float] = time.monotonic) -> None:
        self._what, self._clock = what, clock
        self._began = self._said = clock()

    def __call__(self, done: int, of: int, message: str) -> bool:
        """Print it, if the last line is old enough."""
        now = self._clock()
        if now - self._said >= EVERY or settings["verbose"]:
            self._said = now
            fast = ", ".join(filter(None, (f"{done} of {of}", pace(done, of, now - self._began))))
            print(f"{self._what}: {fast}: {message}", file=sys.stderr, flush=True)
        return True


@contextmanager
def destination(path: Path) -> Iterator[Path]:
    """The file to write; for “-” one whose content goes to standard output once it is whole."""
    if str(path) != PIPE:
        yield path
        return
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "output"
        yield made
        sys.stdout.flush()
        with made.open("rb") as held:
            shutil.copyfileobj(held, sys.stdout.buffer)
        sys.stdout.buffer.flush()


def alone_on_stdout(*paths: Path | None, as_json: bool = False) -> bool:
    """Whether one of some files goes to standard output. Raises `HemtraError` where two things would."""
    piped = sum(str(path) == PIPE for path in paths if path is not None)
    if piped + as_json * bool(piped) > 1:
        raise HemtraError("Only one output can go to standard output; name files for the others.")
    return bool(piped)


def note(message: str) -> None:
    """Print a result, unless quiet."""
    if not settings["quiet"]:
        out.print(message, soft_wrap=True)


def complain(message: str) -> None:
    """Print an error on stderr."""
    print(f"hemtra: {message}", file=sys.stderr)


def complain_as_json(message: str, code: int) -> None:
    """Print an error on standard output, for the program that reads it."""
    print(json.dumps({"error": message, "exit_code": code}, ensure_ascii=False), flush=True)
