"""Looking at the terminals of an I/O module and forcing them, to check what is wired to them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ModbusException

from hemtra.outputs.modbus import ANSWER
from hemtra.outputs.modbus_addresses import FORCED, FORCED_TO


class Wiring:
    """Reads and forces the terminals of a module, to check the wiring. Raises `OSError`."""

    def __init__(self, host: str, port: int, unit: int = 1) -> None:
        self._client = ModbusTcpClient(host, port=port, timeout=ANSWER, retries=0, reconnect_delay=0)
        self._unit = unit

    def terminals(self, count: int) -> list[bool]:
        """The first terminals as they are, ready, busy and heartbeat among them."""
        found = self._asked(lambda: self._client.read_discrete_inputs(0, count=count, device_id=self._unit))
        return [bool(bit) for bit in found.bits[:count]]

    def outputs(self, count: int) -> list[int]:
        """Holding registers from 0 on."""
        found = self._asked(lambda: self._client.read_holding_registers(0, count=count, device_id=self._unit))
        return [int(word) for word in found.registers[:count]]

    def force(self, address: int, on: bool | None) -> None:
        """Force a terminal on or off, or let it follow its coil again with None."""
        if on is not None:
            self._asked(lambda: self._client.write_coil(FORCED_TO + address, on, device_id=self._unit))
        self._asked(lambda: self._client.write_coil(FORCED + address, on is not None, device_id=self._unit))

    def close(self) -> None:
        """Release it."""
        self._client.close()

    def _asked(self, request: Callable[[], Any]) -> Any:
        try:
            if not self._client.connected and not self._client.connect():
                raise OSError("the I/O module does not answer")
            answer = request()
        except ModbusException as error:
            self._client.close()
            raise OSError(str(error)) from error
        if answer.isError():
            raise OSError("the I/O module refused the request")
        return answer
