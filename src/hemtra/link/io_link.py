"""The link to an I/O block over Modbus TCP: what it should show, written as soon as it changes and watched."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TypeVar

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ModbusException

from hemtra.link.addresses import HEARTBEAT, LINES, MOST_LINES, PART_NUMBER, READY

T = TypeVar("T")
BEAT = 0.25
"""s between two changes of the heartbeat, which is also the look whether the block still answers."""
ANSWER = 0.4
"""s an answer may take; together with the beat a lost link is seen within 0.7 s."""
AGAIN = 0.5
"""s between two attempts to reach the block."""
MOST_BITS, MOST_WORDS = 1900, 120
"""Coils and registers of one request."""

log = logging.getLogger(__name__)
# it tells of every attempt to connect; what matters of that is told by the link itself
logging.getLogger("pymodbus").setLevel(logging.CRITICAL)


@dataclass(frozen=True)
class Frame:
    """What changes at once: coils and registers by address, and who wants to know whether it got there."""

    coils: Mapping[int, bool] = field(default_factory=dict)
    registers: Mapping[int, int] = field(default_factory=dict)
    done: Callable[[bool], None] = lambda sent: None


class IoLink:
    """One thread talks to the block; nobody else ever waits for it.

    Frames are written one by one in the order they came, so that no pulse is lost between two. Where the block
    does not answer, what waits is told that it was not sent; the state is kept, and written whole once the
    block is back. `changed` hears of the link itself.
    """

    def __init__(
        self, host: str, port: int, unit: int = 1, changed: Callable[[bool], None] = lambda up: None
    ) -> None:
        self.host, self.port = host, port
        self._unit, self._changed = unit, changed
        self._coils = [False] * (LINES + 1)
        self._registers = [0] * (LINES + 1)
        self._waiting: deque[Frame] = deque()
        self._news = threading.Condition()
        self._stopping = False
        self._up: bool | None = None
        self._thread = threading.Thread(target=self._run, name="io-link", daemon=True)

    @property
    def up(self) -> bool:
        """Whether the block answers."""
        return bool(self._up)

    @property
    def coils(self) -> list[bool]:
        """What the coils should be."""
        with self._news:
            return list(self._coils)

    @property
    def registers(self) -> list[int]:
        """What the registers should hold."""
        with self._news:
            return list(self._registers)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """Write what waits, take `ready` away, and end."""
        self.put(Frame({READY: False}))
        with self._news:
            self._stopping = True
            self._news.notify()
        if self._thread.is_alive():
            self._thread.join()

    def put(self, frame: Frame) -> None:
        """Change what the block shows."""
        with self._news:
            self._waiting.append(frame)
            self._news.notify()

    def _take(self) -> Frame | None:
        """The next frame, taken into the state; None where none waits. Under the lock."""
        if not self._waiting:
            return None
        frame = self._waiting.popleft()
        for address, on in frame.coils.items():
            _stretch(self._coils, address, False)
            self._coils[address] = on
        for address, word in frame.registers.items():
            _stretch(self._registers, address, 0)
            self._registers[address] = word
        return frame

    # -- the thread -------------------------------------------------------------------------------

    def _run(self) -> None:
        client = ModbusTcpClient(self.host, port=self.port, timeout=ANSWER, retries=0, reconnect_delay=0)
        beat, due = False, 0.0
        while True:
            with self._news:
                while not self._waiting and not self._stopping and time.monotonic() < due:
                    self._news.wait(max(due - time.monotonic(), 0.0))
                frame = self._take()
                ending = self._stopping and not self._waiting
                coils, registers = list(self._coils), list(self._registers)
            if time.monotonic() >= due:
                beat, due = not beat, time.monotonic() + BEAT
            coils[HEARTBEAT] = beat
            sent = self._write(client, coils, registers)
            if frame is not None:
                frame.done(sent)
            if not sent:
                due = time.monotonic() + AGAIN
                ending = self._drop() or ending
            self._tell(sent)
            if ending:
                break
        with suppress(ModbusException, OSError):
            client.close()

    def _drop(self) -> bool:
        """Tell what waits that it was not sent, and keep the state; whether the end was asked for."""
        with self._news:
            dropped = []
            while (frame := self._take()) is not None:
                dropped.append(frame)
            ending = self._stopping
        for frame in dropped:
            frame.done(False)
        return ending

    def _write(self, client: ModbusTcpClient, coils: list[bool], registers: list[int]) -> bool:
        """The whole state, registers first: when a line changes, the part's number and values stand already."""
        try:
            if not client.connected and not client.connect():
                return False
            for first in range(0, len(registers), MOST_WORDS):
                piece = registers[first : first + MOST_WORDS]
                if client.write_registers(first, piece, device_id=self._unit).isError():
                    raise ModbusException("the block refused its registers")
            for first in range(0, len(coils), MOST_BITS):
                bits = coils[first : first + MOST_BITS]
                if client.write_coils(first, bits, device_id=self._unit).isError():
                    raise ModbusException("the block refused its coils")
        except (ModbusException, OSError) as error:
            log.info("I/O block %s:%d: %s", self.host, self.port, error)
            with suppress(ModbusException, OSError):
                client.close()
            return False
        return True

    def _tell(self, up: bool) -> None:
        if up is not self._up:
            self._up = up
            self._changed(up)


def line_coil(line: int) -> int:
    """The coil of a digital line."""
    return LINES + min(line, MOST_LINES - 1)


def output_register(line: int) -> int:
    """The register of an analogue output."""
    return LINES + min(line, MOST_LINES - 1)


def part_registers(number: int) -> dict[int, int]:
    """A running number as two words, low first."""
    return {PART_NUMBER: number & 0xFFFF, PART_NUMBER + 1: (number >> 16) & 0xFFFF}


def _stretch(state: list[T], address: int, blank: T) -> None:
    state.extend([blank] * (address + 1 - len(state)))
