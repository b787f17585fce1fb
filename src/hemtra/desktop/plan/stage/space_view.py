"""The stage in 3D: the surface with zones, fits and balloons in it, to turn, move, zoom and cut open."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from OpenGL import GL
from PySide6.QtCore import QPointF, Qt, QTimer, Signal, Slot
from PySide6.QtGui import (
    QMouseEvent,
    QOffscreenSurface,
    QOpenGLContext,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QSurfaceFormat,
    QWheelEvent,
)
from PySide6.QtOpenGLWidgets import QOpenGLWidget
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QSlider, QWidget

from hemtra.core.arrays import FloatArray
from hemtra.core.balloon_layout import place_balloons
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Polyline
from hemtra.core.plan.limits import Verdict
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.orbit import Orbit
from hemtra.desktop.models.stage_balloons import BOTTOM, ROOM, TOP, balloon_radius
from hemtra.desktop.models.surface_mesh import Mesh, surface
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.layers import mark_colour
from hemtra.desktop.widgets.symbols import draw_balloon, draw_chip

COARSE, FULL = 60_000, 1_600_000
"""Points drawn while something moves, and at rest."""
SETTLE_MS = 120
"""Rest time before full detail is drawn."""
WHEEL_STEP = 1.0015


@dataclass(frozen=True)
class MeshRequest:
    """The surface to triangulate, as the stage colours it."""

    data: HeightMap
    values: HeightMap | None
    """Values that colour it; None for its intensity."""
    span: tuple[float, float]
    palette: bytes


def triangulate(request: MeshRequest, superseded: Superseded) -> Iterator[tuple[int, Mesh]]:
    """The coarse surface first, then the full one unless something newer is asked."""
    for most in (COARSE, FULL):
        if superseded():
            return
        palette = np.frombuffer(request.palette, np.uint8).reshape(-1, 3)
        yield most, surface(request.data, most, palette, request.span, values=request.values)


def has_opengl() -> bool:
    """Whether this display can draw with OpenGL."""
    context, ground = QOpenGLContext(), QOffscreenSurface()
    ground.create()
    if not context.create() or not context.makeCurrent(ground):
        return False
    found = context.format().majorVersion() >= 2
    context.doneCurrent()
    return found


class _Buffers:
    """A mesh in the memory of the graphics."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.count = mesh.triangles.size
        self.names = GL.glGenBuffers(3)
        for name, target, array in (
            (self.names[0], GL.GL_ARRAY_BUFFER, mesh.points),
            (self.names[1], GL.GL_ARRAY_BUFFER, mesh.colours),
            (self.names[2], GL.GL_ELEMENT_ARRAY_BUFFER, mesh.triangles),
        ):
            GL.glBindBuffer(target, name)
            GL.glBufferData(target, array.nbytes, np.ascontiguousarray(array), GL.GL_STATIC_DRAW)

    def draw(self) -> None:
        GL.glEnableClientState(GL.GL_VERTEX_ARRAY)
        GL.glEnableClientState(GL.GL_COLOR_ARRAY)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, self.names[0])
        GL.glVertexPointer(3, GL.GL_FLOAT, 0, ctypes.c_void_p(0))
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, self.names[1])
        GL.glColorPointer(4, GL.GL_UNSIGNED_BYTE, 0, ctypes.c_void_p(0))
        GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, self.names[2])
        GL.glDrawElements(GL.GL_TRIANGLES, self.count, GL.GL_UNSIGNED_INT, ctypes.c_void_p(0))
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, 0)
        GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, 0)
        GL.glDisableClientState(GL.GL_COLOR_ARRAY)
        GL.glDisableClientState(GL.GL_VERTEX_ARRAY)

    def free(self) -> None:
        GL.glDeleteBuffers(3, self.names)


