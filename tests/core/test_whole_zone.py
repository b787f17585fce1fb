"""Every value answers for all of its zone: what was left out, hidden or taken for nothing."""

from __future__ import annotations

import contextlib
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_anchors import X, Y, relief
from test_profiles import edge_plan, stairs

from beads import LENGTH, bead_map, cross_section
from examples import examples
from hemtra import HeightMap, NotMeasured, Plan, inspect
from hemtra.core.characteristics.against_reference import FillKind
from hemtra.core.characteristics.along import AlongKind
from hemtra.core.characteristics.contour_form import RoundnessKind, StraightnessKind
from hemtra.core.characteristics.coplanarity import CoplanarityKind
from hemtra.core.characteristics.form import FlatnessKind
from hemtra.core.characteristics.relations import ParallelismKind, WidthKind
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.recorded_values import comparable
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.extreme import ExtremeKind
from hemtra.core.features.groove import GrooveKind
from hemtra.core.features.island import IslandKind
from hemtra.core.features.path import PathKind
from hemtra.core.features.plane import PlaneKind
from hemtra.core.features.profile_edge import ProfileEdgeKind
from hemtra.core.features.profile_line import ProfileLineKind
from hemtra.core.features.seam import SeamKind
from hemtra.core.features.section import profile_of
from hemtra.core.features.spot import SpotKind
from hemtra.core.geometry.elements import LEVEL
from hemtra.core.geometry.profile_fits import robust_arc
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import ByProfile, Characteristic, Step
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.limits import Verdict, evaluate
from hemtra.core.zones.zone import EllipseZone, PathZone, RectangleZone, RingZone
from hemtra.desktop.models.tray import TrayPart, verdict_changes

ZONE = RectangleZone(x=0, y=0, width=30, height=20)
NOISE = 0.008


def box(x, y, width, height=None):
    """Which points lie in a rectangle."""
    return (np.abs(X - x) <= width / 2) & (np.abs(Y - y) <= (height or width) / 2)


def outcome(kind, data, zone=None, **inputs):
    """What a kind finds."""
    wired = {name: value if isinstance(value, tuple) else (value,) for name, value in inputs.items()}
    return kind.evaluate(StepContext(data, zone, wired))


def flatness(data, zone=ZONE, **params):
    """Of the surface in a zone."""
    return outcome(FlatnessKind(**params), data, surfaces=outcome(PlaneKind(), data, zone).value)


# -- form ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("change", "true"),
    [
        (np.where(box(3.3, 2.1, 6.0), 0.5, 0.0), 0.5),
        (np.where(box(-4.2, 1.0, 3.0), -1.0, 0.0), 1.0),
        (0.5 * np.exp(-((X - 2) ** 2 + Y**2) / 18.0), 0.5),
        (np.where(box(5.07, -3.13, 2.0), 0.5, 0.0), 0.5),
        (np.where(box(7.01, 4.02, 0.35), 0.4, 0.0), 0.4),
    ],
    ids=["wide bump", "dent", "smooth hump", "small bump", "burr"],
)
def test_flatness_holds_all_points(change, true):
    """A fit leaves bumps out to stand firm; form looks at all points again."""
    data = relief(change + 0.01 * X, noise=NOISE, seed=3)
    assert flatness(data).value.value >= 0.8 * true
    assert flatness(data, points="near").value.value < 0.5 * true, "as older plans do, which proves nothing"
    even = relief(0.01 * X, noise=NOISE, seed=3)
    assert flatness(even).value.value < 0.02, "noise is no form"


def test_isolated_points_are_counted_and_do_not_decide():
    z = np.zeros(X.shape)
    z[::37, ::41] = 3.0
    found = flatness(relief(z, noise=NOISE))
    assert found.value.value < 0.02
    inside = np.count_nonzero(box(0, 0, 30, 20) & (z > 0))
    assert found.coverage.spikes == inside
    # two beside each other are strays, three are a burr
    for many, least, most in ((2, 0.0, 0.02), (3, 2.9, 3.1)):
        z = np.zeros(X.shape)
        z[150, 200 : 200 + many] = 3.0
        assert least <= flatness(relief(z, noise=NOISE)).value.value <= most


