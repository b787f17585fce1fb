"""Messages to the user; without Qt, so that any thread may post one."""

from __future__ import annotations

import logging
import sys
import threading
from dataclasses import dataclass, field
from types import TracebackType
from typing import Literal

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.desktop.models.observe import Signal

log = logging.getLogger("hemtra")

Severity = Literal["info", "error"]


@dataclass(frozen=True)
class Notice:
    """One sentence or two for the user; actions are (label, action id) pairs."""

    text: str
    severity: Severity = "error"
    actions: tuple[tuple[str, str], ...] = field(default=())


class Notifications:
    """Collects notices; whoever listens shows them. Listeners may be called from any thread."""

    def __init__(self) -> None:
        self.notified = Signal()

    def post(self, notice: Notice) -> None:
        """Pass a notice on."""
        self.notified.emit(notice)

    def clear(self) -> None:
        """Dismiss the message posted last."""
        self.notified.emit(Notice("", "info"))

    def error(self, error: BaseException) -> None:
        """An expected error gives its own words; anything else is a bug, logged whole and said briefly."""
        if isinstance(error, HemtraError):
            text = str(error)
            if isinstance(error, NotMeasured):
                # reasons are written to stand after a name; alone they are a sentence
                text = f"{text[:1].upper()}{text[1:]}."
            self.post(Notice(text))
            return
        log.error("unexpected error", exc_info=error)
        first = next(iter(str(error).strip().splitlines()), "")
        self.post(
            Notice(
                f"Unexpected error ({type(error).__name__}: {first}). Your work is still here;"
                " save it under another name. The log says more."
            )
        )

    def install(self) -> None:
        """Catch what nobody caught, in any thread."""

        def from_main(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
            if issubclass(kind, KeyboardInterrupt):
                sys.__excepthook__(kind, error, trace)
            else:
                self.error(error)

        sys.excepthook = from_main
        threading.excepthook = lambda args: self.error(args.exc_value) if args.exc_value else None
