"""Signals without Qt: something changed, and listeners are called."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


class Signal:
    """Calls its listeners in the order they came."""

    def __init__(self) -> None:
        self._listeners: list[Callable[..., Any]] = []

    def connect(self, listener: Callable[..., Any]) -> None:
        """Add a listener."""
        self._listeners.append(listener)

    def emit(self, *values: Any) -> None:
        """Call all listeners."""
        for listener in tuple(self._listeners):
            listener(*values)