def test_more_isolated_points_than_the_row_lets_pass_are_not_measured():
    plan = Plan(
        steps=(
            Step(id="plane", name="Plane", kind="plane", zone=ZONE),
            Step(id="flat", name="Flat", kind="flatness", inputs={"surfaces": ("plane",)}),
        ),
        sheet=(Characteristic(balloon=1, name="Flat", step="flat", upper=0.1),),
    )
    z = np.zeros(X.shape)
    z[::7, ::9] = 2.0
    evaluated = inspect(plan, relief(z, noise=NOISE)).characteristics[0]
    assert evaluated.verdict is Verdict.NOT_MEASURED
    assert "isolated points" in evaluated.reason
    lax = plan.with_characteristic(plan.sheet[0].edited(most_spikes=3.0))
    assert inspect(lax, relief(z, noise=NOISE)).characteristics[0].verdict is Verdict.PASS


def test_a_height_of_an_extreme_answers_for_the_points_that_the_extreme_left_out():
    """However far from the extreme it is taken, and wherever its limits are moved to."""
    plan = Plan(
        steps=(
            Step(id="plane", name="Plane", kind="plane", zone=RectangleZone(x=-17, y=0, width=4, height=20)),
            Step(id="top", name="Top", kind="spot", zone=ZONE, params={"take": "highest"}),
            Step(id="rise", name="Rise", kind="height", inputs={"point": ("top",), "plane": ("plane",)}),
        ),
        sheet=(Characteristic(balloon=1, name="Rise", step="rise", upper=0.1),),
    )
    z = np.zeros(X.shape)
    z[::7, ::9] = 2.0
    data = relief(z, noise=NOISE)
    evaluated = inspect(plan, data).characteristics[0]
    assert (evaluated.verdict, "isolated points" in evaluated.reason) == (Verdict.NOT_MEASURED, True)
    failing = plan.with_characteristic(plan.sheet[0].edited(upper=-0.1))
    part = TrayPart(Scan(data, "spiked"))
    part.result = part.engine.run(failing)
    assert part.result.verdict is Verdict.FAIL
    assert verdict_changes([part], plan.sheet[0]) == [part]
    assert verdict_changes([part], failing.sheet[0].edited(upper=-0.05)) == []
    lax = failing.sheet[0].edited(upper=0.1, most_spikes=3.0)
    assert part.engine.run(failing.with_characteristic(lax)).verdict is Verdict.PASS
    assert comparable(failing, plan) is None, "the record of a value that failed does not say what was left out"


def test_scattered_light_is_not_form():
    """A shiny spot gives heights on both sides of the surface that no neighbour shares."""
    rng = np.random.default_rng(5)
    z = np.zeros(X.shape)
    spot = box(4.0, 2.0, 0.8)
    many = np.count_nonzero(spot)
    z[spot] = np.where(rng.random(many) < 0.5, rng.uniform(-2.4, 2.4, many), 0.0)
    found = flatness(relief(z, noise=NOISE))
    assert found.value.value < 0.03
    assert found.coverage.spikes > 10
    # a scratch with a burr beside it has both sides, too, and is part of the part
    z = np.where(box(4.0, 2.0, 0.3, 3.0), -0.5, np.where(box(4.3, 2.0, 0.25, 3.0), 0.3, 0.0))
    assert flatness(relief(z, noise=NOISE)).value.value > 0.75


def test_small_holes_are_bounded_by_their_rims_and_large_ones_are_unseen():
    slope = 0.05 * np.maximum(X - 5.0, 0.0)
    data = relief(np.where(box(12.0, 3.0, 0.6), np.nan, slope), noise=0.001)
    found = flatness(data)
    assert found.coverage.filled > 0.0
    assert found.coverage.known == pytest.approx(1.0, abs=1e-3)
    gone = flatness(relief(np.where(box(-6.0, 0.0, 8.0), np.nan, 0.0 * X), noise=NOISE))
    assert gone.coverage.known == pytest.approx(1 - 64 / 600, abs=0.01)
    assert gone.coverage.gap == pytest.approx(8.1, abs=0.2)
    # where its rim rises towards it, a hole may hide more than was seen
    crater = relief(np.where(np.hypot(X, Y) < 0.45, np.nan, np.maximum(1.0 - np.hypot(X, Y), 0.0)), noise=0.001)
    bump = flatness(crater)
    assert bump.possible[0].value > bump.value.value + 0.15


RIDGE = 4.0
"""Half the width of a ridge along y, mm."""


