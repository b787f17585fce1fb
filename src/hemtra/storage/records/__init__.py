"""Records: what is kept of every part, in a database."""

from hemtra.storage.records.store import Records

__all__ = ["Records"]
