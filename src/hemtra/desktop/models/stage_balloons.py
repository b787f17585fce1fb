"""Balloons on the stage: which are shown, their anchor points, and their places."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.core.balloon_layout import Box, place_balloons, points_at
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.desktop.models.bench import Shown
from hemtra.desktop.models.viewport import Extent, Pixel, Viewport

LARGEST, SMALLEST = 11.0, 8.0
"""Radius of a balloon in pixels: smaller where many stand beside a low stage."""
ROOM = 28.0
"""Gap between the part and the balloons beside it, and between them and the border of the stage, pixels."""
TOP, BOTTOM = 50.0, 44.0
"""Margin above and below the balloons, for the buttons and the prompt, pixels."""
BESIDE = 2 * ROOM
"""Margin left and right of the part for its balloons, pixels."""


@dataclass(frozen=True)
class StageBalloon:
    """A balloon with the pixel it points at and the pixel it stands at."""

    evaluated: CharacteristicResult
    anchor: Pixel
    place: Pixel
    radius: float


def stage_balloons(
    plan: Plan, shown: Shown, viewport: Viewport, extent: Extent, right_margin: float
) -> list[StageBalloon]:
    """The balloons of everything in view, beside the part; `right_margin` pixels stay free for the legend.

    extent: x from and to, y from and to of the part in mm.
    """
    pointed = []
    for evaluated in shown.result.characteristics:
        row = plan.characteristic(evaluated.balloon)
        if row is not None and row.hidden:
            continue
        place = points_at(plan, shown.result, evaluated)
        pixel = None if place is None else viewport.to_screen(*place)
        if pixel is not None and 0 <= pixel[0] <= viewport.width and 0 <= pixel[1] <= viewport.height:
            pointed.append((evaluated, pixel))
    anchors = [pixel for _, pixel in pointed]
    box, room = _beside(extent, viewport, right_margin)
    radius = balloon_radius(len(anchors), box[3] - box[1])
    places = place_balloons(anchors, box, radius=radius, room=room)
    return [
        StageBalloon(evaluated, anchor, place, radius)
        for (evaluated, anchor), place in zip(pointed, places, strict=True)
    ]


def balloon_radius(count: int, height: float) -> float:
    """Radius of a balloon where so many stand in two columns of a height, pixels."""
    apart = height / max(-(-count // 2) - 1, 1)
    return min(max(apart / 2 - 1.0, SMALLEST), LARGEST)


def _beside(extent: Extent, viewport: Viewport, right_margin: float) -> tuple[Box, float]:
    """Beside the part, but on the stage; and how many pixels further out they may lie on either side."""
    least, most = ROOM, viewport.width - ROOM - right_margin
    left = min(max(viewport.to_screen(extent[0], 0.0)[0] - ROOM, least), most)
    right = max(min(viewport.to_screen(extent[1], 0.0)[0] + ROOM, most), least)
    box = left, TOP, max(right, left), max(viewport.height - BOTTOM, TOP)
    return box, max(min(left - least, most - right), 0.0)