def ridge_plan(kind):
    """The height of a ridge of 2 mm ± 0.1, by one of the ways to take it."""
    wide = RectangleZone(x=0, y=0, width=24, height=18)
    base = Step(id="base", name="Base", kind="plane", zone=RectangleZone(x=-11, y=0, width=6, height=18))
    cut = Step(id="cut", name="Cut", kind="section", zone=RectangleZone(x=0, y=0, width=24, height=2))
    on_cut = Step(
        id="top",
        name="Top",
        kind="extreme",
        zone=RectangleZone(x=0, y=0, width=24, height=12),
        inputs={"section": ("cut",)},
    )
    top = {
        "spot": Step(id="top", name="Top", kind="spot", zone=wide, params={"take": "highest"}),
        "zone": Step(id="top", name="Top", kind="extreme", zone=wide),
        "section": on_cut,
    }[kind]
    height = Step(id="height", name="Height", kind="height", inputs={"point": ("top",), "plane": ("base",)})
    row = Characteristic(balloon=1, name="Height", step="height", unit="mm", lower=1.9, upper=2.1)
    return Plan(name="ridge", steps=(base, cut, top, height), sheet=(row,))


def ridge(height, hole=None, seed=0):
    """A ridge along y; what lies in the hole was not seen."""
    z = np.maximum(height * (1.0 - (X / RIDGE) ** 2), 0.0)
    z = z + 0.004 * np.random.default_rng(seed).standard_normal(z.shape)
    return relief(np.where(False if hole is None else hole, np.nan, z))


@pytest.mark.parametrize("hole", [1.6, 2.4])
def test_form_counts_what_a_hole_at_the_top_of_a_bump_may_hide(hole):
    off = np.hypot(X - 3.0, Y + 2.0)
    bump = np.clip(0.2 * (1.0 - (off / 3.0) ** 2), 0.0, None)
    z = bump + 0.004 * np.random.default_rng(1).standard_normal(X.shape)
    seen = np.where(off < hole / 2, np.nan, z)
    step = Step(id="plane", name="Plane", kind="plane", zone=ZONE)
    form = Step(id="form", name="Flatness", kind="flatness", inputs={"surfaces": ("plane",)})
    row = Characteristic(balloon=1, name="Flatness", step="form", unit="mm", upper=0.19)
    plan = Plan(name="form", steps=(step, form), sheet=(row,))
    assert inspect(plan, relief(z)).verdict is Verdict.FAIL
    hidden = inspect(plan, relief(seen)).characteristics[0]
    assert hidden.verdict is Verdict.NOT_MEASURED
    assert "as part of it was not seen" in hidden.reason
    assert hidden.high >= 0.19


@pytest.mark.parametrize("kind", ["spot", "zone", "section"])
@settings(max_examples=examples(12), deadline=None)
@given(wide=st.floats(0.5, 7.0), middle=st.floats(-1.5, 1.5), long=st.sampled_from([4.0, 20.0, 60.0]))
def test_no_ridge_that_is_too_high_passes_since_its_crest_was_not_seen(kind, wide, middle, long):
    plan, hole = ridge_plan(kind), box(middle, 0.0, wide, long)
    assert inspect(plan, ridge(2.0)).verdict is Verdict.PASS
    assert inspect(plan, ridge(2.3, hole)).verdict is not Verdict.PASS
    beside = inspect(plan, ridge(2.0, box(8.0, 0.0, 0.3, 0.8))).verdict
    assert beside is Verdict.PASS, "a small hole in the base costs nothing"


def test_a_crest_that_leaves_the_zone_is_not_the_zones_border():
    plan = ridge_plan("section")
    low = plan.step("top").edited(zone=RectangleZone(x=0, y=0, width=24, height=4.1))
    row = inspect(plan.with_step(low), ridge(2.3)).characteristics[0]
    assert row.value is None
    assert "the section continues above the zone; make the zone taller" in row.reason
    assert inspect(plan.with_step(low), ridge(2.0)).verdict is Verdict.PASS


