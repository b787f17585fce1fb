"""The command `hemtra run`: a line without a window, with progress, and a summary at its end."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn
from rich.table import Table

from hemtra.core.events import Event
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.station.station import Station
from hemtra.outputs.service_manager import ServiceManager
from hemtra.runtime.logs import log
from hemtra.runtime.production import Done, Listeners, Production
from hemtra.runtime.run_setup import RunRequest, begin
from hemtra.storage.records.opening import masked

LOOK = 0.1
NAMED = 5
"""Parts that are named where more were lost."""


def run_line(
    plan: Plan,
    station: Station | None,
    asked: RunRequest,
    out: Console,
    err: Console,
    sample: Scan | None = None,
) -> int:
    """Run until all parts are through or it is stopped; returns the exit code.

    SIGTERM and SIGINT take no more parts and finish those that were taken; a second one ends at once, with what
    has no record named.
    """
    reporter = _Reporter(err)
    production = begin(plan, station, asked, Listeners(reporter.part, reporter.event), sample)
    with _stopped_by_signals(production), reporter.progress(asked.parts):
        manager = ServiceManager()
        production.start()
        manager.ready()
        while not production.wait(LOOK):
            manager.alive(f"{reporter.count} parts, {reporter.passed} pass")
            if production.stopping:
                manager.stopping()
    production.records.close()
    _summary(production, reporter, out)
    if production.log.unsignalled:
        print(f"hemtra: {production.log.unsignalled} parts were not signalled.", file=sys.stderr)
    if production.trouble:
        print(f"hemtra: {production.trouble}", file=sys.stderr)
    if production.trouble or production.log.unsignalled:
        return 2
    return 0 if reporter.count and reporter.passed == reporter.count else 1


class _Reporter:
    """Terminal output of a run."""

    def __init__(self, err: Console) -> None:
        self._err = err
        self._bar: Progress | None = None
        self._lock = threading.Lock()
        self.count = self.passed = 0
        self.reasons: dict[str, int] = {}
        self.events: dict[str, int] = {}
        self.began = time.monotonic()

    @contextmanager
    def progress(self, parts: int | None) -> Iterator[None]:
        """A bar, where somebody looks."""
        columns = TextColumn("run"), BarColumn(), TextColumn("{task.description}")
        with Progress(*columns, console=self._err, transient=True, disable=not self._err.is_terminal) as bar:
            self._bar, self._task = bar, bar.add_task("waiting for the first part", total=parts)
            yield

    def part(self, done: Done) -> None:
        """A part is through."""
        record = done.record
        known = {"event": "part", "number": record.number, "verdict": str(record.verdict)}
        log.info("part %d %s %s", record.number, record.verdict, record.reason, extra=known)
        if done.found.trace:
            log.error("part %d: %s", record.number, done.found.trace, extra=known)
        with self._lock:
            self.count += 1
            self.passed += record.verdict is Verdict.PASS
            for row in done.found.rows:
                if row.verdict is not Verdict.PASS:
                    key = f"{row.balloon} {row.name}"
                    self.reasons[key] = self.reasons.get(key, 0) + 1
        if self._bar is not None:
            words = f"{self.count} parts, {self.passed} pass · last {record.number} {record.verdict}"
            self._bar.update(self._task, advance=1, description=words)

    def event(self, event: Event) -> None:
        """Handle an event."""
        subject = f"{event.kind}, part {event.number}" if event.number else event.kind
        log.warning(
            "%s: %s",
            subject,
            event.text,
            extra={"event": event.kind, "number": event.number, "fields": dict(event.fields)},
        )
        with self._lock:
            self.events[event.kind] = self.events.get(event.kind, 0) + 1
        if not self._err.is_terminal or self._bar is None:
            return
        self._bar.console.print(f"{subject}: {event.text}")


@contextmanager
def _stopped_by_signals(production: Production) -> Iterator[None]:
    def stop(number: int, frame: FrameType | None) -> None:
        if production.stopping:
            lost = production.unfinished
            names = ", ".join([*lost[:NAMED], "…"] if len(lost) > NAMED else lost)
            words = f"hemtra: Ended at once; {len(lost)} parts that were taken have no record"
            print(f"{words}{': ' if lost else ''}{names}.", file=sys.stderr, flush=True)
            os._exit(128 + number)
        production.stop()

    before = {number: signal.signal(number, stop) for number in (signal.SIGTERM, signal.SIGINT)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _summary(production: Production, reporter: _Reporter, out: Console) -> None:
    counts, times = production.counts, production.times.now
    seconds = time.monotonic() - reporter.began
    table = Table(box=None, show_header=False)
    table.add_row("lot", production.lot.name)
    table.add_row("parts of this run", f"{reporter.count} in {seconds:.1f} s, {reporter.passed} pass")
    table.add_row("of the lot", f"{counts.passed} pass, {counts.failed} fail, {counts.missing} not measured")
    table.add_row("latency", f"{1000 * times.latency:.0f} ms median, {1000 * times.worst:.0f} ms at most")
    worst = sorted(reporter.reasons.items(), key=lambda item: -item[1])[:5]
    if worst:
        table.add_row("limiting characteristic", "; ".join(f"{name} ({count})" for name, count in worst))
    if reporter.events:
        table.add_row(
            "events", "; ".join(f"{kind} ({count})" for kind, count in sorted(reporter.events.items()))
        )
    table.add_row("records", masked(production.records.url))
    out.print(table)
