"""Signals of a run: from the verdict of a part to lines that switch, now or when it has got to a gate."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from hemtra.core.plan.limits import Judged, Verdict
from hemtra.core.plan.signals import FULL, Analogue, AnySignal, Digital
from hemtra.core.station.gate import GateTracker
from hemtra.link.addresses import BUSY, READY
from hemtra.link.io_link import Frame, IoLink, line_coil, output_register, part_registers

TICK = 0.002
"""s between two looks at the belt."""
FLUSH = 3.0
"""s that switches still on their way to a gate are waited for when a run ends and the belt stands."""


@dataclass
class _Sending:
    """Frames of one part that are not answered yet."""

    left: int
    all_sent: bool = True
    done: Callable[[bool], None] = field(default=lambda sent: None)

    def answered(self, sent: bool) -> None:
        self.left -= 1
        self.all_sent &= sent
        if self.left == 0:
            self.done(self.all_sent)


class Signaller:
    """Turns parts into frames for an I/O block, and follows those in flight by the encoder.

    travel: mm the belt has moved by now, None without an encoder; delayed signals then go out at once.
    """

    def __init__(
        self, signals: Sequence[AnySignal], link: IoLink, travel: Callable[[], float | None] = lambda: None
    ) -> None:
        self.link = link
        self._signals, self._travel = signals, travel
        self._tracker = GateTracker()
        self._lock = threading.Lock()
        self._waiting: dict[int, tuple[_Sending, int]] = {}
        """By part in flight, what answers for it, and how many switches are still to come."""
        self._parts = 0
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._tick, name="gate", daemon=True)

    def start(self) -> None:
        """Connect, and be ready."""
        self.link.start()
        self.link.put(Frame({READY: True, BUSY: False}))
        self._thread.start()

    def busy(self, on: bool) -> None:
        """Whether parts are being judged."""
        self.link.put(Frame({BUSY: on}))

    def ready(self, on: bool) -> None:
        """Whether the run takes parts."""
        self.link.put(Frame({READY: on}))

    def part(
        self,
        number: int,
        verdict: Verdict,
        rows: Sequence[Judged],
        travel: float | None,
        done: Callable[[bool], None],
    ) -> None:
        """Signal a part; `done` hears whether all of it reached the block, later and on another thread."""
        coils: dict[int, bool] = {}
        later: list[tuple[float, Digital, bool]] = []
        now = self._travel()
        for signal in self._signals:
            if not isinstance(signal, Digital):
                continue
            on = signal.state(verdict, rows)
            far = signal.delay if now is not None and travel is not None else 0.0
            if far > 0.0 or signal.pulse > 0.0:
                later.append(((travel or 0.0) + far if far else -1.0, signal, on))
            else:
                coils[line_coil(signal.line)] = on
        words = part_registers(number)
        for signal in self._signals:
            if isinstance(signal, Analogue):
                words[output_register(signal.line)] = signal.counts(rows)
        # a pulse is only given where the line is to be on; a level is always set
        switched = [(at, s, on) for at, s, on in later if on is not s.inverted or s.pulse == 0.0]
        sending = _Sending(1 + len(switched), done=done)
        with self._lock:
            # numbers begin again with a lot, so parts in flight are told apart by a count of their own
            self._parts += 1
            for at, digital, on in switched:
                coil = line_coil(digital.line)
                self._tracker.put(at, coil, on, pulse=digital.pulse / 1000.0, part=self._parts)
            if switched:
                self._waiting[self._parts] = sending, len(switched)
        self.link.put(Frame(coils, words, sending.answered))

    @property
    def states(self) -> tuple[tuple[str, str, bool], ...]:
        """Of each signal its name, its state in words, and whether it is on."""
        coils, registers = self.link.coils, self.link.registers
        found = []
        for signal in self._signals:
            if isinstance(signal, Digital):
                coil = line_coil(signal.line)
                on = coil < len(coils) and coils[coil]
                found.append((signal.name, "on" if on else "off", on))
            else:
                register = output_register(signal.line)
                counts = registers[register] if register < len(registers) else 0
                level = counts / signal.full * FULL[signal.span]
                found.append((signal.name, f"{level:.2f} {signal.span.split()[1]}", False))
        return tuple(found)

    @property
    def in_flight(self) -> int:
        """Switches on their way to a gate."""
        return self._tracker.in_flight

    def stop(self) -> None:
        """Let what is in flight get to its gate while the belt moves, and pulses end; then be ready no more."""
        before, since = self._travel(), time.monotonic()
        while (self._tracker.in_flight or self._tracker.pulsing) and time.monotonic() - since < FLUSH:
            time.sleep(TICK)
            now = self._travel()
            if now is not None and now != before:
                before, since = now, time.monotonic()
        self._stopping.set()
        self._thread.join()
        for sending, left in self._waiting.values():
            for _ in range(left):
                sending.answered(False)
        self.link.put(Frame({READY: False, BUSY: False}))
        self.link.stop()

    def _tick(self) -> None:
        while not self._stopping.wait(TICK):
            with self._lock:
                switches = self._tracker.advance(self._travel() or 0.0, time.monotonic())
                for switch in switches:
                    self.link.put(Frame({switch.line: switch.on}, done=self._answer_of(switch.part)))

    def _answer_of(self, part: int) -> Callable[[bool], None]:
        """Who wants to know of a switch: its part, or nobody, where it only ends a pulse."""
        sending, left = self._waiting.pop(part, (None, 0))
        if sending is None:
            return _nobody
        if left > 1:
            self._waiting[part] = sending, left - 1
        return sending.answered


def _nobody(sent: bool) -> None:
    """The end of a pulse is no news to anybody."""