@settings(max_examples=examples(15))
@given(st.floats(-2.0, 2.0), st.floats(0, 360), st.integers(0, 99))
def test_flatness_does_not_depend_on_how_the_part_lies(tilt, turn, seed):
    bow = 0.2 * ((X / 15) ** 2 - 1)
    rise = math.tan(math.radians(tilt))
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    data = relief(bow + rise * (c * X + s * Y) + 7.0, noise=NOISE, seed=seed)
    # what noise adds where the surface ends in a slope
    assert flatness(data).value.value == pytest.approx(flatness(relief(bow)).value.value, abs=2 * NOISE)


def test_parallelism_and_coplanarity_hold_the_points():
    bowed = relief(0.5 * (1 - (X / 15) ** 2), noise=NOISE)
    plane = outcome(PlaneKind(), bowed, ZONE).value
    found = outcome(ParallelismKind(), bowed, plane=plane, datum=LEVEL)
    assert found.value.value == pytest.approx(0.5, abs=0.03)
    burr = relief(np.where(box(10.0, 5.0, 0.8), 0.4, 0.0), noise=NOISE)
    places = [(x, y) for x in (-10.0, 10.0) for y in (-5.0, 5.0)]
    zones = [EllipseZone(x=x, y=y, width=4, height=4) for x, y in places]
    spots = tuple(outcome(SpotKind(), burr, zone).value for zone in zones)
    assert outcome(CoplanarityKind(), burr, points=spots).value.value > 0.35
    assert outcome(CoplanarityKind(of="levels"), burr, points=spots).value.value < 0.02


def test_perpendicularity_holds_the_places_of_the_edge():
    notched = relief(np.where(np.where(np.abs(Y - 2) < 1.5, -0.6, 0.0) > X, 2.0, 0.0))
    edge = outcome(EdgeKind(), notched, RectangleZone(x=0, y=0, width=6, height=20)).value
    across = outcome(
        EdgeKind(), relief(np.where(Y < 0, 2.0, 0.0)), RectangleZone(x=0, y=0, width=6, height=20, rotation=90)
    ).value
    found = outcome(ParallelismKind(turn="square"), notched, edge=edge, to=across)
    assert found.value.value == pytest.approx(0.6, abs=0.06)


# -- sums ------------------------------------------------------------------------------------------


def test_what_was_not_seen_of_an_island_leaves_room_for_its_area_and_volume():
    block = np.where(box(0, 0, 8.0), 0.5, 0.0)
    whole = outcome(IslandKind(level=0.25, volume_from="base"), relief(block), ZONE)
    shadowed = relief(np.where(box(1.5, 0, 3.0, 9.0), np.nan, block))
    found = outcome(IslandKind(level=0.25, volume_from="base"), shadowed, ZONE)
    low, high = found.possible
    assert low.total_area < 0.7 * whole.value.total_area
    assert high.total_area >= whole.value.total_area
    assert low.volume < 0.7 * whole.value.volume
    assert high.volume >= whole.value.volume
    speckled = outcome(IslandKind(level=0.25, volume_from="base"), relief(block, missing=0.05), ZONE)
    assert speckled.value.total_area == pytest.approx(whole.value.total_area, rel=0.01)
    assert speckled.value.volume == pytest.approx(whole.value.volume, rel=0.01)
    spread = speckled.possible[1].total_area - speckled.possible[0].total_area
    assert spread < 0.03 * whole.value.total_area


def test_volume_from_its_base_is_all_of_an_island():
    dome = np.maximum(1.0 - (X**2 + Y**2) / 16.0, 0.0)
    true = math.pi * 16.0 / 2
    found = outcome(IslandKind(level=0.02, volume_from="base"), relief(dome), ZONE).value
    assert found.volume == pytest.approx(true, rel=0.01)
    assert outcome(IslandKind(level=0.5), relief(dome), ZONE).value.volume < 0.3 * true


def test_unseen_patches_may_join_islands_and_hide_others():
    two = np.where(box(-5, 0, 4.0) | box(5, 0, 4.0), 1.0, 0.0)
    joined = outcome(IslandKind(), relief(np.where(box(0, 0, 6.4, 2.0), np.nan, two)), ZONE)
    assert (joined.value.count, joined.possible[0].count) == (2, 1)
    half = np.where(box(9, 0, 0.8, 3.0), 1.0, two)
    hidden = outcome(IslandKind(least_area=6.0), relief(np.where(box(10.9, 0, 3.0, 3.0), np.nan, half)), ZONE)
    assert (hidden.value.count, hidden.possible[1].count) == (2, 3)


