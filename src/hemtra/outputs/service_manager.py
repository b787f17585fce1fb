"""Reports to the service manager (sd_notify(3)): ready, alive, and stopping."""

from __future__ import annotations

import os
import socket
import time
from contextlib import suppress


class ServiceManager:
    """Notifies systemd over the socket that it names; says nothing where nobody listens."""

    def __init__(self) -> None:
        named = os.environ.get("NOTIFY_SOCKET", "")
        # a name that begins with @ is of the abstract name space, which begins with a zero byte
        self._address = f"\0{named[1:]}" if named.startswith("@") else named
        own = os.environ.get("WATCHDOG_PID", str(os.getpid())) == str(os.getpid())
        limit = os.environ.get("WATCHDOG_USEC", "") if own else ""
        self._every = int(limit) / 1e6 / 2 if limit.isdecimal() and int(limit) else None
        self._last = 0.0

    def ready(self) -> None:
        """It runs."""
        self._say("READY=1")

    def alive(self, status: str = "") -> None:
        """It still does; called often, said half as often as the watchdog asks."""
        now = time.monotonic()
        if self._every is None or now - self._last < self._every:
            return
        self._last = now
        self._say("WATCHDOG=1" + (f"\nSTATUS={status}" if status else ""))

    def stopping(self) -> None:
        """It takes no more parts."""
        self._say("STOPPING=1")

    def _say(self, words: str) -> None:
        if not self._address:
            return
        # a manager that went away must not stop a line
        with suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as out:
            out.connect(self._address)
            out.send(words.encode())
