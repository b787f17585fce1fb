"""A small window on the I/O module: each terminal as it is, and forcing it to check the wiring."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt, QTimer, Slot
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.plan.signals import FULL, AnySignal, Digital
from hemtra.core.station.io_and_storage import IoBlock
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.widgets import theme, units
from hemtra.outputs.modbus_addresses import NAMES, line_coil, output_register

FORCES = (
    (True, "force on", "Switch the terminal on, regardless of its signal."),
    (False, "force off", "Switch the terminal off, regardless of its signal."),
    (None, "release", "Let the terminal follow its signal again."),
)
LOOK = 200
"""Interval between readings, ms."""


@dataclass(frozen=True)
class IoRequest:
    """Read the module; force a terminal on or off first, or release it with None."""

    io: IoBlock
    terminals: int
    registers: int
    force: tuple[int, bool | None] | None = None


@dataclass(frozen=True)
class IoState:
    """Terminals and registers; both empty, and why, where the module does not answer."""

    terminals: tuple[bool, ...] = ()
    registers: tuple[int, ...] = ()
    trouble: str = ""


def look(request: IoRequest, superseded: Superseded) -> Iterator[IoState]:
    """Once, beside the window."""
    from hemtra.outputs.modbus_monitor import Wiring  # loads a library

    wiring = Wiring(request.io.host, request.io.port, request.io.unit)
    try:
        if request.force is not None:
            wiring.force(*request.force)
        yield IoState(tuple(wiring.terminals(request.terminals)), tuple(wiring.outputs(request.registers)))
    except OSError as error:
        yield IoState(trouble=f"{request.io.host}:{request.io.port}: {error}")
    finally:
        wiring.close()


class IoWindow(QWidget):
    """Shows ready, busy, heartbeat and the plan's signals."""

    def __init__(
        self,
        io: IoBlock,
        signals: tuple[AnySignal, ...],
        may_force: Callable[[Callable[[], None]], None],
        parent: QWidget,
    ) -> None:
        """may_force: does what it is given once forcing is allowed."""
        super().__init__(parent, Qt.WindowType.Window)
        self.setProperty("manual", "signals.md")
        self.setWindowTitle(f"I/O module {io.host}:{io.port}")
        self.setObjectName("workspace")
        self.resize(420, 300)
        self._io, self._signals, self._may_force = io, signals, may_force
        self._lane = LatestTaskWorker(look, "io window", self)
        self._lane.responded.connect(self._on_seen)
        self.states: dict[int, QLabel] = {}
        self.outputs: dict[int, QLabel] = {}
        self.forced: dict[int, bool | None] = {}
        self.buttons: dict[tuple[int, bool | None], QPushButton] = {}
        layout = QVBoxLayout(self)
        self.message = QLabel("Asking …")
        self.message.setObjectName("muted")
        layout.addWidget(self.message)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        layout.addLayout(self._grid)
        layout.addStretch()
        rows = [(address, name) for address, name in NAMES.items()]
        rows += [(line_coil(s.line), f"{s.line}  {s.name}") for s in signals if isinstance(s, Digital)]
        for line, (address, name) in enumerate(rows):
            self._add_terminal(line, address, name)
        for line, signal in enumerate((s for s in signals if not isinstance(s, Digital)), start=len(rows)):
            label = QLabel()
            label.setMinimumWidth(label.fontMetrics().horizontalAdvance("00.00 mA   00000 counts") + 8)
            self._grid.addWidget(QLabel(f"{signal.line}  {signal.name}"), line, 0)
            self._grid.addWidget(label, line, 1)
            self.outputs[output_register(signal.line)] = label
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK)
        self._timer.timeout.connect(self._ask)
        self._timer.start()
        self._ask()

    def _add_terminal(self, line: int, address: int, name: str) -> None:
        state = QLabel("–")
        self.states[address] = state
        self._grid.addWidget(QLabel(name), line, 0)
        self._grid.addWidget(state, line, 1)
        buttons = QHBoxLayout()
        for on, title, help_text in FORCES:
            button = QPushButton(title)
            button.setToolTip(help_text)
            button.setObjectName("action")
            button.setAccessibleName(f"{name}: {title}")
            button.clicked.connect(partial(self.force, address, on))
            buttons.addWidget(button)
            self.buttons[address, on] = button
        self._grid.addLayout(buttons, line, 2)

    def force(self, address: int, on: bool | None) -> None:
        """Force a terminal, or let it follow its signal again."""

        def do() -> None:
            self.forced[address] = on
            self._timer.start()
            self._ask((address, on))

        self._may_force(do)

    @property
    def idle(self) -> bool:
        """Whether nothing is asked."""
        return self._lane.idle

    @Slot()
    def _ask(self, force: tuple[int, bool | None] | None = None) -> None:
        terminals = max(self.states) + 1
        registers = max(self.outputs, default=1) + 1
        self._lane.submit(IoRequest(self._io, terminals, registers, force))

    @Slot(object, object)
    def _on_seen(self, request: IoRequest, seen: IoState) -> None:
        self.message.setText(seen.trouble or "Forced terminals stay forced until they are released.")
        for address, label in self.states.items():
            known = address < len(seen.terminals)
            on = known and seen.terminals[address]
            forced = "  forced" if self.forced.get(address) is not None else ""
            label.setText(f"{'●  on' if on else '○  off'}{forced}" if known else "–")
            tint = theme.colour("passed" if on else "muted").name()
            label.setStyleSheet(f"color: {tint}; font-weight: bold;")
        for signal in self._signals:
            if isinstance(signal, Digital):
                continue
            register = output_register(signal.line)
            if register < len(seen.registers):
                level = seen.registers[register] / signal.full * FULL[signal.span]
                unit = signal.span.split()[1]
                self.outputs[register].setText(
                    units.signed(f"{level:.2f} {unit}   {seen.registers[register]} counts")
                )

    def closeEvent(self, event: QCloseEvent) -> None:
        """Release everything that was forced."""
        self._timer.stop()
        for address, on in self.forced.items():
            if on is not None:
                self._lane.finish(IoRequest(self._io, 1, 1, (address, None)))
        self._lane.stop()
        event.accept()
