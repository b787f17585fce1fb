"""Sections along a path and the bead on them, on one core."""

import numpy as np
import pytest
import scipy

from hemtra import HeightMap
from hemtra.core.characteristics.along import AlongKind
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.path import PathKind
from hemtra.core.maps.path_sampling import sections_across
from hemtra.core.paths.curve import curve_through
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.path_edits import moved_node
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.background.evaluation import ShowRequest, show
from hemtra.virtual.demo import PARTS, demo_plan

PITCH, HALF_X, HALF_Y, CORNER = 0.11, 65.0, 42.0, 8.0
SECTIONS, POINTS = 800, 101


@pytest.fixture(scope="module")
def beaded():
    """A map of 1280 × 875 points with a bead round a rounded rectangle, noise, and its path of 414 mm."""
    x = PITCH * (np.arange(1280) - 639.5)
    y = (PITCH * (np.arange(875) - 437))[:, None]
    qx, qy = np.abs(x) - HALF_X + CORNER, np.abs(y) - HALF_Y + CORNER
    d = (
        np.where((qx <= 0) | (qy <= 0), np.maximum(qx, qy), np.hypot(np.maximum(qx, 0), np.maximum(qy, 0)))
        - CORNER
    )
    z = 1.6 * np.maximum(1.0 - (d / 1.5) ** 2, 0.0)
    z = z + 0.008 * np.random.default_rng(1).standard_normal(z.shape)
    data = HeightMap(z.astype(np.float32), dx=PITCH, dy=PITCH, x0=float(x[0]), y0=float(y[0, 0]))
    corners = np.array(
        [(0.0, -HALF_Y), (HALF_X, -HALF_Y), (HALF_X, HALF_Y), (-HALF_X, HALF_Y), (-HALF_X, -HALF_Y)]
    )
    plain = PathZone.through(corners)
    nodes = tuple(n.model_copy(update={"corner": CORNER if k else 0.0}) for k, n in enumerate(plain.nodes))
    across = PITCH * (POINTS - 1)
    return data, plain.model_copy(update={"nodes": nodes, "closed": True, "across": across})


def test_sampling_800_sections_of_101_points(beside, beaded):
    data, zone = beaded
    curve = zone.curve()
    at = np.arange(SECTIONS) * curve.length / SECTIONS
    places, directions = curve.at(at), curve.directions(at)
    steps = np.array([data.grid.x0, data.grid.y0, data.grid.dx, data.grid.dy])
    half, one = zone.across / 2, np.zeros(1)
    u = np.linspace(-half, half, POINTS)
    cols = (places[:, :1] + u * directions[:, 1:] - data.grid.x0) / data.grid.dx
    rows = (places[:, 1:] - u * directions[:, :1] - data.grid.y0) / data.grid.dy
    ours = sections_across(data.z, steps, places, directions, half, POINTS, one)
    general = scipy.ndimage.map_coordinates(data.z, (rows, cols), order=1)
    assert np.nanmax(np.abs(ours - general)) < 1e-4
    beside(
        lambda: sections_across(data.z, steps, places, directions, half, POINTS, one),
        lambda: scipy.ndimage.map_coordinates(data.z, (rows, cols), order=1),
        "SciPy map_coordinates",
    )


def test_bead_on_800_sections_with_all_its_quantities(beside, beaded):
    data, zone = beaded
    spacing = zone.curve().length / SECTIONS
    kind, path = BeadKind(spacing=spacing), PathKind()
    takes = [AlongKind(what=what) for what in ("width", "height", "offset")]
    takes += [ContinuityKind(take=take) for take in ("break", "volume")]

    def measured():
        curve = path.evaluate(StepContext(data, zone)).value
        found = kind.evaluate(StepContext(data, None, {"path": (curve,)})).value
        return found, [take.evaluate(StepContext(data, None, {"of": (found,)})) for take in takes]

    found, _ = measured()
    assert found.at.size == SECTIONS
    assert np.nanmean(found.values("width")) == pytest.approx(3.0, abs=0.03)
    beside(measured, data.z.copy, "copy of the map")


def test_curve_of_a_rounded_rectangle(beside, beaded):
    _, zone = beaded
    nodes = zone.node_places()
    turns, corners = [n.turn for n in zone.nodes], [n.corner for n in zone.nodes]
    beside(lambda: curve_through(nodes, turns, corners, closed=True))


def test_drag_a_node_with_all_sizes_and_the_section(beside):
    """The demo's bead after a node has moved: its path, bead, five characteristics, evidence and section."""
    engine, plan = Engine(PARTS[0].scan().data), demo_plan()
    places = iter(range(10_000))

    def moved():
        step = plan.step("bead-path")
        zone = moved_node(step.zone, 0, 0.0, next(places) / 1000)
        changed = plan.with_step(step.edited(zone=zone))
        return list(show(ShowRequest(engine, None, changed, 20, None, 1.0), lambda: False))

    assert moved()[0].along is not None
    beside(moved, engine.data.z.copy, "copy of the map")