def test_a_filled_share_counts_the_whole_zone():
    half = np.where(X < 0, 1.0, 0.0)
    zone = RectangleZone(x=0, y=0, width=20, height=10)
    unseen = relief(np.where(X > 1.0, np.nan, half))
    found = outcome(FillKind(level=0.5), unseen, zone)
    low, high = (v.value for v in found.possible)
    assert low == pytest.approx(50.0, abs=1.0)
    assert low < found.value.value <= high
    assert outcome(FillKind(level=0.5), relief(half, missing=0.1), zone).value.value == pytest.approx(
        50, abs=1.0
    )


# -- extremes --------------------------------------------------------------------------------------


@pytest.mark.parametrize("size", [0.35, 1.2])
def test_the_highest_of_a_zone_is_a_burr_and_not_a_stray_point(size):
    z = np.where(box(2.0, 1.0, size), 0.8, 0.0)
    z[100, 120], z[180, 260] = 5.0, -5.0
    zone = EllipseZone(x=0, y=0, width=12, height=12)
    for kind in (SpotKind(take="highest"), ExtremeKind(which="highest")):
        assert outcome(kind, relief(z, noise=NOISE), zone).value.z == pytest.approx(0.8, abs=0.05)
    rib = relief(np.where(np.abs(X) < 0.2, 3.0, 0.0), noise=NOISE)
    assert outcome(SpotKind(take="highest"), rib, zone).value.z == pytest.approx(3.0, abs=0.05)
    assert outcome(SpotKind(take="lowest"), rib, zone).value.z > -0.05


# -- edges -----------------------------------------------------------------------------------------


def straightness(data):
    """Coverage and value of the straightness of an edge about x = 0."""
    edge = outcome(EdgeKind(), data, RectangleZone(x=0, y=0, width=4, height=24)).value
    return edge.coverage, outcome(StraightnessKind(), data, edge=edge).value.value


def test_form_of_an_edge_needs_all_of_it():
    coverage, _ = straightness(relief(np.where(np.where(Y > 1.5, -3.0, 0.0) > X, 2.0, 0.0)))
    assert coverage.known < 0.6
    assert coverage.gap == pytest.approx(10.5, abs=0.5)
    coverage, value = straightness(relief(np.where(np.where(np.abs(Y - 3) < 1.5, -1.0, 0.0) > X, 2.0, 0.0)))
    assert coverage.known > 0.95
    assert value > 0.9
    _, narrow = straightness(relief(np.where(np.where(np.abs(Y - 3) < 0.4, -0.8, 0.0) > X, 2.0, 0.0)))
    assert narrow > 0.7, "a notch shorter than the pieces"
    ring = RingZone(x=0, y=0, width=16, height=16, inner=0.5)
    dented = np.where((np.abs(Y) < 0.6) & (X > 0), 5.4, 6.0)
    circle = outcome(CircleKind(), relief(np.where(np.hypot(X, Y) < dented, 2.0, 0.0)), ring).value
    assert outcome(RoundnessKind(), None, circle=circle).value.value > 0.55


def test_the_least_width_is_a_local_size():
    notched = np.where((np.abs(X) < 5.0) & ~((X > 4.2) & (np.abs(Y - 1.0) < 0.6)), 2.0, 0.0)
    sides = {
        name: outcome(EdgeKind(), relief(notched), RectangleZone(x=x, y=0, width=4, height=16)).value
        for name, x in (("one", -5.0), ("other", 5.0))
    }
    assert outcome(WidthKind(take="least"), None, **sides).value.value == pytest.approx(9.2, abs=0.11)
    assert outcome(WidthKind(take="greatest"), None, **sides).value.value == pytest.approx(10.0, abs=0.11)
    half = np.where(np.abs(Y) < 5.0, notched, 0.0)
    other = outcome(EdgeKind(), relief(half), RectangleZone(x=5, y=0, width=4, height=16)).value
    with pytest.raises(NotMeasured, match="of the edges are seen"):
        outcome(WidthKind(take="least"), None, one=sides["one"], other=other)


# -- along a path ----------------------------------------------------------------------------------


def bead(change=None, **params):
    """A bead all round, changed by mm along its near side."""
    data, zone = bead_map(np.random.default_rng(1), base="plain", change=change)
    path = outcome(PathKind(), data, zone).value
    return outcome(BeadKind(**params), data, path=path).value