class SpaceView(QOpenGLWidget):
    """Shows what the top view shows, in space. Left turns, right or middle moves, the wheel zooms."""

    balloon_clicked = Signal(int)
    failed = Signal(object)
    moved = Signal()
    """Another picture is drawn."""

    def __init__(self, bench: WorkspaceModel, stage: TopView, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        held = QSurfaceFormat()
        held.setDepthBufferSize(24)
        held.setProfile(QSurfaceFormat.OpenGLContextProfile.CompatibilityProfile)
        self.setFormat(held)
        self.setMinimumSize(200, 120)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage in 3D")
        self.bench, self.stage = bench, stage
        self.orbit = Orbit()
        self.frames = 0
        """Frames drawn; for whoever measures."""
        self.meshes: dict[int, Mesh] = {}
        """Coarse and full detail, by their largest number of points."""
        self._buffers: dict[int, _Buffers] = {}
        self._asked: MeshRequest | None = None
        self._looked_at: object = None
        self._moving = False
        self._from: QPointF | None = None
        self.balloons: list[tuple[QPointF, int]] = []
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.timeout.connect(self._at_rest)
        self._lane = LatestTaskWorker(triangulate, "3D", self)
        self._lane.responded.connect(self._on_mesh)
        self._lane.failed.connect(lambda _, error: self.failed.emit(error))
        stage.cursor_moved.connect(self._link)
        self._linked: Place | None = None
        self._overlay = _Overlay(self)
        self._tools = _SpaceTools(self)
        for changed in (bench.shown_changed, bench.selection_changed, bench.tray.current_changed):
            changed.connect(self.refresh)
        stage.repainted.connect(self.refresh)

    @Slot(object)
    def _link(self, place: Place | None) -> None:
        """Mark the place the top view points at."""
        self._linked = place
        self._overlay.update()

    @property
    def idle(self) -> bool:
        """Whether all detail there is to show has been made."""
        return self._lane.idle

    def stop(self) -> None:
        """End the worker."""
        self._lane.stop()

    def refresh(self) -> None:
        """Follow what the top view shows."""
        data = self.stage.data
        if not self.isVisible() or data is None:
            return
        values = self.stage.map.values(data) if self.bench.colour != "intensity" else None
        wanted = MeshRequest(data, values, self.stage.legend.span, self.stage.map.colours.tobytes())
        if wanted != self._asked:
            self._asked = wanted
            self._lane.submit(wanted)
        part = self.bench.tray.current
        if part is not None and self._looked_at is not part:
            self._looked_at = part
            self.orbit = self.orbit.about(part.extent, float(np.mean(part.height_span)))
        self.update()

    def showEvent(self, event: Any) -> None:
        """Catch up with changes made while it was not shown."""
        super().showEvent(event)
        self.refresh()

    @Slot(object, object)
    def _on_mesh(self, request: MeshRequest, answer: tuple[int, Mesh]) -> None:
        if request is self._asked:
            self.meshes[answer[0]] = answer[1]
            if answer[0] == COARSE:
                self.meshes.pop(FULL, None)
            self.update()

    # -- drawing ----------------------------------------------------------------------------------

    def paintGL(self) -> None:
        """The surface; what lies over it is painted by the overlay."""
        self._draw_surface()
        self.frames += 1
        self.moved.emit()

    def paint_over(self, painter: QPainter) -> None:
        """Lines and balloons over the surface."""
        if self.meshes:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._draw_lines(painter)
            self._draw_balloons(painter)
            self._draw_linked(painter)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The overlay covers all of it."""
        super().resizeEvent(event)
        self._overlay.setGeometry(self.rect())

    def _draw_surface(self) -> None:
        ratio = self.devicePixelRatio()
        GL.glViewport(0, 0, round(self.width() * ratio), round(self.height() * ratio))
        tint = theme.colour("stage")
        GL.glClearColor(tint.redF(), tint.greenF(), tint.blueF(), 1.0)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDisable(GL.GL_BLEND)
        GL.glUseProgram(0)
        GL.glMatrixMode(GL.GL_PROJECTION)
        GL.glLoadMatrixd(np.ascontiguousarray(self.orbit.matrix(self.width(), self.height()).T))
        GL.glMatrixMode(GL.GL_MODELVIEW)
        GL.glLoadIdentity()
        if not self.meshes:
            return
        cuts = self._tools.planes(self.bench)
        for k, plane in enumerate(cuts):
            GL.glEnable(GL.GL_CLIP_PLANE0 + k)
            GL.glClipPlane(GL.GL_CLIP_PLANE0 + k, plane)
        self._buffer(COARSE if self._moving or FULL not in self.meshes else FULL).draw()
        for k in range(len(cuts)):
            GL.glDisable(GL.GL_CLIP_PLANE0 + k)
        GL.glDisable(GL.GL_DEPTH_TEST)

    def _buffer(self, most: int) -> _Buffers:
        """The mesh in graphics memory, brought there when it is new."""
        mesh = self.meshes[most]
        known = self._buffers.get(most)
        if known is None or known.mesh is not mesh:
            if known is not None:
                known.free()
            known = self._buffers[most] = _Buffers(mesh)
        return known

    def _pixels(self, points: FloatArray) -> QPolygonF:
        return QPolygonF(
            [QPointF(x, y) for x, y in self.orbit.project(points, self.width(), self.height()) if x == x]
        )

    def _draw_lines(self, painter: QPainter) -> None:
        """Zones on the surface, planes, and the marks of the selected characteristic."""
        shown = self.bench.shown
        if shown is None:
            return
        for step in (s for column in self.bench.lineage() for s in column):
            zone, found = self.bench.placed(step), shown.result.steps.get(step.id)
            if zone is None or found is None:
                continue
            outline = zone.outline()
            value = found.value
            if isinstance(value, Plane):
                z = value.height_at(outline[:, 0], outline[:, 1])
            else:
                own = getattr(value, "z", None)  # of what lies along a path an array
                height = own if isinstance(own, float) else found.base.height_at(zone.x, zone.y)
                z = np.full(len(outline), float(height))
            chosen = step.id == self.bench.selected_step
            pen = QPen(theme.colour("copper").lighter(130) if chosen else theme.colour("stage_ink", 200), 1.8)
            painter.setPen(pen)
            painter.setBrush(theme.colour("anchor", 60) if isinstance(value, Plane) else Qt.BrushStyle.NoBrush)
            painter.drawPolygon(self._pixels(np.column_stack([outline, z])))
            for mark in shown.evidence[step.id].marks if step.id in shown.evidence else ():
                if isinstance(mark, Polyline) and len(mark.points):
                    painter.setPen(QPen(mark_colour(mark.role), 1.2))
                    painter.setBrush(Qt.BrushStyle.NoBrush)
                    line = self._pixels(mark.points)
                    painter.drawPolygon(line) if mark.closed else painter.drawPolyline(line)

    def _draw_linked(self, painter: QPainter) -> None:
        data = self.stage.data
        z = None if self._linked is None or data is None else data.height_at(*self._linked)
        if self._linked is None or z is None:
            return
        (x, y), *_ = self.orbit.project(np.array([[*self._linked, z]]), self.width(), self.height())
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.colour("paper"), 1.6))
        painter.drawEllipse(QPointF(x, y), 6, 6)

    def _draw_balloons(self, painter: QPainter) -> None:
        shown = self.bench.shown
        self.balloons, pointed = [], []
        for evaluated in shown.result.characteristics if shown else ():
            if evaluated.at is None:
                continue
            at = np.array([[evaluated.at.x, evaluated.at.y, evaluated.at.z]])
            (x, y), *_ = self.orbit.project(at, self.width(), self.height())
            if not (x == x and 0 <= x <= self.width() and 0 <= y <= self.height()):
                continue
            pointed.append((evaluated, (float(x), float(y))))
        radius = balloon_radius(len(pointed), self.height() - TOP - BOTTOM)
        box = ROOM, TOP, self.width() - ROOM, self.height() - BOTTOM
        places = place_balloons([at for _, at in pointed], box, radius=radius)
        for (evaluated, anchor), end in zip(pointed, places, strict=True):
            chosen = evaluated.balloon == self.bench.balloon
            strong = chosen or evaluated.verdict is not Verdict.PASS
            painter.setPen(QPen(theme.colour("stage_ink", 255 if strong else 110), 1.2))
            painter.drawLine(QPointF(*anchor), QPointF(*end))
        for (evaluated, _), end in zip(pointed, places, strict=True):
            chosen, place = evaluated.balloon == self.bench.balloon, QPointF(*end)
            number = str(evaluated.balloon)
            draw_balloon(painter, place, number, evaluated.verdict, radius=radius, selected=chosen)
            self.balloons.append((place, evaluated.balloon))
        if self.orbit.height != 1.0:
            draw_chip(
                painter, QPointF(10, self.height() - 34), units.signed(f"heights × {self.orbit.height:.1f}")
            )

    # -- pointer ----------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold; a balloon under the pointer is selected."""
        self._from = event.position()
        near = [
            balloon for place, balloon in self.balloons if (place - event.position()).manhattanLength() < 16
        ]
        if near and event.button() == Qt.MouseButton.LeftButton:
            self._from = None
            self.balloon_clicked.emit(near[0])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Turn with the left button, move with another one."""
        if self._from is None:
            return
        by = event.position() - self._from
        self._from = event.position()
        if event.buttons() & Qt.MouseButton.LeftButton:
            self.move_to(self.orbit.turned(by.x(), by.y()))
        else:
            self.move_to(self.orbit.panned(by.x(), by.y(), self.height()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Release."""
        self._from = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom; with Shift stretch the heights."""
        delta = event.angleDelta().y() or event.angleDelta().x()
        factor = WHEEL_STEP**delta
        stretching = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        self.move_to(self.orbit.exaggerated(factor) if stretching else self.orbit.zoomed(factor))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Show the whole part again."""
        self._looked_at = None
        self.refresh()

    def move_to(self, orbit: Orbit) -> None:
        """Look from elsewhere: coarse at once, in full when nothing moves any more."""
        self.orbit, self._moving = orbit, True
        self._settle.start(SETTLE_MS)
        self.update()

    def _at_rest(self) -> None:
        self._moving = False
        self.update()


class _Overlay(QWidget):
    """Overlay of the surface, painted apart from OpenGL so that it looks the same everywhere."""

    def __init__(self, view: SpaceView) -> None:
        super().__init__(view)
        self._view = view
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        view.moved.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Size of the view."""
        painter = QPainter(self)
        self._view.paint_over(painter)
        painter.end()


class _SpaceTools(QFrame):
    """Sliders of the cut box: how far the part is cut open from either side."""

    def __init__(self, view: SpaceView) -> None:
        super().__init__(view)
        self.setObjectName("stageTools")
        layout = QHBoxLayout(self)
        layout.setContentsMargins(8, 3, 8, 3)
        self.sliders: list[QSlider] = []
        for text, tip in (("cut x", "Cut away what lies left of here."), ("y", "Cut away what lies in front.")):
            label = QLabel(text)
            label.setStyleSheet(f"color: {theme.current().stage_ink}; font-size: 12px;")
            slider = QSlider(Qt.Orientation.Horizontal)
            slider.setRange(0, 100)
            slider.setFixedWidth(80)
            slider.setToolTip(tip)
            slider.setAccessibleName(f"3D, {tip}")
            slider.valueChanged.connect(lambda _: view.update())
            layout.addWidget(label)
            layout.addWidget(slider)
            self.sliders.append(slider)
        self.adjustSize()
        self.move(8, 8)

    def planes(self, bench: WorkspaceModel) -> Sequence[FloatArray]:
        """(4,) coefficients of the planes beyond which nothing is drawn."""
        part = bench.tray.current
        if part is None:
            return []
        x0, x1, y0, y1 = part.extent
        found = []
        for slider, axis, low, high in zip(self.sliders, (0, 1), (x0, y0), (x1, y1), strict=True):
            if slider.value() > 0:
                plane = np.zeros(4)
                plane[axis] = 1.0
                plane[3] = -(low + slider.value() / 100.0 * (high - low))
                found.append(plane)
        return found
