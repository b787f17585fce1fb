"""Virtual parts that are not the cover: the bare belt, a plate, targets and gauges, an oven door frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.target import Piece, Target, stepped_wedge
from hemtra.virtual.cover import BELT, make_cover, parse_defect
from hemtra.virtual.runner import make_runner
from hemtra.virtual.shapes import relief_shape

AT_REST = Frame()
BRIGHT = 0.6


class Part(Protocol):
    """A part for the simulated sensor."""

    @property
    def serial(self) -> str:
        """Name of the part."""

    @property
    def pose(self) -> Frame:
        """Pose of the part at the station."""

    @property
    def size(self) -> tuple[float, float]:
        """Along x and along travel, in mm."""

    def shape(self) -> np.record:
        """The parameters of its surface, a record of `SHAPE`."""


@dataclass(frozen=True)
class Relief:
    """A part made of frustums, lying at `pose`."""

    target: Target
    size: tuple[float, float]
    serial: str = ""
    pose: Frame = AT_REST
    bump: tuple[float, float, float, float] = (0.0, 0.0, 1.0, 0.0)
    """x, y, radius and height in mm of what should not be there."""
    reflectance: float = field(default=BRIGHT)

    def shape(self) -> np.record:
        """The parameters of its surface."""
        rows = [
            (p.x, p.y, p.half_x, p.half_y, p.top, p.flank, float(p.round), self.reflectance)
            for p in self.target.pieces
        ]
        pieces = np.array(rows, np.float64).reshape(-1, 8)
        return relief_shape(pieces, self.target.base, self.bump)

    def posed(self, **pose: float) -> Relief:
        """Copy in another pose."""
        return replace(self, pose=replace(self.pose, **pose))


def bare_belt() -> Relief:
    """Nothing at all."""
    return Relief(Target("bare belt", (), BELT), (1.0, 1.0), "belt")


def plate(thickness: float = 6.0, bump: float = 0.0) -> Relief:
    """A flat plate, wider than two views; with a bump it is none."""
    top = Piece(0.0, 0.0, 150.0, 60.0, BELT + thickness)
    return Relief(Target("plate", (top,), BELT), (300.0, 120.0), "plate", bump=(20.0, 10.0, 4.0, bump))


def alignment_target() -> Relief:
    """The stepped wedge."""
    return Relief(stepped_wedge(BELT), (260.0, 80.0), "stepped wedge")


LOW_FACE, HIGH_FACE, DISC, APART = 3.0, 15.0, 16.0, 40.0
"""Heights of the gauge's two faces above the belt, diameter of its discs, and their distance, mm."""
DISCS = ((-20.0, -18.0), (20.0, -18.0), (-20.0, 22.0))


def gauge() -> Relief:
    """Two faces of known height, and three discs at known distances across and along travel."""
    faces = (
        Piece(-46.0, 0.0, 10.0, 16.0, BELT + LOW_FACE),
        Piece(46.0, 0.0, 10.0, 16.0, BELT + HIGH_FACE),
    )
    discs = tuple(Piece(x, y, DISC / 2, DISC / 2, BELT + 5.0, round=True) for x, y in DISCS)
    return Relief(Target("gauge", (*faces, *discs), BELT), (112.0, 60.0), "gauge")


def door_frame(seed: int) -> Relief:
    """An oven door frame, 210 mm wide, as two sensors side by side see it; the same seed gives the same one."""
    rng = np.random.default_rng(seed)
    top, rim = 3.0 + rng.normal(0, 0.02), 5.0 + rng.normal(0, 0.02)
    pieces = [
        Piece(0.0, 34.0, 105.0, 6.0, top, 0.3),
        Piece(0.0, -34.0, 105.0, 6.0, top, 0.3),
        Piece(96.0, 0.0, 9.0, 40.0, top, 0.3),
        Piece(-96.0, 0.0, 9.0, 40.0, top, 0.3),
        Piece(0.0, 37.0, 100.0, 1.5, rim, 0.3),
        Piece(0.0, -37.0, 100.0, 1.5, rim, 0.3),
    ]
    pieces += [Piece(x, y, 3.5, 3.5, rim + 1.5, round=True) for x in (-90.0, 0.0, 90.0) for y in (-31.0, 31.0)]
    pose = Frame(x=float(rng.uniform(-0.5, 0.5)), y=float(rng.uniform(-0.5, 0.5)))
    return Relief(Target("oven door frame", tuple(pieces), BELT), (210.0, 80.0), f"{seed:06d}", pose)


COVER_NAME, DOOR_NAME, RUNNER_NAME = "rain-pump-cover", "oven-door-frame", "drawer-runner"


def part_named(name: str, seed: int, defects: Sequence[str] = ()) -> Part:
    """A virtual part by its name, with defects as written on a command line. Raises `HemtraError`."""
    if name == COVER_NAME:
        return make_cover(seed, dict(parse_defect(text) for text in defects))
    if name == RUNNER_NAME:
        return make_runner(seed, dict(parse_defect(text) for text in defects))
    if name != DOOR_NAME:
        known = f"{COVER_NAME}, {RUNNER_NAME} and {DOOR_NAME}"
        raise HemtraError(f"There is no simulated part “{name}”; there are {known}.")
    if defects:
        raise HemtraError(f"The {DOOR_NAME} has no defects.")
    return door_frame(seed)
