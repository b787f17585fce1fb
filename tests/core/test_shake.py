"""The shake test: copies are worse by what they say, and what breaks is told with its amount."""

import numpy as np
import pytest

from hemtra import HeightMap
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.limits import Verdict
from hemtra.core.shake.disturbances import DISTURBANCES
from hemtra.core.shake.shaking import Case, TriedPart, cases, findings, shaken
from hemtra.core.shake.turning import turned
from makers import levels, sloped

RNG = np.random.default_rng


def hilly(rows=90, cols=110):
    """A smooth surface, brighter where it is higher, as a function of x and y and as a map of it."""

    def height(x, y):
        return 1.5 + np.sin(0.9 * x) * np.cos(0.7 * y)

    data = sloped(rows, cols)
    z = height(data.x[None, :], data.y[:, None])
    return height, HeightMap(z, np.uint8(60 * z), 0.1, 0.2, float(data.x[0]), float(data.y[0]))


@pytest.mark.parametrize("degrees", [0.0, 3.0, 90.0, 137.0, 180.0, -60.0])
def test_a_turned_map_shows_the_same_surface_turned(degrees):
    height, data = hilly()
    found = turned(data, degrees)
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    middle = [(v[0] + v[-1]) / 2 for v in (data.x, data.y)]
    x, y = found.x[None, :] - middle[0], found.y[:, None] - middle[1]
    true = height(middle[0] + c * x + s * y, middle[1] - s * x + c * y)
    inner = ~np.isnan(found.z)
    assert inner.sum() > 0.9 * data.z.size
    assert np.abs(found.z - true)[inner].max() < 0.05
    assert np.median(np.abs(found.z - true)[inner]) < 0.003


def test_a_turned_wall_stays_a_wall_and_a_point_that_shines_stays_one():
    z = np.where(np.arange(80)[None, :] < 40, 0.0, 3.0) + np.zeros((60, 1))
    grey = np.full(z.shape, 100, np.uint8)
    z[20, 20], grey[20, 20] = 1.0, 255
    found = turned(HeightMap(z, grey, 0.1, 0.2, 0.0, 0.0), 90.0)
    assert set(np.unique(found.z[~np.isnan(found.z)])) == {0.0, 1.0, 3.0}
    assert (found.z == 1.0).sum() == 1


@pytest.mark.parametrize("name", [name for name, one in DISTURBANCES.items() if one.copied is not None])
def test_larger_amounts_are_farther_from_the_scan_and_the_same_seed_gives_the_same(name):
    _, data = hilly()
    disturbance = DISTURBANCES[name]

    def worse(amount, seed):
        return disturbance.copied(data, amount, RNG(seed))

    one, again = worse(disturbance.amounts[0], 3), worse(disturbance.amounts[0], 3)
    assert np.array_equal(one.z, again.z, equal_nan=True)
    assert one.grid == again.grid
    off = [_off(data, worse(amount, 3)) for amount in disturbance.amounts]
    if name not in ("turned", "coarser"):
        assert off == sorted(off)
    assert off[-1] > 0.0


def _off(data, copy):
    """How far a copy is from the scan, in whatever it changes."""
    if copy.shape != data.shape or copy.grid != data.grid:
        moved = np.hypot(copy.grid.x0 - data.grid.x0, copy.grid.y0 - data.grid.y0)
        return float(moved + abs(copy.grid.dx - data.grid.dx))
    gone = np.isnan(copy.z) != np.isnan(data.z)
    greyer = np.abs(copy.intensity.astype(int) - data.intensity).mean()
    return float(gone.mean() + np.nan_to_num(np.abs(copy.z - data.z)).mean() + greyer)


def test_what_breaks_first_is_told_with_its_amount_and_what_may_help():
    plan, data = levels(lower=-0.06, upper=0.06), sloped(noise=0.004)
    tried = cases(60, ["tilted", "dropouts", "noise"])
    assert len(tried) == 60
    found = {one.disturbance: one for one in findings(shaken(plan, TriedPart("a", data, True), tried))}
    # a slope over 2 mm between the two spots: 0.06 mm are 1.7°, whichever way it tilts at worst
    tilted = found["tilted"]
    assert tilted.holds_to in (1.0, 2.0)
    assert tilted.breaks_at.first.name == "Rise"
    assert tilted.breaks_at.first.verdict is Verdict.FAIL
    assert "0.060" in tilted.breaks_at.first.reason
    assert found["noise"].holds_to == 8.0
    assert [at.copies for at in found["dropouts"].amounts] == [5] * 4


def test_a_bad_part_that_passes_is_told():
    plan, data = levels(lower=-0.06, upper=0.06), sloped(slope_x=0.05)
    assert Engine(data).run(plan).verdict is Verdict.FAIL
    (found,) = findings(shaken(plan, TriedPart("bad", data, False), [Case("tilted", 3.0)] * 20))
    (at,) = found.amounts
    assert 0 < at.passed < 20
    assert (at.refused, at.unmeasured, at.first, at.parts) == (0, 0, None, ("bad",))
    (mirrored,) = findings(shaken(plan, TriedPart("flat", sloped(), True), [Case("mirrored", 1.0)]))
    assert mirrored.amounts[0].passed == 1, "what looks the same mirrored cannot be refused"
    assert not mirrored.amounts[0].holds


def test_a_part_seen_too_little_is_refused_with_a_mend():
    plan, data = levels(lower=-0.5, upper=0.5), sloped(noise=0.004)
    (found,) = findings(shaken(plan, TriedPart("a", data, None), [Case("shadow", 8.0)] * 12))
    at = found.breaks_at
    assert found.holds_to is None
    assert at.unmeasured > 0 == at.refused
    assert at.first.reason


def test_an_empty_scan_is_shaken_too():
    data = HeightMap(np.full((40, 50), np.nan, np.float32), None, 0.1, 0.2, 0.0, 0.0)
    for one in shaken(levels(), TriedPart("empty", data, True), cases(1)):
        assert one.verdict is Verdict.NOT_MEASURED


def test_what_is_simulated_anew_comes_once_and_only_of_parts_that_can_be():
    tried = cases(90)
    anew = [one for one in tried if one.disturbance == "simulated"]
    assert [one.amount for one in anew] == list(DISTURBANCES["simulated"].amounts)
    found = list(shaken(levels(), TriedPart("one", sloped(), True), anew))
    assert found == [], "it is not known how this part is made"
    tilted = []

    def rescan(amount, rng):
        tilted.append(amount)
        return sloped(slope_x=amount)

    found = list(shaken(levels(lower=-0.06, upper=0.06), TriedPart("one", sloped(), True, rescan), anew))
    assert tilted == list(DISTURBANCES["simulated"].amounts)
    assert [str(one.verdict) for one in found] == ["PASS", "FAIL", "FAIL", "FAIL"]