def gone(start, length, value=0.0):
    """A change that leaves nothing, or no data, over a stretch of the near side."""
    return lambda z, d, u, v: np.where((v < 0) & (np.abs(d) < 3) & (u > start) & (u < start + length), value, z)


def taken(found, what, take="least", **params):
    """A size along a path."""
    return (
        AlongKind(what=what, take=take, **params)
        .evaluate(StepContext(None, None, {"of": (found,)}))
        .value.value
    )


def test_a_bead_that_is_missing_has_no_width():
    found = bead(gone(-3.0, 6.0))
    assert [taken(found, what) for what in ("width", "height", "area")] == [0.0, 0.0, 0.0]
    assert taken(found, "width", missing=8.0) > 2.5, "left to the row that evaluates breaks"
    with pytest.raises(NotMeasured, match="there is no bead"):
        taken(found, "offset")


def test_a_stretch_that_was_not_seen_is_not_measured():
    found = bead(gone(-8.0, 16.0, np.nan))
    with pytest.raises(NotMeasured, match="maximum 2 mm"):
        taken(found, "width", take="each", least_measured=50.0)
    assert found.coverage.gap == pytest.approx(16.0, abs=2.0)
    assert found.coverage.known == pytest.approx(1 - 16 / LENGTH, abs=0.03)


def test_a_bead_wider_than_its_section_is_not_told_to_be_small():
    _, y = np.meshgrid(np.arange(300) * 0.1, np.arange(-80, 81) * 0.1)
    data = HeightMap(cross_section("dome", y, width=8.5), dx=0.1, dy=0.1, x0=0.0, y0=-8.0)
    for across, seen in ((9.0, False), (15.0, True)):
        zone = PathZone.through(np.array([(2.0, 0.0), (28.0, 0.0)]), across=across)
        found = outcome(BeadKind(), data, path=outcome(PathKind(), data, zone).value).value
        if seen:
            assert taken(found, "width", "mean") == pytest.approx(8.5, abs=0.05)
        else:
            with pytest.raises(NotMeasured, match="section"):
                taken(found, "width", "mean")


def seam(gap, pitch=0.1, depth=None):
    """A seam along x whose gap is a number, or a function of x; without depth nothing is seen in it."""
    along, across = np.arange(round(40 / pitch)) * pitch, (np.arange(round(24 / pitch)) + 0.37) * pitch - 12.0
    x, y = np.meshgrid(along, across)
    wide = gap(x) if callable(gap) else gap
    z = np.where(np.abs(y) > wide / 2, 0.0, np.nan if depth is None else -depth)
    data = HeightMap(z.astype(np.float32), dx=pitch, dy=pitch, x0=0.0, y0=float(across[0]))
    zone = PathZone.through(np.array([(2.0, 0.0), (38.0, 0.0)]), across=20.0)
    return outcome(SeamKind(), data, path=outcome(PathKind(), data, zone).value).value


def test_a_seam_that_is_closed_or_pinched_says_so():
    filled = seam(lambda x: np.where(np.abs(x - 20) < 1.5, 0.0, 1.03))
    assert taken(filled, "gap") == 0.0
    pinched = seam(lambda x: np.where(np.abs(x - 20) < 2.0, 0.33, 1.03))
    assert taken(pinched, "gap") == pytest.approx(0.33, abs=0.2)
    # depth that is seen is no dropout
    assert taken(seam(0.28, depth=4.0), "gap", "mean") == pytest.approx(0.28, abs=0.15)


@pytest.mark.parametrize("gap", [4.03, 6.03])
def test_a_coarse_seam_reads_its_gap(gap):
    assert taken(seam(gap, pitch=0.5), "gap", "mean") == pytest.approx(gap, abs=0.5)


# -- profiles --------------------------------------------------------------------------------------


def profiles(z):
    """A map of profiles from heights (n, m), 0.1 mm apart in x."""
    return HeightMap(np.asarray(z, np.float32), dx=0.1, dy=0.5, x0=-10.0)


def groove_plan(over):
    zone = RectangleZone(x=0, y=0, width=12, height=8)
    steps = (
        Step(id="profile", name="Profile", kind="profile"),
        Step(id="groove", name="Groove", kind="groove", inputs={"section": ("profile",)}, zone=zone),
        Step(id="depth", name="Depth", kind="groove-size", inputs={"of": ("groove",)}),
    )
    limits = {"lower": 0.8, "upper": 1.2, "least_share": 99.0}
    row = Characteristic(balloon=1, name="Depth", step="depth", over=over, **limits)
    return Plan(name="grooves", steps=steps, sheet=(row,), by_profile=ByProfile())


