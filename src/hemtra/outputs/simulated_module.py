"""The simulated I/O module: a Modbus TCP server whose terminals can be forced by hand."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable
from typing import Any

from pymodbus.server import ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

from hemtra.core.errors import HemtraError
from hemtra.outputs.modbus_addresses import COILS, FORCED, FORCED_TO, LINES, MOST_LINES, REGISTERS

READ_INPUTS, WRITE_COILS = 2, (5, 15)
"""Modbus function codes."""


class IoBlock:
    """Content of the module, and the server that gives access to it."""

    def __init__(self) -> None:
        self.coils = [False] * COILS

    def terminals(self) -> list[bool]:
        """Each terminal as it is: as commanded, or as forced."""
        found = self.coils[: LINES + MOST_LINES]
        for address in range(len(found)):
            if self.coils[FORCED + address]:
                found[address] = self.coils[FORCED_TO + address]
        return found

    async def act(
        self,
        function: int,
        start: int,
        address: int,
        count: int,
        current: list[int],
        wanted: list[int] | list[bool] | None,
    ) -> None:
        """Keep what is written to coils, and show terminals as discrete inputs; as pymodbus requires."""
        if function in WRITE_COILS and wanted is not None:
            self.coils[address : address + len(wanted)] = [bool(value) for value in wanted]
        elif function == READ_INPUTS:
            for place, on in enumerate(self.terminals()):
                word, bit = divmod(place, 16)
                if bit == 0:
                    current[word] = 0
                current[word] |= on << bit

    def device(self) -> SimDevice:
        """The module as pymodbus serves it."""
        bits = [SimData(0, values=False, count=COILS, datatype=DataType.BITS)]
        words = [SimData(0, values=0, count=REGISTERS, datatype=DataType.REGISTERS)]
        return SimDevice(0, simdata=(bits, list(bits), words, list(words)), action=self.act)

    async def serve(self, host: str, port: int, ready: Callable[[int], None] = lambda port: None) -> None:
        """Serve until cancelled. Raises `HemtraError` when the port cannot be had."""
        server = ModbusTcpServer(self.device(), address=(host, port))
        try:
            task: Any = asyncio.ensure_future(server.serve_forever(background=True))
            await task
        except (OSError, RuntimeError) as error:
            raise HemtraError(
                f"Port {port} on {host} cannot be opened: {error}. Choose another port."
            ) from None
        ready(port)
        stopping = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, stopping.set)
        await stopping.wait()
        await server.shutdown()


def run_io_module(host: str, port: int, ready: Callable[[int], None] = lambda port: None) -> None:
    """Serve until SIGTERM or SIGINT."""
    asyncio.run(IoBlock().serve(host, port, ready))
