"""Offers: what lies under a pointer that rests, with a preview of its value, to be taken by a click."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from PySide6.QtCore import QObject, QPointF, Qt, QTimer
from PySide6.QtGui import QPainter, QPen

from hemtra.core.errors import HemtraError
from hemtra.core.features.circle import FoundCircle
from hemtra.core.geometry.elements import Line, Plane, Point
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.pick_detection import PickedFeature, seen_at
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.layers import draw_zone
from hemtra.desktop.widgets.symbols import draw_chip

DWELL = 450
"""Rest time of the pointer before a suggestion, ms."""
LEGEND = 100
"""Width of the legend at the right, pixels."""
WIDE = 10.0
"""Size of a level surface about a place from which on it is a surface and no spot, mm."""
ON_PLANE = 0.1
"""Distance from the datum plane within which a surface is that plane, mm."""


@dataclass(frozen=True)
class OfferRequest:
    """Ask what is under a place of a map. plane: the plan's datum plane on it, if known."""

    data: HeightMap
    place: Place
    plane: Plane | None
    plane_name: str = ""


@dataclass(frozen=True)
class Offer:
    """The result there, in words, and the new characteristic that a click begins."""

    place: Place
    seen: PickedFeature
    text: str
    option: str


def offered(request: OfferRequest, superseded: Superseded) -> Iterator[Offer | None]:
    """The offer for a place; None where there is nothing."""
    try:
        seen = seen_at(request.data, *request.place)
        kind = kind_named(seen.kind).model_validate(seen.params)
        value = kind.evaluate(StepContext(request.data, seen.zone)).value
    except HemtraError:
        yield None
        return
    text, option = _offer_text(request, seen, value)
    yield Offer(request.place, seen, f"{text}   ·   click to add", option)


def _offer_text(request: OfferRequest, seen: PickedFeature, value: object) -> tuple[str, str]:
    """The value in words, and what a click begins."""
    if isinstance(value, FoundCircle):
        return f"{seen.what} ⌀ {2 * value.radius:.2f} mm", "diameter"
    if isinstance(value, Line):
        return "edge, for a width to another", "width"
    assert isinstance(value, Point)
    if request.plane is None:
        return f"level at {value.z:.3f} mm", "height"
    height = request.plane.distance(value)
    if abs(height) < ON_PLANE and seen.zone.width >= WIDE:
        return f"surface on {request.plane_name}", "flatness"
    return f"level {height:+.3f} mm from {request.plane_name}", "height"


class Offers(QObject):
    """Watches the pointer on the stage."""

    def __init__(
        self,
        bench: WorkspaceModel,
        data: Callable[[], HeightMap | None],
        changed: Callable[[], None],
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self._bench, self._data, self._changed = bench, data, changed
        self.offer: Offer | None = None
        self._asked: OfferRequest | None = None
        self._place: Place | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._ask)
        self.lane = LatestTaskWorker(offered, "offer", self)
        self.lane.responded.connect(self._on_answer)

    def moved(self, place: Place | None) -> None:
        """The pointer is somewhere else, or where nothing is to be offered."""
        if self.offer is not None:
            self.offer = None
            self._changed()
        self._place, self._asked = place, None
        if place is None:
            self._timer.stop()
        else:
            self._timer.start(DWELL)

    def _ask(self) -> None:
        data, shown = self._data(), self._bench.shown
        if data is None or self._place is None:
            return
        planes = [r for r in shown.result.steps.values() if isinstance(r.value, Plane)] if shown else []
        main = planes[0] if planes else None
        plane, name = (None, "") if main is None else (main.value, main.step.name)
        self._asked = OfferRequest(data, self._place, plane, name)
        self.lane.submit(self._asked)

    def _on_answer(self, request: OfferRequest, answer: Offer | None) -> None:
        if request is self._asked:
            self.offer = answer
            self._changed()

    def draw(self, painter: QPainter, viewport: Viewport, cursor: Pixel | None) -> None:
        """Its zone, dotted, and its value beside the pointer."""
        if self.offer is None or cursor is None:
            return
        pen = QPen(theme.colour("copper").lighter(150), 1.6, Qt.PenStyle.DotLine)
        draw_zone(painter, viewport, self.offer.seen.zone, pen)
        words = units.text(self.offer.text)
        width = painter.fontMetrics().horizontalAdvance(words) + 40
        left = min(cursor[0] + 14, viewport.width - width - LEGEND)
        draw_chip(painter, QPointF(max(left, 4.0), max(cursor[1] - 34, 4.0)), words)
