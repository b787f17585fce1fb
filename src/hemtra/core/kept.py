"""The newest of what was computed, kept for as long as there is room."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

from cachetools import LRUCache

K = TypeVar("K")
V = TypeVar("V")


class Kept(Generic[K, V]):
    """Cache that drops the least recently used entry first. Safe to share between threads."""

    def __init__(self, most: int) -> None:
        self._held: LRUCache[K, V] = LRUCache(most)
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        """Return the entry of a key, None where there is none."""
        with self._lock:
            return self._held.get(key)

    def keep(self, key: K, value: V) -> V:
        """Keep a value; answers with it."""
        with self._lock:
            self._held[key] = value
        return value

    def hold(self, least: int) -> None:
        """Make room for at least so many entries."""
        with self._lock:
            if least > self._held.maxsize:
                larger: LRUCache[K, V] = LRUCache(least)
                larger.update(self._held)
                self._held = larger


class Derived(Generic[K, V]):
    """What follows from objects that never change, by identity: computed once for each while it is in use."""

    def __init__(self, made: Callable[[K], V], most: int) -> None:
        self._made = made
        self._kept: Kept[int, tuple[K, V]] = Kept(most)

    def __call__(self, one: K) -> V:
        """What follows from it."""
        known = self._kept.get(id(one))
        # an id may come again once its object is gone
        if known is None or known[0] is not one:
            known = self._kept.keep(id(one), (one, self._made(one)))
        return known[1]


class Turns(Generic[K]):
    """Keeps threads that want the same from making it twice: those that come later wait, and find it kept."""

    def __init__(self) -> None:
        self._taken: dict[K, threading.Lock] = {}
        self._lock = threading.Lock()

    @contextmanager
    def of(self, key: K) -> Iterator[None]:
        """The turn of one thread for a key; look again within it for what another may have kept."""
        with self._lock:
            turn = self._taken.setdefault(key, threading.Lock())
        with turn:
            try:
                yield
            finally:
                # whoever waits has the lock in hand; whoever comes now finds what was kept
                with self._lock:
                    self._taken.pop(key, None)
