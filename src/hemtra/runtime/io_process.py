"""The simulated I/O module as a process of its own, started where a station requires it."""

from __future__ import annotations

import ipaddress
import os
import subprocess
import sys
import time

from hemtra.core.errors import HemtraError
from hemtra.core.station.io_and_storage import IoBlock

PATIENCE = 45.0
"""Time limit of an answer, s."""


class IoProcess:
    """A module that was started here and ends with whoever started it."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        self._process = process

    def stop(self) -> None:
        """Switch it off."""
        self._process.terminate()
        try:
            self._process.wait(5.0)
        except subprocess.TimeoutExpired:
            self._process.kill()


def is_loopback(host: str) -> bool:
    """Whether an address is that of this computer alone."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def answers(io: IoBlock) -> bool:
    """Whether a module is there."""
    from hemtra.outputs.modbus_monitor import Wiring  # loads a library

    wiring = Wiring(io.host, io.port, io.unit)
    try:
        wiring.terminals(1)
    except OSError:
        return False
    finally:
        wiring.close()
    return True


def started(io: IoBlock) -> IoProcess | None:
    """The simulated module of a station, answering; None where it is not wanted, or there already.

    Raises `HemtraError` when it cannot be started.
    """
    if not io.host or not io.simulated or answers(io):
        return None
    if not is_loopback(io.host):
        raise HemtraError(
            f"The station has a simulated I/O module at {io.host}, where other computers reach it, which a"
            f" station file may not open. Start it with: hemtra io-module --host {io.host} --port"
            f" {io.port}."
        )
    command = [sys.executable, "-m", "hemtra", "io-module", "--host", io.host, "--port", str(io.port)]
    command += ["--parent", str(os.getpid())]
    # apart from the terminal, whose Ctrl-C is for whoever started it
    process = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    until = time.monotonic() + PATIENCE
    while not answers(io):
        if process.poll() is not None or time.monotonic() > until:
            process.kill()
            raise HemtraError(
                f"The simulated I/O module did not start on {io.host}:{io.port}; choose another port in the"
                " station."
            )
        time.sleep(0.05)
    return IoProcess(process)
