"""Which balloons the stage shows, what they point at, and where they stand."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.core.balloon_layout import Box, place_balloons, points_at
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.desktop.models.bench import Shown
from hemtra.desktop.models.viewport import Pixel, Viewport

RING_ROOM = 20.0
"""Pixels between what is measured and its balloons."""
EDGE_ROOM, TOP_ROOM = 20.0, 50.0
"""Pixels between balloons and the border of the stage; the buttons lie along its top."""


@dataclass(frozen=True)
class StageBalloon:
    """A balloon with the pixel it points at and the pixel it stands at."""

    judged: CharacteristicResult
    anchor: Pixel
    place: Pixel


def stage_balloons(plan: Plan, shown: Shown, viewport: Viewport, right_margin: float) -> list[StageBalloon]:
    """The balloons of everything in view; `right_margin` pixels stay free for the legend."""
    pointed = []
    for judged in shown.result.characteristics:
        row = plan.characteristic(judged.balloon)
        if row is not None and row.hidden:
            continue
        place = points_at(plan, shown.result, judged)
        pixel = None if place is None else viewport.to_screen(*place)
        if pixel is not None and 0 <= pixel[0] <= viewport.width and 0 <= pixel[1] <= viewport.height:
            pointed.append((judged, pixel))
    anchors = [pixel for _, pixel in pointed]
    places = place_balloons(anchors, _ring(plan, anchors, viewport, right_margin)) if pointed else []
    return [
        StageBalloon(judged, anchor, place) for (judged, anchor), place in zip(pointed, places, strict=True)
    ]


def _ring(plan: Plan, anchors: list[Pixel], viewport: Viewport, right_margin: float) -> Box:
    """Around all that is measured, but on the stage."""
    pixels = list(anchors)
    for zone in (s.zone for s in plan.steps if s.zone is not None):
        wx, wy = zone.half_extent()
        pixels += [viewport.to_screen(zone.x + sx * wx, zone.y + sy * wy) for sx in (-1, 1) for sy in (-1, 1)]
    xs, ys = [p[0] for p in pixels], [p[1] for p in pixels]
    return (
        max(EDGE_ROOM, min(xs) - RING_ROOM),
        max(TOP_ROOM, min(ys) - RING_ROOM),
        min(viewport.width - EDGE_ROOM - right_margin, max(xs) + RING_ROOM),
        min(viewport.height - EDGE_ROOM, max(ys) + RING_ROOM),
    )
