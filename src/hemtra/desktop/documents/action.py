"""User actions: one record each, from which menu, shortcuts, command search and help are made."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


def always() -> bool:
    """For what can be done at any time."""
    return True


@dataclass(frozen=True)
class Action:
    """A user action: its place in the menu, and its help."""

    id: str
    title: str
    group: str
    do: Callable[[], Any]
    enabled: Callable[[], bool] = always
    keys: str = ""
    help: str = ""
    while_locked: bool = False
    """Whether it may be done while editing is locked."""

    @property
    def has_plain_key(self) -> bool:
        """Whether its shortcut is a key without Ctrl or Alt, and no function key."""
        is_function = self.keys.startswith("F") and self.keys[1:].isdigit()
        return bool(self.keys) and "Ctrl" not in self.keys and "Alt" not in self.keys and not is_function
