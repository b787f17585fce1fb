"""An I/O module over Modbus TCP: what it should show is written as soon as it changes, and watched."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TypeVar

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ModbusException

from hemtra.outputs.modbus_addresses import (
    BUSY,
    HEARTBEAT,
    LINES,
    PART_NUMBER,
    READY,
    RESULT,
    VERDICT,
    line_coil,
    output_register,
)
from hemtra.outputs.output import OutputState

T = TypeVar("T")
BEAT = 0.25
"""Interval of the heartbeat, which also checks that the module still answers, s."""
ANSWER = 0.4
"""Time limit of an answer, s; together with the beat a lost link is detected within 0.7 s."""
AGAIN = 0.5
"""Interval between attempts to connect to the module, s."""
MOST_BITS, MOST_WORDS = 1900, 120
"""Coils and registers of one request."""
MOST_WAITING = 256
"""Frames in the queue at most; where more come, the oldest were not sent."""
APART = 16
"""Addresses that did not change, from which on two changes are two requests."""

log = logging.getLogger(__name__)
# it logs every attempt to connect; the link itself reports what matters of that
logging.getLogger("pymodbus").setLevel(logging.CRITICAL)


@dataclass(frozen=True)
class _Frame:
    """A state as coils and registers by address."""

    coils: Mapping[int, bool]
    registers: Mapping[int, int]
    state: OutputState

    @classmethod
    def of(cls, state: OutputState) -> _Frame:
        """With the addresses of this module."""
        coils = {line_coil(line): on for line, on in state.lines.items()}
        registers = {output_register(line): counts for line, counts in state.levels.items()}
        coils |= {address: on for address, on in ((READY, state.ready), (BUSY, state.busy)) if on is not None}
        if state.part is not None:
            coils[RESULT] = state.part.result
            registers |= part_registers(state.part.number, state.part.verdict)
        return cls(coils, registers, state)


class ModbusOutput:
    """Connection to the module on its own thread; nobody else waits for it.

    Frames are written in the order they came, several at once where none undoes another, so that no pulse and
    no part is lost between two; only what changed is written. What has waited past its deadline is not written
    any more. Where the module does not answer, what waits is reported as not sent; the state is kept, and
    written whole once the module is back. `changed` hears of the link itself.
    """

    def __init__(
        self, host: str, port: int, unit: int = 1, changed: Callable[[bool], None] = lambda up: None
    ) -> None:
        self.host, self.port = host, port
        self._unit, self._changed = unit, changed
        self._coils = [False] * (LINES + 1)
        self._registers = [0] * (LINES + 1)
        self._shown: tuple[list[bool], list[int]] | None = None
        """Known content of the module."""
        self._waiting: deque[_Frame] = deque()
        self._news = threading.Condition()
        self._stopping = False
        self._beat, self._due = False, 0.0
        self._up: bool | None = None
        self._thread = threading.Thread(target=self._run, name="modbus", daemon=True)

    @property
    def up(self) -> bool:
        """Whether the module answers."""
        return bool(self._up)

    @property
    def lines(self) -> Mapping[int, bool]:
        """Wanted states of the digital lines."""
        with self._news:
            return dict(enumerate(self._coils[LINES:]))

    @property
    def levels(self) -> Mapping[int, int]:
        """The counts that the analogue outputs should have."""
        with self._news:
            return dict(enumerate(self._registers[LINES:]))

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """Write what waits, take `ready` away, and end."""
        self.put(OutputState(ready=False, only_newest=True))
        with self._news:
            self._stopping = True
            self._news.notify()
        if self._thread.is_alive():
            self._thread.join()

    def put(self, state: OutputState) -> None:
        """Show a state, after those that were put before."""
        with self._news:
            self._waiting.append(_Frame.of(state))
            over = self._waiting.popleft() if len(self._waiting) > MOST_WAITING else None
            if over is not None:
                self._apply(over)
            self._news.notify()
        if over is not None:
            over.state.late()
            over.state.done(None)

    def _take(self) -> tuple[list[_Frame], list[_Frame]]:
        """Frames to write together, taken into the state, and those that are too late. Under the lock."""
        together: list[_Frame] = []
        late: list[_Frame] = []
        coils: dict[int, bool] = {}
        registers: dict[int, int] = {}
        while self._waiting:
            frame = self._waiting[0]
            if frame.state.deadline < time.monotonic():
                late.append(self._waiting.popleft())
                continue
            undoes = any(coils.get(address, on) is not on for address, on in frame.coils.items())
            undoes |= any(registers.get(a, word) != word for a, word in frame.registers.items())
            if undoes and not frame.state.only_newest:
                break
            together.append(self._waiting.popleft())
            self._apply(frame)
            if not frame.state.only_newest:
                coils |= frame.coils
                registers |= frame.registers
        return together, late

    def _apply(self, frame: _Frame) -> None:
        for address, on in frame.coils.items():
            _stretch(self._coils, address, False)
            self._coils[address] = on
        for address, word in frame.registers.items():
            _stretch(self._registers, address, 0)
            self._registers[address] = word

    # -- the thread -------------------------------------------------------------------------------

    def _run(self) -> None:
        client = ModbusTcpClient(self.host, port=self.port, timeout=ANSWER, retries=0, reconnect_delay=0)
        while self.step(client):
            pass
        with suppress(ModbusException, OSError):
            client.close()

    def step(self, client: ModbusTcpClient) -> bool:
        """Write what waits, or the heartbeat once it is due; whether there is more to come."""
        with self._news:
            while not self._waiting and not self._stopping and time.monotonic() < self._due:
                self._news.wait(max(self._due - time.monotonic(), 0.0))
            frames, late = self._take()
            ending = self._stopping and not self._waiting
            coils, registers = list(self._coils), list(self._registers)
        for frame in late:
            frame.state.late()
            frame.state.done(None)
        if time.monotonic() >= self._due:
            self._beat, self._due = not self._beat, time.monotonic() + BEAT
        coils[HEARTBEAT] = self._beat
        sent = self._write(client, coils, registers)
        now = time.monotonic()
        for frame in frames:
            if sent and now > frame.state.deadline:
                frame.state.late()
            frame.state.done(now if sent else None)
        if not sent:
            self._due = time.monotonic() + AGAIN
            ending = self._drop() or ending
        self._pass_on(sent)
        return not ending

    def _drop(self) -> bool:
        """Report to what waits that it was not sent, and keep the state; whether the end was requested."""
        with self._news:
            dropped = list(self._waiting)
            self._waiting.clear()
            for frame in dropped:
                self._apply(frame)
            ending = self._stopping
        for frame in dropped:
            frame.state.done(None)
        return ending

    def _write(self, client: ModbusTcpClient, coils: list[bool], registers: list[int]) -> bool:
        """Changes to write, registers first: number and values stand before a line changes."""
        bits, words = self._shown or ([], [])
        try:
            if not client.connected:
                bits, words = [], []
                if not client.connect():
                    return False
            for first, end in changes(words, registers, MOST_WORDS):
                if client.write_registers(first, registers[first:end], device_id=self._unit).isError():
                    raise ModbusException("the module refused its registers")
            for first, end in changes(bits, coils, MOST_BITS):
                if client.write_coils(first, coils[first:end], device_id=self._unit).isError():
                    raise ModbusException("the module refused its coils")
        except (ModbusException, OSError) as error:
            log.info("I/O module %s:%d: %s", self.host, self.port, error)
            self._shown = None
            with suppress(ModbusException, OSError):
                client.close()
            return False
        self._shown = coils, registers
        return True

    def _pass_on(self, up: bool) -> None:
        if up is not self._up:
            self._up = up
            self._changed(up)


def part_registers(number: int, verdict: int) -> dict[int, int]:
    """A running number as two words, low first, and the code of a verdict."""
    return {PART_NUMBER: number & 0xFFFF, PART_NUMBER + 1: (number >> 16) & 0xFFFF, VERDICT: verdict}


def changes(before: Sequence[object], after: Sequence[object], most: int) -> list[tuple[int, int]]:
    """First and end of the stretches that differ, at most so long; those a few apart are one."""
    found: list[tuple[int, int]] = []
    for k in range(len(after)):
        if k < len(before) and before[k] == after[k]:
            continue
        if found and k - found[-1][1] < APART and k - found[-1][0] < most:
            found[-1] = found[-1][0], k + 1
        else:
            found.append((k, k + 1))
    return found


def _stretch(state: list[T], address: int, blank: T) -> None:
    state.extend([blank] * (address + 1 - len(state)))
