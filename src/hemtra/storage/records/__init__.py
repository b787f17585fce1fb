"""Records: what is kept of every part, in a database."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from hemtra.storage.records.store import Records

__all__ = ["Records"]


def __getattr__(name: str) -> Any:
    """`Records` when requested: databases take half a second to load, and results need the fields only."""
    if name == "Records":
        from hemtra.storage.records.store import Records

        return Records
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
