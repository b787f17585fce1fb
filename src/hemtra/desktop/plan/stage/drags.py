"""Drags on the stage, one class each: the view, a zone or its handle, the section line."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt

from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.bench import Place
from hemtra.desktop.models.viewport import Pixel
from hemtra.desktop.models.zone_drag import Handle, dragged
from hemtra.desktop.plan.stage.section_line import Line, moved

if TYPE_CHECKING:
    from hemtra.desktop.plan.stage.top_view import TopView

STILL = 3.0
"""Largest movement of a click that is no drag, pixels."""


class Drag:
    """Held since the pointer was pressed at a pixel."""

    def __init__(self, stage: TopView, pixel: Pixel) -> None:
        self.stage, self.pixel = stage, pixel
        self.start: Place = stage.viewport.to_part(*pixel)
        self.moved = False

    def begins(self, pixel: Pixel) -> bool:
        """Whether it is a drag by now."""
        self.moved = self.moved or math.dist(pixel, self.pixel) > STILL
        return self.moved

    def on(self, pixel: Pixel, place: Place, *, snap: bool) -> None:
        """The pointer has moved on; snap: in steps."""

    def drop(self, place: Place, *, snap: bool) -> None:
        """It was released after it was dragged."""


class ViewDrag(Drag):
    """Moves the view; where nothing else is held. A click is one on the part."""

    def __init__(self, stage: TopView, pixel: Pixel) -> None:
        super().__init__(stage, pixel)
        self._viewport = stage.viewport

    def on(self, pixel: Pixel, place: Place, *, snap: bool) -> None:
        """Move the view along."""
        self.stage.go_to(self._viewport.panned(pixel[0] - self.pixel[0], pixel[1] - self.pixel[1]))


class ZoneDrag(Drag):
    """Moves a zone, or changes it by one of its handles; it becomes an edit when it is released."""

    def __init__(self, stage: TopView, pixel: Pixel, step_id: str, zone: AnyZone, handle: Handle) -> None:
        super().__init__(stage, pixel)
        self._step, self._zone, self._handle = step_id, zone, handle

    def _changed(self, place: Place, *, snap: bool) -> AnyZone:
        return dragged(self._zone, self._handle, self.start, place, snap=snap)

    def on(self, pixel: Pixel, place: Place, *, snap: bool) -> None:
        """Show what it would be."""
        self.stage.zone_dragged.emit(self._step, self._changed(place, snap=snap))

    def drop(self, place: Place, *, snap: bool) -> None:
        """Edit it."""
        self.stage.zone_dropped.emit(self._step, self._changed(place, snap=snap))


class LineDrag(Drag):
    """Moves the section line, or one of its ends."""

    def __init__(self, stage: TopView, pixel: Pixel, line: Line, held: str) -> None:
        super().__init__(stage, pixel)
        self._line, self._held = line, held

    def on(self, pixel: Pixel, place: Place, *, snap: bool) -> None:
        """Move it along."""
        dx, dy = place[0] - self.start[0], place[1] - self.start[1]
        self.stage.line_moved.emit(moved(self._line, self._held, dx, dy))


def grip(handle: Handle | None, line: str | None, *, on_balloon: bool) -> Qt.CursorShape:
    """The pointer over what can be taken: a handle of the zone, a part of the section line, or a balloon."""
    shapes = {"rotate": Qt.CursorShape.CrossCursor, "body": Qt.CursorShape.SizeAllCursor}
    if on_balloon:
        return Qt.CursorShape.PointingHandCursor
    if handle is not None and (handle != "body" or line in (None, "line")):
        return shapes.get(handle.rpartition(":")[2], Qt.CursorShape.SizeFDiagCursor)
    return Qt.CursorShape.ArrowCursor if line is None else Qt.CursorShape.OpenHandCursor
