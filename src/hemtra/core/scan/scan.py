"""One record of one part: the height map and where it came from."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from hemtra.core.scan.heightmap import HeightMap


@dataclass(frozen=True)
class Scan:
    """A height map with its origin.

    station: the snapshot of the station it was taken with, as its file would hold it. taken: ISO 8601 time.
    """

    data: HeightMap
    name: str = ""
    serial: str = ""
    taken: str = ""
    station: dict[str, Any] = field(default_factory=dict)
