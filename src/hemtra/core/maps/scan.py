"""Scan of one part: the height map and its origin."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.text import plain


@dataclass(frozen=True)
class Scan:
    """A height map with its origin.

    name and serial come from files and codes and are kept as `plain` text. station: the snapshot of the station
    it was taken with, as its file would hold it. taken: ISO 8601 time.
    """

    data: HeightMap
    name: str = ""
    serial: str = ""
    taken: str = ""
    station: dict[str, Any] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"Scan({self.name!r}, serial {self.serial!r}, {self.data!r})"

    def __post_init__(self) -> None:
        for part in ("name", "serial", "taken"):
            object.__setattr__(self, part, plain(getattr(self, part)))
