"""Parts of the simulated line."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.virtual.cover import DEFECTS, make_cover
from hemtra.virtual.parts import Part, door_frame


@dataclass(frozen=True)
class OnBelt:
    """A kind of part that the virtual line can carry: its box in mm, z = 0 at its top face."""

    name: str
    width: float
    length: float
    height: float
    defects: tuple[str, ...]

    def part(self, seed: int, defect: str = "") -> Part:
        """A part of the simulated line."""
        if self is DOOR:
            return door_frame(seed)
        return make_cover(seed, {defect: None} if defect else None)


COVER = OnBelt("pump cover", 120.0, 80.0, 8.0, tuple(DEFECTS))
DOOR = OnBelt("door frame", 210.0, 80.0, 6.5, ())
