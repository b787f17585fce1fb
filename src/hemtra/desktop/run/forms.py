"""The small windows of a line: I/O module, signals, and the PIN that locks editing."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

from hemtra.desktop.documents.session import Session
from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.run.io_window import IoWindow
from hemtra.desktop.run.pin_form import PinForm
from hemtra.desktop.run.signals_form import SignalsForm
from hemtra.runtime.io_process import IoProcess, started


class RunForms:
    """Each is there once; requested again, it opens anew."""

    def __init__(self, session: Session, run: RunBench) -> None:
        self._run = run
        self._session, self._lock, self._parent = session, session.lock, session.window
        self.io_window: IoWindow | None = None
        self.signals: SignalsForm | None = None
        self.pin: PinForm | None = None
        self._block: IoProcess | None = None

    def show_io_window(self) -> None:
        """Beside the window, on a simulated module that is started for it where none runs yet."""
        io, signals = self._session.station_bench.document.value.io, self._session.bench.document.plan.signals

        def done(block: IoProcess | None) -> None:
            self._block = block or self._block
            _discard(self.io_window)
            self.io_window = IoWindow(io, signals, self._may_force, self._parent)
            self.io_window.show()

        self._session.tasks.start("Asking the I/O module", lambda task: started(io), done)

    def show_signals(self) -> None:
        """Digital and analogue outputs per part."""
        _discard(self.signals)
        self.signals = SignalsForm(self._session.bench, self._run, self._session.edit_plan, self._parent)
        self.signals.show()

    def ask_pin(self, lock: Callable[[str], str], unlock: Callable[[str], str]) -> None:
        """Prompt for the PIN: a new one to lock with, or the one to unlock with; they answer what is wrong."""
        self._ask(self._parent, is_new=not self._lock.locked, take=unlock if self._lock.locked else lock)

    def _may_force(self, force: Callable[[], None]) -> None:
        """Force an output; while editing is locked, once the PIN was given."""
        if not self._lock.locked or self.io_window is None:
            force()
            return

        def take(pin: str) -> str:
            wrong = self._lock.wrong_with(pin)
            if not wrong:
                force()
            return wrong

        self._ask(self.io_window, is_new=False, take=take)

    def _ask(self, parent: QWidget, *, is_new: bool, take: Callable[[str], str]) -> None:
        if self.pin is not None and isValid(self.pin):  # it deletes itself
            self.pin.leave()
        self.pin = PinForm(parent, is_new=is_new, take=take)

    def close(self) -> None:
        """Close what is open beside the window."""
        for aside in (self.io_window, self.signals):
            if aside is not None:
                aside.close()

    def stop_block(self) -> None:
        """End the module that was started for looking."""
        if self._block is not None:
            self._block.stop()


def _discard(window: QWidget | None) -> None:
    """Close a window that another one replaces."""
    if window is not None:
        window.close()
        window.deleteLater()
