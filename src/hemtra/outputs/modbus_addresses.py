"""Addresses of Modbus coils, inputs and holding registers on the I/O module, from 0.

Coils: 0 ready, 1 busy, 2 heartbeat, 3 result, which changes with every part; the digital lines from 16 on.
Holding registers: 0 and 1 the running number of the part that the lines are about, low word first, and 2 its
verdict; the analogue outputs from 16 on. A module that can be wired by hand forces terminal n while its coil
512 + n is set, to what its coil 1024 + n says. Discrete inputs give each terminal as it is, forced or not.
"""

from __future__ import annotations

READY, BUSY, HEARTBEAT, RESULT = range(4)
LINES = 16
"""Coil of digital line 0, and register of analogue output 0."""
MOST_LINES = 256
FORCED, FORCED_TO = 512, 1024
"""Coils that force line 0, counted like the lines themselves, and what they force it to."""
COILS = FORCED_TO + LINES + MOST_LINES
PART_NUMBER, VERDICT = 0, 2
REGISTERS = LINES + MOST_LINES
NAMES = {READY: "ready", BUSY: "busy", HEARTBEAT: "heartbeat", RESULT: "result"}


def line_coil(line: int) -> int:
    """The coil of a digital line."""
    return LINES + min(line, MOST_LINES - 1)


def output_register(line: int) -> int:
    """The register of an analogue output."""
    return LINES + min(line, MOST_LINES - 1)
