"""The 3D view: its camera and mesh as geometry, and the view in the real window."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt

from hemtra import HeightMap
from hemtra.core.geometry.elements import Plane
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.heightmap import Profile
from hemtra.core.rendering.colouring import isolines, plane_map, reference_map, reference_profile, slope_map
from hemtra.core.rendering.palettes import height_palette
from hemtra.desktop.models.orbit import Orbit
from hemtra.desktop.models.surface_mesh import surface


@given(st.floats(-180, 180), st.floats(-5, 85), st.floats(0.5, 10))
def test_what_is_looked_at_lies_in_the_middle(turn, rise, height):
    orbit = Orbit(x=3, y=-4, z=2, turn=turn, rise=rise, height=height)
    (x, y), *_ = orbit.project(np.array([[3.0, -4.0, 2.0]]), 800, 500)
    assert (x, y) == (pytest.approx(400), pytest.approx(250))
    above = orbit.project(np.array([[3.0, -4.0, 2.5]]), 800, 500)[0]
    assert above[1] < y + 1e-6, "higher is higher on the screen"
    moved = orbit.panned(30, -20, 500)
    (x, y), *_ = moved.project(np.array([[3.0, -4.0, 2.0]]), 800, 500)
    assert (x - 400, y - 250) == (pytest.approx(30, abs=0.5), pytest.approx(-20, abs=0.5))


def test_from_above_it_is_the_top_view():
    orbit = Orbit(turn=-90, rise=89.5, height=1).about((-60, 60, -40, 40), 0)
    corners = orbit.project(np.array([(-60, -40, 0), (60, -40, 0), (60, 40, 0), (-60, 40, 0)]), 800, 500)
    assert (np.diff(corners[:2, 0]) > 0).all()
    assert corners[2, 1] < corners[1, 1]
    assert ((corners >= 0) & (corners <= (800, 500))).all(), "all of it is seen"


def test_triangles_span_no_wall_and_no_hole():
    z = np.zeros((40, 60))
    z[:, 30:] = 5.0
    z[10, 10] = np.nan
    data = HeightMap(z, dx=0.1, dy=0.2)
    mesh = surface(data, 10_000, height_palette(), (0.0, 5.0), values=data)
    heights = mesh.points[mesh.triangles][:, :, 2]
    assert (np.ptp(heights, axis=1) == 0).all()
    assert len(mesh.triangles) == 2 * (39 * 59 - 39 - 4)
    coarse = surface(data, 300, height_palette(), (0.0, 5.0))
    assert len(coarse.points) <= 320
    assert math.isclose(float(coarse.points[:, 0].mean()), float(data.x.mean()), abs_tol=0.3)


def seen_hill(frame):
    """A hill of 3 mm about the origin of a frame, as it is seen from above."""
    x, y = np.meshgrid(0.1 * np.arange(80), 0.1 * np.arange(50))
    z = np.zeros(x.shape)
    for _ in range(40):
        p, q, h = frame.inward(np.stack([x, y, z], axis=-1).reshape(-1, 3)).T.reshape(3, *x.shape)
        z += (3.0 * np.exp(-(p**2 + q**2) / 8.0) - h) / frame.matrix[2, 2]
    return HeightMap(z.astype(np.float32), dx=0.1, dy=0.1)


def test_colourings_are_what_they_say():
    x, y = np.meshgrid(0.1 * np.arange(80), 0.1 * np.arange(50))
    data = HeightMap(0.5 * x + 1.0, dx=0.1, dy=0.1)
    assert np.allclose(slope_map(data).z, math.degrees(math.atan(0.5)), atol=1e-3)
    assert np.abs(plane_map(data, Plane(0, 0, 1, 0.5, 0)).z).max() < 1e-5
    bump = np.where(np.hypot(x - 4, y - 2.5) < 1, 1.0, 0.0)
    reference = HeightMap(bump, dx=0.1, dy=0.1)
    moved = HeightMap(np.where(np.hypot(x - 5, y - 2) < 1, 1.3, 0.3), dx=0.1, dy=0.1)
    off = reference_map(moved, reference, Frame(x=5, y=2, z=0.3, rotation=0), Frame(x=4, y=2.5))
    assert np.nanmedian(np.abs(off.z)) < 1e-6
    # a hill that is tilted does not differ from itself, though its flanks are seen aside of where they stand
    near, far = (
        Frame(x=4.0, y=2.5, tilt_y=1.0),
        Frame(x=4.3, y=2.2, z=0.7, rotation=20.0, tilt_x=-2.0, tilt_y=3.0),
    )
    hills = [seen_hill(frame) for frame in (near, far)]
    off = reference_map(hills[1], hills[0], far, near).z[10:-10, 10:-10]
    assert np.nanmax(np.abs(off)) < 0.01
    assert np.count_nonzero(isolines(np.tile(np.arange(0, 10, 0.25), (5, 1)), 1.0)) == 5 * 10


def test_the_stage_in_space_follows_the_top_view(demo, qtbot, settled):
    workspace = demo.workspaces["plan"].workspace
    demo.trigger("view.cycle")
    space = workspace.arrangement.space
    assert space.isVisible()
    assert not workspace.section.isVisible()
    qtbot.waitUntil(lambda: len(space.meshes) == 2, timeout=120_000)
    qtbot.waitUntil(lambda: space.frames > 0)
    pixels = space.grabFramebuffer()
    colours = {pixels.pixel(x, y) for x in range(0, pixels.width(), 7) for y in range(0, pixels.height(), 7)}
    assert len(colours) > 40, "the surface is drawn, shaded"
    before = space.orbit
    qtbot.waitUntil(lambda: bool(space.balloons))
    place, balloon = space.balloons[-1]
    qtbot.mouseClick(space, Qt.MouseButton.LeftButton, pos=place.toPoint())
    settled(demo)
    assert demo.session.bench.balloon in {b for p, b in space.balloons if (p - place).manhattanLength() < 16}
    space.move_to(before.turned(40, 10))
    assert space._moving
    qtbot.waitUntil(lambda: not space._moving)
    workspace.stage.colour_by("slope")
    settled(demo)
    coloured = demo.session.bench.shown.coloured
    assert coloured.shape == demo.session.bench.tray.current.scan.data.shape
    qtbot.waitUntil(lambda: space._asked.values is coloured)
    for _ in range(3):
        demo.trigger("view.cycle")
    assert workspace.section.isVisible()
    assert not space.isVisible()
    assert balloon


def test_without_opengl_it_is_said_and_nothing_is_lost(demo, monkeypatch):
    monkeypatch.setattr("hemtra.desktop.plan.stage.space_view.has_opengl", lambda: False)
    demo.trigger("view.cycle")
    workspace = demo.workspaces["plan"].workspace
    assert "3D needs OpenGL" in demo.message_bar.text.text()
    assert workspace.arrangement.space is None
    assert workspace.stage.isVisible()
    assert workspace.section.isVisible()


def test_values_that_colour_the_part_are_read_with_their_unit(demo, settled):
    stage = demo.workspaces["plan"].workspace.stage
    stage.colour_by("slope")
    settled(demo)
    assert stage.map.value_text(stage.data, 42.0, 26.3).endswith("°")
    assert stage.legend.toolTip().startswith("Slope in °")
    stage.colour_by("reference")
    settled(demo)
    told = stage.map.value_text(stage.data, 42.0, 26.3)
    assert told.startswith("above the reference ")
    assert told.endswith(" mm")
    assert abs(float(told.split()[-2])) < 0.05, "the reference lies on itself"


@given(st.floats(-180, 180), st.floats(-3, 3), st.floats(-3, 3), st.floats(-2, 2))
def test_the_reference_behind_a_section_lies_as_the_part_does(turn, dx, dy, dz):
    """The part is the reference turned, moved and raised: the section of both is one."""
    x, y = np.meshgrid(np.arange(-20, 20.1, 0.25), np.arange(-20, 20.1, 0.25))
    reference = HeightMap(0.3 * x + 0.1 * y, dx=0.25, dy=0.25, x0=-20, y0=-20)
    home = Frame(1.0, -2.0, 0.5, 10.0)
    found = Frame(1.0 + dx, -2.0 + dy, 0.5 + dz, 10.0 + turn)
    line = ((found.x - 4.0, found.y - 3.0), (found.x + 4.0, found.y + 3.0))
    s = np.linspace(0.0, 10.0, 41)
    behind = reference_profile(Profile(s, np.zeros_like(s)), line, reference, found, home)
    # back on the reference, a point of the section lies here
    way = np.column_stack([-4.0 + 0.8 * s, -3.0 + 0.6 * s])
    c, k = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    at = np.column_stack([home.x + c * way[:, 0] + k * way[:, 1], home.y - k * way[:, 0] + c * way[:, 1]])
    assert behind.z == pytest.approx(0.3 * at[:, 0] + 0.1 * at[:, 1] + dz, abs=1e-6)


def test_the_reference_is_drawn_behind_the_sections_of_other_parts(demo, settled):
    bench = demo.session.bench
    bench.select(1)

    def apart():
        settled(demo)
        shown = bench.shown
        return np.abs(shown.profile.z - shown.reference.z)

    bench.tray.select(1)
    assert np.nanmedian(apart()) < 0.02, "a good part lies on the reference"
    bench.tray.select(2)
    assert np.nanmax(apart()[bench.shown.profile.z > 3.0]) > 0.2, "a boss of part 03 is too short"
    outline = bench.document.plan.step("outline")
    strict = outline.edited(params={**outline.params, "least_match": 100.0})
    bench.document.edit("too much asked", bench.document.plan.with_step(strict))
    settled(demo)
    assert bench.shown.reference is None, "the outline was not found: nobody knows where the reference lies"


def test_a_row_on_a_section_is_shown_in_space_too(demo, qtbot, settled):
    """A cut has a height for each of its points, and its zone is drawn at one."""
    workspace, bench = demo.workspaces["plan"].workspace, demo.session.bench
    workspace.arrangement.show(frozenset(("top", "3D")))
    space = workspace.arrangement.space
    qtbot.waitUntil(lambda: len(space.meshes) == 2, timeout=120_000)
    bench.select(13)
    settled(demo)
    space.balloons = []
    space.grab()
    assert space.balloons, "painted to its end"
