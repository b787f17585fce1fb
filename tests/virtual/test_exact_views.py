"""The virtual sensor against a slow exact tracer: what it sees of a part is what geometry lets it see."""

from dataclasses import replace

import numpy as np
import pytest

from exact_views import traced
from hemtra import inspect
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.sensor_models import models_of
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import STATION, demo_plan, random_pose
from hemtra.virtual.line import passage
from hemtra.virtual.parts import door_frame
from hemtra.virtual.runner import make_runner
from hemtra.virtual.runner_demo import RUNNER_STATION
from hemtra.virtual.sensor import PartUnderSensor, scan_part

RAYS = 80
NEAR = 1e-3
"""mm within which both must meet the surface."""
BESIDE = 3e-3
"""mm; a ray that the tracer itself sees otherwise so far beside it grazes something, and is set aside."""


def beside_edges(z):
    """Which points have another neighbour without data, or much higher or lower."""
    filled, found = np.nan_to_num(z.astype(float), nan=-99.0), np.zeros(z.shape, bool)
    for axis in (0, 1):
        step = np.abs(np.diff(filled, axis=axis)) > 0.05
        ahead, behind = [slice(None)] * 2, [slice(None)] * 2
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        found[tuple(ahead)] |= step
        found[tuple(behind)] |= step
    return found


def differing(part, station, seed, rays=RAYS):
    """Of some rays that end beside edges, how many the tracer sees otherwise, grazing ones aside."""
    way, model = passage(station, models_of(station)), models_of(station)[0]
    z = PartUnderSensor(part, station, way, ideal=True).take(10_000).z
    rng = np.random.default_rng(seed)
    i, k = np.unravel_index(rng.choice(np.flatnonzero(beside_edges(z)), rays, replace=False), z.shape)
    spread = model.width / model.mid
    slopes = spread / model.points * (k + 0.5) - spread / 2
    ys, seen, height = way.ys[i], z[i, k].astype(float), station.sensors[0].stand_off

    def agrees(slopes, ys):
        found = traced(part, station, slopes, ys)
        found[(height - found < model.near) | (height - found > model.far)] = np.nan
        return (np.isnan(found) & np.isnan(seen)) | (np.abs(found - seen) < NEAR)

    agreed = agrees(slopes, ys)
    tilt = BESIDE / height
    for dx, dy in ((tilt, 0.0), (-tilt, 0.0), (0.0, BESIDE), (0.0, -BESIDE)):
        near = traced(part, station, slopes[~agreed] + dx, ys[~agreed] + dy)
        here = seen[~agreed]
        same = (np.isnan(near) & np.isnan(here)) | (np.abs(near - here) < 0.05)
        agreed[np.flatnonzero(~agreed)[same]] = True
    return np.count_nonzero(~agreed)


@pytest.mark.parametrize("seed", [3, 1003])
def test_a_cover_in_any_pose_is_seen_as_it_is(seed):
    pose = random_pose(np.random.default_rng([seed, 77]), (120.0, 80.0))
    assert differing(replace(Cover(), pose=pose), STATION, seed) == 0


@pytest.mark.parametrize(
    ("part", "station"),
    [
        (Cover(), STATION),
        (replace(Cover(), pose=Frame(rotation=37.0, tilt_x=1.2, tilt_y=-1.6)), STATION),
        (door_frame(2), STATION),
        (make_runner(3), RUNNER_STATION),
    ],
    ids=["level", "tilted", "door frame", "runner"],
)
def test_every_part_is_seen_as_it_is(part, station):
    assert differing(part, station, 5) == 0


def test_the_rim_of_a_bore_is_seen_up_to_its_edge_where_its_wall_overhangs():
    """On a tilted part the wall of one side leans over: what is left of the top must not be lost with it."""
    part = replace(Cover(), pose=Frame(tilt_x=-2.0, tilt_y=1.5))
    assert differing(part, STATION, 6, rays=120) == 0
    values = inspect(demo_plan(), scan_part(part, STATION, 1)).characteristics
    bore = next(value for value in values if value.balloon == 8)
    assert bore.value == pytest.approx(20.0, abs=0.05)