@pytest.mark.parametrize("over", ["each", "worst", "share"])
def test_profiles_without_a_groove_have_its_depth_of_nothing(over):
    x = -10.0 + 0.1 * np.arange(200)
    z = np.tile(-np.clip(3.0 - np.abs(x), 0.0, 1.0), (200, 1))
    good, bad = profiles(z), z.copy()
    bad[80:90] = 0.006 * np.sin(x)
    assert inspect(groove_plan(over), good).verdict is Verdict.PASS
    found = inspect(groove_plan(over), profiles(bad)).characteristics[0]
    assert found.verdict is Verdict.FAIL
    assert found.least == pytest.approx(0.0, abs=0.01)
    assert found.greatest == pytest.approx(1.0, abs=0.01)


def on_profile(kind, z, zone=None):
    data = HeightMap(np.asarray(z, np.float32)[None, :], dx=0.1, dy=1.0, x0=-10.0)
    return outcome(kind, data, zone, section=profile_of(data)).value


def test_a_groove_whose_floor_is_hidden_is_not_shallow():
    x = -10.0 + 0.1 * np.arange(200)
    z = -np.clip(2.0 * (2.5 - np.abs(x)), 0.0, 2.0)
    hidden = np.where(np.abs(x) < 2.25, np.nan, z)
    with pytest.raises(NotMeasured, match="floor is not seen"):
        on_profile(GrooveKind(), hidden)
    assert on_profile(GrooveKind(), np.where(np.abs(x - 5) < 0.4, np.nan, z)).depth == pytest.approx(
        2.0, abs=0.01
    )


@settings(max_examples=examples(30), deadline=None)
@given(
    st.sampled_from(["round", "wave", "sharp"]),
    st.floats(0.0, 3.0),
    st.floats(-1.5, 1.5),
    st.sampled_from(["groove", "ridge"]),
)
def test_a_groove_with_a_hole_in_its_data_is_known_to_a_few_hundredths_or_not_measured(shape, wide, at, side):
    x = -10.0 + 0.1 * np.arange(200)
    off = np.minimum(np.abs(x) / 4.0, 1.0)
    deep = {"round": 1.0 - off**2, "wave": 0.5 + 0.5 * np.cos(np.pi * off), "sharp": 1.0 - off}[shape]
    z = (2.0 if side == "ridge" else -2.0) * deep + 0.004 * np.random.default_rng(1).standard_normal(x.size)
    with contextlib.suppress(NotMeasured):
        found = on_profile(GrooveKind(side=side), np.where(np.abs(x - at) < wide / 2, np.nan, z))
        assert found.depth == pytest.approx(2.0, rel=0.035)


def test_little_data_is_no_evidence():
    x = -10.0 + 0.1 * np.arange(200)
    rng = np.random.default_rng(2)
    sparse = np.where(rng.random(200) < 0.9, np.nan, 0.1 * x)
    with pytest.raises(NotMeasured, match="of the section has data"):
        on_profile(ProfileLineKind(), sparse)
    stray = np.where(np.abs(x) < 2.0, np.nan, 0.0)
    stray[100] = -3.0
    edge = on_profile(ProfileEdgeKind(by="data", change="rises", pick="first"), stray)
    assert edge.x == pytest.approx(2.0, abs=0.1), "one stray point in a gap is not its other side"
    lost = stairs(np.zeros(40))
    z = lost.z.copy()
    z[10:13] = np.nan
    found = inspect(edge_plan("worst", average=5), HeightMap(z, dx=lost.grid.dx, dy=0.5, x0=lost.grid.x0))
    assert np.count_nonzero(~found.series[1].measured) == 3, "neighbours do not stand in for lost profiles"


