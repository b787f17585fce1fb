"""Signals of a run: from the verdict of a part to lines that switch, now or when it has got to a gate."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.signals import FULL, Analogue, AnySignal, Digital
from hemtra.core.station.gate import GateTracker, Switch
from hemtra.outputs.output import Output, OutputState, PartShown

TICK = 0.002
"""Interval between looks at the belt, s."""
FLUSH = 3.0
"""Waiting time for switches on their way to a gate when a run ends and the belt stands, s."""
CODES = {Verdict.PASS: 1, Verdict.FAIL: 2, Verdict.NOT_MEASURED: 3}
"""Codes of the verdict register; 4 is any other, 0 before the first part."""


@dataclass(frozen=True)
class Punctual:
    """Largest delays of signals, in s after a scan and in s after a part is at its gate; mm/s of the belt."""

    late: float = math.inf
    gate: float = math.inf
    speed: float = 0.0

    @property
    def room(self) -> float:
        """Largest distance of a part past its gate, mm."""
        return math.inf if math.isinf(self.gate) else self.gate * self.speed


@dataclass(frozen=True)
class Heard:
    """Listeners for the signals of a part; all are called later, on other threads.

    done: whether all of them got there. shown: its number, verdict and what switches at once stand
    there. late: something came too late, or not at all for that, in words.
    """

    done: Callable[[bool], None] = lambda sent: None
    shown: Callable[[], None] = lambda: None
    late: Callable[[str], None] = lambda words: None


@dataclass
class _Sending:
    """Frames of one part that are not answered yet."""

    left: int
    heard: Heard
    all_sent: bool = True

    def answered(self, at: float | None) -> None:
        self.left -= 1
        self.all_sent &= at is not None
        if self.left == 0:
            self.heard.done(self.all_sent)


class Signaller:
    """Turns parts into states of an output, and follows those in flight by the encoder.

    travel: mm the belt has moved by now, None without an encoder; delayed signals then go out at once.
    """

    def __init__(
        self,
        signals: Sequence[AnySignal],
        output: Output,
        travel: Callable[[], float | None] = lambda: None,
        punctual: Punctual = Punctual(),
    ) -> None:
        self.output, self.punctual = output, punctual
        self._signals, self._travel = signals, travel
        self._tracker = GateTracker()
        self._lock = threading.Lock()
        self._waiting: dict[int, tuple[_Sending, int]] = {}
        """Listener and number of switches left, by part in flight."""
        self._parts = 0
        self._result = self._refuses = False
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._tick, name="gate", daemon=True)

    def start(self) -> None:
        """Connect, and be ready; lines stand as where there is no part."""
        self.output.start()
        resting = {s.line: s.inverted for s in self._signals if isinstance(s, Digital)}
        self.output.put(OutputState(resting, ready=True, busy=False))
        self._thread.start()

    def busy(self, on: bool) -> None:
        """Whether parts are being evaluated."""
        self.output.put(OutputState(busy=on, only_newest=True))

    def ready(self, on: bool) -> None:
        """Whether the run takes parts."""
        self.output.put(OutputState(ready=on, only_newest=True))

    @property
    def farthest(self) -> float:
        """Travel after which the last of a part's signals has switched, mm."""
        return max((s.delay for s in self._signals if isinstance(s, Digital)), default=0.0)

    def refuse_what_lies_there(self) -> None:
        """Switch every delayed line as for a part that was not measured, until its gate sees the next parts.

        For a line that was cut off: what lies between photo-eye and gate is unknown. Before `start`.
        """
        self._refuses = True

    def _refuse(self, now: float) -> None:
        for signal in self._signals:
            if not isinstance(signal, Digital) or signal.delay <= 0.0:
                continue
            on = signal.state(Verdict.NOT_MEASURED, ())
            self._tracker.put(now, signal.line, on)
            if signal.pulse > 0.0:
                self._tracker.put(now + signal.delay, signal.line, signal.inverted)

    def part(
        self,
        number: int,
        verdict: Verdict,
        rows: Sequence[CharacteristicResult],
        travel: float | None,
        heard: Heard = Heard(),
        waited: float = 0.0,
    ) -> None:
        """Signal a part. travel: of its trigger. waited: s that have gone by since its scan was complete."""
        now = self._travel()
        followed = now is not None and travel is not None
        at_once: dict[int, bool] = {}
        later: list[tuple[float, Digital, bool]] = []
        missed = False
        for signal in self._signals:
            if not isinstance(signal, Digital):
                continue
            on = signal.state(verdict, rows)
            far = signal.delay if followed else 0.0
            if far <= 0.0 and signal.pulse <= 0.0:
                at_once[signal.line] = on
            elif on is signal.inverted and signal.pulse > 0.0:
                continue  # a pulse is only given where the line is to be on; a level is always set
            else:
                at = (travel or 0.0) + far if far else -1.0
                if far and (now or 0.0) - at > self.punctual.room:
                    over = (now or 0.0) - at
                    heard.late(f"{signal.name}: the part had passed its gate by {over:.0f} mm already")
                    missed = True
                    if signal.pulse > 0.0:
                        continue  # it would push the next part
                later.append((at, signal, on))
        levels = {s.line: s.counts(rows) for s in self._signals if isinstance(s, Analogue)}
        sending = _Sending(1 + len(later), heard, all_sent=not missed)
        with self._lock:
            # numbers begin again with a lot, so a count of their own distinguishes parts in flight
            self._parts += 1
            self._result = not self._result
            shown = PartShown(number, CODES.get(verdict, 4), self._result)
            for at, digital, on in later:
                self._tracker.put(at, digital.line, on, pulse=digital.pulse / 1000.0, part=self._parts)
            if later:
                self._waiting[self._parts] = sending, len(later)

        def answered(at: float | None) -> None:
            if at is not None:
                heard.shown()
            sending.answered(at)

        self.output.put(
            OutputState(
                at_once,
                levels,
                shown,
                done=answered,
                deadline=time.monotonic() + self.punctual.late - waited,
                late=lambda: heard.late(f"its signals were not acknowledged within {self.punctual.late:g} s"),
            )
        )

    @property
    def states(self) -> tuple[tuple[str, str, bool], ...]:
        """Name of each signal, its state in words, and whether it is on."""
        lines, levels = self.output.lines, self.output.levels
        found = []
        for signal in self._signals:
            if isinstance(signal, Digital):
                on = lines.get(signal.line, False)
                found.append((signal.name, "on" if on else "off", on))
            else:
                level = levels.get(signal.line, 0) / signal.full * FULL[signal.span]
                found.append((signal.name, f"{level:.2f} {signal.span.split()[1]}", False))
        return tuple(found)

    @property
    def in_flight(self) -> int:
        """Switches on their way to a gate."""
        return self._tracker.in_flight

    def stop(self) -> bool:
        """Let what is in flight get to its gate while the belt moves, and pulses end; then be ready no more.

        Whether all of it got there.
        """
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
                sending.answered(None)
        through = not self._tracker.in_flight
        self.output.put(OutputState(ready=False, busy=False, only_newest=True))
        self.output.stop()
        return through

    def _tick(self) -> None:
        while not self._stopping.wait(TICK):
            with self._lock:
                now = self._travel()
                if self._refuses and now is not None:
                    self._refuses = False
                    self._refuse(now)
                switches = self._tracker.advance(now or 0.0, time.monotonic())
                for switch in switches:
                    self.output.put(self._frame(switch))

    def _frame(self, switch: Switch) -> OutputState:
        sending, _ = self._waiting.get(switch.part, (None, 0))
        done = self._answer_of(switch.part)
        if sending is None:
            return OutputState({switch.line: switch.on}, done=done)
        words = f"a switch at its gate was not acknowledged within {1000 * self.punctual.gate:.0f} ms"
        late, heard = time.monotonic() + self.punctual.gate, sending.heard
        return OutputState({switch.line: switch.on}, done=done, deadline=late, late=lambda: heard.late(words))

    def _answer_of(self, part: int) -> Callable[[float | None], None]:
        """Part of a switch; nobody where it only ends a pulse."""
        sending, left = self._waiting.pop(part, (None, 0))
        if sending is None:
            return _nobody
        if left > 1:
            self._waiting[part] = sending, left - 1
        return sending.answered


def _nobody(at: float | None) -> None:
    """The end of a pulse is no news to anybody."""
