"""Single features and profile plans, on one core."""

import numpy as np
import pytest

from hemtra import HeightMap
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.profile_runs import single
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.code import CodeKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.island import IslandKind
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone, RectangleZone
from hemtra.virtual.demo import PARTS
from hemtra.virtual.runner_demo import RUNNERS, runner_plan

SIDE = 2048


@pytest.fixture(scope="module")
def studded():
    """2048 × 2048 points at 0.1 mm with 441 studs of 3 mm across and 2 mm high, and noise."""
    x = (np.arange(SIDE) * 0.1) % 10.0 - 5.0
    z = np.where(np.hypot(x, x[:, None]) < 1.5, 2.0, 0.0)
    z = z + 0.008 * np.random.default_rng(1).standard_normal(z.shape)
    return HeightMap(z.astype(np.float32), dx=0.1, dy=0.1)


def test_islands_in_2048_by_2048(beside, studded):
    whole = RectangleZone(x=102.4, y=102.4, width=204.6, height=204.6)
    kind, given = IslandKind(level=1.0), StepContext(studded, whole)
    assert kind.evaluate(given).value.count == 441
    beside(lambda: kind.evaluate(given), studded.z.copy, "copy of the map")


def test_edge_line_with_200_scan_lines(beside, studded):
    z = np.where(np.arange(SIDE) * 0.1 < 100.03, 0.0, 2.0) + 0 * studded.z
    data = HeightMap(z, dx=0.1, dy=0.1)
    kind, given = EdgeKind(), StepContext(data, RectangleZone(x=100, y=90, width=4, height=20, rotation=3))
    beside(lambda: kind.evaluate(given))


def test_hole_with_360_rays(beside, studded):
    x = np.arange(SIDE) * 0.1 - 100.0
    data = HeightMap(np.where(np.hypot(x, x[:, None]) < 5.0, -2.0, 0.0), dx=0.1, dy=0.1, x0=-100, y0=-100)
    # half way between the inner and outer end of its lines a point's pitch makes 360 of them
    kind, given = CircleKind(change="rises"), StepContext(data, EllipseZone(x=0, y=0, width=20.8, height=20.8))
    beside(lambda: kind.evaluate(given))


def test_read_a_code(beside):
    part = PARTS[0].scan().data
    kind, given = (
        CodeKind(symbology="data-matrix"),
        StepContext(part, RectangleZone(x=-27, y=-18, width=12, height=12)),
    )
    beside(lambda: kind.evaluate(given))


def test_one_profile_with_eleven_characteristics(beside):
    data, plan = RUNNERS[1].scan().data, runner_plan()
    engine = Engine(data)
    profile = engine.profiles(plan).one(250)
    beside(lambda: Engine(profile).run(single(plan)))


def test_a_run_of_2000_profiles(beside):
    short = RUNNERS[1].scan().data
    long = HeightMap(np.tile(short.z, (4, 1)), dx=short.grid.dx, dy=0.16, x0=short.grid.x0, y0=short.grid.y0)
    plan = runner_plan()
    beside(lambda: Engine(long).run(plan), long.z.copy, "copy of the run")