def test_a_line_on_a_section_rests_on_most_of_its_points():
    x, zone = -10.0 + 0.1 * np.arange(200), RectangleZone(x=0, y=0, width=4, height=12)
    flank = 1.2 * x
    with pytest.raises(NotMeasured, match="no straight line"):
        on_profile(ProfileLineKind(), flank + 0.3 * x**2, zone)
    seen = np.where(x < -0.2, np.nan, np.where(x < 1.5, flank, flank + 1.0))
    with pytest.raises(NotMeasured, match="lie on one line"):
        on_profile(ProfileLineKind(), seen, zone)
    dirty = np.where(x < 0.8, flank, flank + 1.0)
    assert on_profile(ProfileLineKind(), dirty, zone).climb == pytest.approx(1.2, abs=1e-6)


def test_a_step_in_a_shadow_lies_where_its_upper_side_was_seen_last():
    x = -10.0 + 0.1 * np.arange(200)
    z = np.where(x < 0, 2.0, 0.0)
    shadow = np.where((x >= 0) & (x < 2.0), np.nan, z)
    assert on_profile(ProfileEdgeKind(), shadow).x == pytest.approx(0.0, abs=0.06)


@settings(max_examples=examples(20))
@given(st.floats(0.2, 0.35), st.floats(0.3, 1.5), st.integers(0, 99))
def test_outliers_on_one_side_do_not_bend_an_arc(share, height, seed):
    rng = np.random.default_rng(seed)
    turn = np.linspace(math.radians(30), math.radians(150), 120)
    x, z = 4.0 * np.cos(turn), 4.0 * np.sin(turn) + rng.normal(0, 0.002, turn.size)
    first = rng.integers(0, turn.size)
    z[(np.arange(turn.size) - first) % turn.size < share * turn.size] += height
    assert robust_arc(x, z, 0.003)[2] == pytest.approx(4.0, abs=0.02)


# -- limits and verdicts ---------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("value", "limits", "u", "verdict"),
    [
        (4.11, (None, 4.10), 0.01, "NOT PROVEN"),
        (4.111, (None, 4.10), 0.01, "FAIL"),
        (0.1 + 0.2, (None, 0.3), 0.0, "PASS"),
        (0.3, (None, 0.1), 0.2, "NOT PROVEN"),
        (4.09, (None, 4.10), 0.01, "PASS"),
        (4.104, (None, 4.10), 0.0, "FAIL"),
        (-0.3, (-0.1 - 0.2, None), 0.0, "PASS"),
    ],
)
def test_limits_are_decimals_and_values_are_not_rounded(value, limits, u, verdict):
    assert evaluate(value, *limits, 2, u)[0] == verdict


@settings(max_examples=examples(200))
@given(st.floats(-5, 5), st.floats(0, 2), st.floats(0, 2), st.floats(-5, 5), st.floats(0, 3), st.floats(0, 0.5))
def test_no_verdict_is_better_than_any_value_that_is_possible(value, down, up, lower, room, u):
    upper = lower + room
    verdict, _ = evaluate(value, lower, upper, 3, u, (value - down, value + up))
    at = [evaluate(v, lower, upper, 3, u)[0] for v in np.linspace(value - down, value + up, 21)]
    if verdict is Verdict.PASS:
        assert set(at) == {Verdict.PASS}
    if verdict is Verdict.FAIL:
        assert set(at) == {Verdict.FAIL}


def test_unseen_data_leaves_room_for_all_that_is_made_of_it():
    """A formula of an area passes only if it does with the unseen taken for empty and for full."""
    steps = (
        Step(id="block", name="Block", kind="island", params={"level": 0.25}, zone=ZONE),
        Step(id="area", name="Area", kind="area", inputs={"of": ("block",)}),
        Step(id="twice", name="Twice", kind="formula", params={"text": "2 * a"}, inputs={"numbers": ("area",)}),
    )
    row = Characteristic(balloon=1, name="Twice", step="twice", lower=70.0, upper=110.0)
    block = np.where(box(0, 0, 8.0), 0.5, 0.0)
    shadowed = relief(np.where(box(1.5, 0, 3.0, 9.0), np.nan, block))
    evaluated = Engine(shadowed).run(Plan(steps=steps, sheet=(row,))).characteristics[0]
    assert evaluated.verdict is Verdict.NOT_MEASURED
    assert "was not seen" in evaluated.reason
    assert evaluated.low < 85.0
    assert evaluated.high > 128.0
    low = row.edited(lower=140.0, upper=200.0)
    assert Engine(shadowed).run(Plan(steps=steps, sheet=(low,))).verdict is Verdict.FAIL, "small however it is"
