"""Things with large arrays, handed to another process of this user through memory that both see.

A pipe would copy a scan of five megabytes four times, in pieces of 64 kilobytes.
"""

from __future__ import annotations

import mmap
import os
import pickle
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

APART = 64
"""Arrays begin at multiples of this, bytes."""


@dataclass(frozen=True)
class Lent:
    """A thing without its arrays, and where these are: the path of the memory, and from which byte to which."""

    thing: bytes
    path: str
    spans: tuple[tuple[int, int], ...]


def lend(thing: Any) -> tuple[Lent, int]:
    """What another process needs to take a thing, and a file to be closed once it has done so.

    The memory is gone with the last process that uses it, however that ends. Raises `OSError` without room.
    """
    buffers: list[pickle.PickleBuffer] = []
    body = pickle.dumps(thing, protocol=5, buffer_callback=buffers.append)
    spans, end = [], 0
    for buffer in buffers:
        start = -(-end // APART) * APART
        end = start + buffer.raw().nbytes
        spans.append((start, end))
    file = os.memfd_create("hemtra")
    try:
        os.ftruncate(file, max(end, 1))
        with mmap.mmap(file, 0) as memory:
            for (start, stop), buffer in zip(spans, buffers, strict=True):
                memory[start:stop] = buffer.raw()
    except BaseException:
        os.close(file)
        raise
    return Lent(body, f"/proc/{os.getpid()}/fd/{file}", tuple(spans)), file


@contextmanager
def lent_for_trial() -> Iterator[Lent | None]:
    """Something to try whether others can take it; None where this system lends no memory."""
    try:
        lent, file = lend(None)
    except (OSError, AttributeError):
        yield None
        return
    try:
        yield lent
    finally:
        os.close(file)


def taken(lent: Lent) -> Any:
    """The thing, whose arrays are that memory and read-only. Raises `OSError` where it is out of reach."""
    file = os.open(lent.path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        memory = memoryview(mmap.mmap(file, 0, prot=mmap.PROT_READ))
    finally:
        os.close(file)
    return pickle.loads(lent.thing, buffers=[memory[start:end] for start, end in lent.spans])
