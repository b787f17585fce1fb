"""Beads, seams and edges along a path, against analytic truth."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from beads import (
    AREAS,
    BASES,
    BOUNDS,
    HALF_Y,
    HEIGHT,
    LENGTH,
    PITCH,
    SHAPES,
    WIDTH,
    along,
    bead_map,
    cross_section,
    errors,
    off_path,
    outcome,
    path_zone,
    taken,
)
from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.characteristics.along import AlongKind
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.seam import SeamKind, TrimKind
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.series import MeasuredAlong
from hemtra.core.runs import runs
from hemtra.core.zones.zone import PathZone


@pytest.mark.parametrize("base", BASES)
@pytest.mark.parametrize("shape", SHAPES)
def test_sizes_of_a_bead_are_true(shape, base):
    for noise in (0.0, 1.0):
        found = [errors(np.random.default_rng(k), shape, base, noise) for k in range(3)]
        for name, bound in BOUNDS.items():
            assert abs(np.mean([e[name] for e in found])) < bound, (name, noise)


def near_side(change):
    """A change of the bead by mm along its near side, which its path begins in the middle of."""
    return lambda z, d, u, v: np.where((v < 0) & (np.abs(d) < 3.0), change(z, d, u), z)


@settings(max_examples=examples(8), deadline=None)
@given(st.floats(-8, 4), st.floats(1.5, 4.0), st.integers(0, 99))
def test_the_ends_of_a_break_are_known_to_a_spacing(start, length, seed):
    gone = near_side(lambda z, d, u: np.where((u > start) & (u < start + length), 0.0, z))
    data, zone = bead_map(np.random.default_rng(seed), base="plain", change=gone)
    found = along(data, zone, spacing=0.4)
    value = taken(ContinuityKind(), found)
    (first, many), *others = runs(found.absent, closed=True)
    assert not others
    (gap,) = found.breaks
    assert (gap.first, gap.many, gap.length) == (first, many, value.value)
    begins = (gap.start - start + LENGTH / 2) % LENGTH - LENGTH / 2
    # ends are known to the spacing of the map, and not only to that of the sections
    assert begins == pytest.approx(0.0, abs=0.12)
    assert begins + value.value == pytest.approx(length, abs=0.12)
    assert taken(ContinuityKind(take="breaks"), found).value == 1
    whole = LENGTH - length
    assert taken(ContinuityKind(take="length"), found).value == pytest.approx(whole, abs=0.6)
    closing = taken(ContinuityKind(take="overlap"), found).value
    if start + 0.3 < 0.0 < start + length - 0.3:
        # the two ends do not meet
        assert closing == -value.value
    elif start > 0.5 or start + length < -0.5:
        assert closing == 0.0


def test_two_ends_that_lie_over_each_other_are_told():
    thick = near_side(lambda z, d, u: np.where(np.abs(u) < 3.0, 1.5 * z, z))
    data, zone = bead_map(np.random.default_rng(3), base="plain", change=thick)
    assert taken(ContinuityKind(take="overlap"), along(data, zone)).value == pytest.approx(6.0, abs=0.8)
    open_path = zone.model_copy(update={"closed": False})
    with pytest.raises(NotMeasured, match="does not close"):
        taken(ContinuityKind(take="overlap"), along(data, open_path))


def test_a_bead_that_wanders_is_as_far_off_as_it_is():
    def wander(z, d, u):
        return cross_section("dome", d - 0.8 * np.exp(-((u / 5.0) ** 2)))

    data, zone = bead_map(np.random.default_rng(5), base="plain", change=near_side(wander))
    found = along(data, zone)
    far = taken(AlongKind(what="offset", take="greatest"), found)
    # the path goes counter-clockwise, so that outward is to its right
    assert far.value == pytest.approx(0.8, abs=0.03)
    assert taken(AlongKind(what="offset", take="least"), found).value == pytest.approx(0.0, abs=0.03)
    stretch = taken(AlongKind(what="offset", take="stretch", lower=-0.4, upper=0.4), found)
    assert stretch.value == pytest.approx(2 * 5.0 * math.sqrt(math.log(2)), abs=0.6)
    share = taken(AlongKind(what="offset", take="share", lower=-0.4, upper=0.4), found)
    assert share.value == pytest.approx(100 * (1 - stretch.value / LENGTH), abs=0.2)


def test_each_section_is_evaluated_and_the_nodes_say_what_is_asked_for():
    data, zone = bead_map(np.random.default_rng(6), base="plain")
    nodes = [n.model_copy(update={"nominal": 2.8 if k == 2 else 3.0}) for k, n in enumerate(zone.nodes)]
    found = along(data, zone.model_copy(update={"nodes": tuple(nodes)}))
    each = taken(AlongKind(what="width"), found)
    assert isinstance(each, MeasuredAlong)
    assert each.value == pytest.approx(WIDTH, abs=0.05)
    assert each.series.values.size == found.at.size
    off = taken(AlongKind(what="width", from_nodes=True, take="greatest"), found)
    assert off.value == pytest.approx(0.2, abs=0.1)
    with pytest.raises(NotMeasured, match="no node"):
        taken(AlongKind(what="width", from_nodes=True), along(data, zone))
    with pytest.raises(NotMeasured, match="no such size; it has width, height"):
        taken(AlongKind(what="gap"), found)


def test_edges_at_a_level_or_a_share_lie_where_the_flank_crosses_it():
    data, zone = bead_map(np.random.default_rng(7), "flat-topped", "plain", 0.0)
    for params, at in (({"edges": "share", "share": 50.0}, 0.5), ({"edges": "level", "level": 0.4}, 0.25)):
        found = along(data, zone, **params)
        assert np.nanmean(found.values("width")) == pytest.approx(WIDTH - at * 0.4 * WIDTH, abs=0.01)
        below = at**2 * 0.2 * WIDTH * HEIGHT
        assert np.nanmean(found.values("area")) == pytest.approx(0.8 * WIDTH * HEIGHT - below, rel=0.0005)
    feet = along(data, zone)
    steep = math.degrees(math.atan2(HEIGHT, 0.2 * WIDTH))
    assert np.nanmedian(feet.values("angle-left")) == pytest.approx(steep, abs=0.5)
    assert np.nanmedian(feet.values("angle-right")) == pytest.approx(steep, abs=0.5)


def test_a_groove_is_a_bead_below_and_holes_on_top_are_told():
    data, zone = bead_map(np.random.default_rng(8), "flat-topped", "plain", change=lambda z, d, u, v: -z)
    found = along(data, zone, side="below")
    assert np.nanmean(found.values("height")) == pytest.approx(HEIGHT, abs=0.006)
    assert taken(ContinuityKind(), along(data, zone)).value == pytest.approx(LENGTH)
    pits = near_side(lambda z, d, u: np.where((np.abs(u) < 4.0) & (np.abs(d) < 0.4), z - 0.5, z))
    data, zone = bead_map(np.random.default_rng(8), "flat-topped", "plain", change=pits)
    void = taken(AlongKind(what="void", take="greatest"), along(data, zone))
    assert void.value == pytest.approx(0.8 * 0.5, abs=0.08)


@pytest.mark.parametrize("shape", SHAPES)
@settings(max_examples=examples(8), deadline=None)
@given(wide=st.floats(0.1, 2.4), middle=st.floats(-1.0, 1.0), side=st.sampled_from(["above", "below"]))
def test_no_height_is_taken_from_a_flank_whose_crest_was_not_seen(shape, wide, middle, side):
    sign = 1.0 if side == "above" else -1.0
    hole = near_side(lambda z, d, u: np.where((np.abs(u) < 4.0) & (np.abs(d - middle) < wide / 2), np.nan, z))
    rng = np.random.default_rng(4)
    data, zone = bead_map(rng, shape, "plain", change=lambda z, d, u, v: hole(sign * z, d, u, v))
    found = along(data, zone, side=side)
    height, area = found.values("height"), found.values("area") / AREAS[shape]
    assert height[~np.isnan(height)] == pytest.approx(HEIGHT, rel=0.03)
    # the shadow on a flank that reaches to its toe is bridged straight, a dome's by 7 % at most
    assert area[~np.isnan(area)] == pytest.approx(1.0, abs=0.07)


def test_a_small_hole_on_the_crest_costs_nothing_and_a_large_one_says_so():
    states = []
    for wide in (0.25, 1.2):
        hole = near_side(lambda z, d, u, w=wide: np.where((np.abs(u) < 4) & (np.abs(d) < w / 2), np.nan, z))
        found = along(*bead_map(np.random.default_rng(4), "dome", "plain", change=hole))
        states.append({found.reasons.get(int(code)) for code in found.state})
        assert found.present.all()
    assert states == [{None}, {None, "its top is not seen"}]
    with pytest.raises(NotMeasured, match="its top is not seen; how much is there is not known"):
        taken(ContinuityKind(take="volume"), found)
    assert taken(ContinuityKind(take="volume", unseen=9.0), found).value > 0.0
    assert taken(ContinuityKind(), found).value == 0.0, "that it does not break is seen"


def test_leaning_shows_as_lean_with_its_side():
    data, zone = bead_map(np.random.default_rng(9), "leaning", "plain")
    lean = taken(AlongKind(what="lean", take="mean"), along(data, zone)).value
    # parabolas of 2/3 and 1/3 of the width either side of the crest: the centroid lies 1/24 of the width off
    assert lean == pytest.approx(100.0 / 24.0, abs=0.5)


def test_walls_second_beads_and_missing_flanks_are_not_guessed():
    wall = near_side(lambda z, d, u: np.where((d > 1.1) & (np.abs(u) < 5), 3.0, z))
    data, zone = bead_map(np.random.default_rng(1), base="plain", change=wall)
    found = along(data, zone, inner=3.0)
    here = np.abs((found.at + LENGTH / 2) % LENGTH - LENGTH / 2) < 4.0
    assert np.isnan(found.values("width")[here]).all()

    second = near_side(lambda z, d, u: z + cross_section("dome", d - 2.9, 1.6, 1.0) * (np.abs(u) < 5))
    data, zone = bead_map(np.random.default_rng(1), base="plain", change=second)
    found = along(data, zone.model_copy(update={"across": 12.0}), inner=4.5)
    assert {found.reasons[int(code)] for code in found.state[here]} == {"two beads lie in the section"}
    assert found.present[here].all()
    nearest = along(data, zone.model_copy(update={"across": 12.0}), inner=4.5, several="nearest")
    assert np.nanmean(nearest.values("width")[here]) == pytest.approx(WIDTH, abs=0.1)


def test_a_break_that_is_too_long_may_hide_in_a_gap_that_is_short_enough():
    blind = near_side(lambda z, d, u: np.where(np.abs(u - 6.0) < 0.8, np.nan, z))
    found = along(*bead_map(np.random.default_rng(2), base="plain", change=blind), spacing=0.2)

    def possible(**params):
        (other,) = outcome(ContinuityKind(**params), found).possible
        return other.value

    hidden = found.spacing * max(many for _, many in runs(~found.present, True))
    assert hidden == pytest.approx(1.6, abs=0.5)
    assert taken(ContinuityKind(), found).value == 0.0
    assert possible() == pytest.approx(hidden)
    assert possible(take="breaks", least_break=1.0) == 1.0
    assert outcome(ContinuityKind(take="breaks", least_break=5.0), found).possible == ()
    assert possible(take="length") == pytest.approx(LENGTH, abs=0.3)


def test_where_nothing_was_seen_a_break_may_hide():
    blind = near_side(lambda z, d, u: np.where((u > 3) & (u < 9), np.nan, z))
    data, zone = bead_map(np.random.default_rng(2), base="plain", change=blind)
    found = along(data, zone)
    with pytest.raises(NotMeasured, match="a break there cannot be excluded"):
        taken(ContinuityKind(), found)
    assert taken(ContinuityKind(unseen=10.0), found).value == 0.0
    with pytest.raises(NotMeasured, match=r"only 9\d % of the sections"):
        taken(AlongKind(least_measured=99.0), found)
    with pytest.raises(NotMeasured, match=r"maximum 2 mm"):
        taken(AlongKind(), found)
    nothing = HeightMap(np.full(data.shape, np.nan, np.float32), dx=PITCH, dy=PITCH, x0=-29, y0=-29)
    with pytest.raises(NotMeasured, match="holds data"):
        along(nothing, path_zone())
    flat = HeightMap(np.zeros(data.shape, np.float32), dx=PITCH, dy=PITCH, x0=-29, y0=-29)
    bare = along(flat, path_zone())
    assert taken(ContinuityKind(take="volume"), bare).value == 0.0
    assert taken(AlongKind(take="least"), bare).value == 0.0, "what is missing has no width"
    with pytest.raises(NotMeasured, match="not found in any section"):
        taken(AlongKind(what="offset"), bare)
    with pytest.raises(NotMeasured, match="sections are too many"):
        along(flat, PathZone.through(np.array([(-2e3, 0.1), (2e3, 0.0)])), spacing=0.1)


def seam_map(rng, gap, flush, radius, *, taper=0.0):
    """Two plates along the path's line, the inner one `flush` higher; their edges are rounded."""
    data, zone = bead_map(rng, base="plain", noise=0.0)
    y, x = np.mgrid[0 : data.shape[0], 0 : data.shape[1]]
    x, y = data.grid.x0 + PITCH * x, data.grid.y0 + PITCH * y
    u, v = zone.local(x, y)
    s = np.mod(np.arctan2(v, u), 2 * np.pi)
    d = off_path(u, v)
    beyond = np.abs(d) - (gap + taper * np.sin(s)) / 2
    fall = radius - np.sqrt(np.maximum(radius**2 - np.maximum(radius - beyond, 0.0) ** 2, 0.0))
    z = np.where(d < 0, flush, 0.0) - np.where(beyond < radius, fall, 0.0)
    z = np.where(beyond > 0, z + 0.008 * rng.standard_normal(z.shape), np.nan)
    return HeightMap(z.astype(np.float32), dx=PITCH, dy=PITCH, x0=data.grid.x0, y0=data.grid.y0), zone


@pytest.mark.parametrize(("gap", "flush", "radius"), [(2.0, 0.15, 0.6), (1.2, -0.2, 0.8)])
def test_gap_and_flush_of_rounded_and_sharp_edges(gap, flush, radius):
    data, zone = seam_map(np.random.default_rng(4), gap, flush, radius)
    found = along(data, zone, SeamKind(edges="rounded"))
    assert np.mean(found.state == 0) > 0.95
    assert np.nanmean(found.values("gap")) == pytest.approx(gap, abs=0.03)
    assert np.nanmean(found.values("flush")) == pytest.approx(flush, abs=0.005)
    assert np.nanmean(found.values("offset")) == pytest.approx(0.0, abs=0.03)
    sharp, zone = seam_map(np.random.default_rng(4), gap, flush, 1e-6)
    assert np.nanmean(along(sharp, zone, SeamKind()).values("gap")) == pytest.approx(gap, abs=0.12)


def test_a_seam_that_opens_has_its_taper():
    x, y = np.meshgrid(np.arange(400) * 0.1, np.arange(160) * 0.1 - 8.0)
    z = np.where(np.abs(y) > 0.5 + 0.01 * x, 0.0, np.nan)
    data = HeightMap(z.astype(np.float32), dx=0.1, dy=0.1, x0=0.0, y0=-8.0)
    zone = PathZone.through(np.array([(1.0, 0.0), (39.0, 0.0)]), across=10.0)
    found = along(data, zone, SeamKind())
    # 0.02 mm a mm
    assert taken(AlongKind(what="gap", take="taper"), found).value == pytest.approx(2.0, abs=0.1)
    closed = HeightMap(np.zeros(z.shape, np.float32), dx=0.1, dy=0.1, x0=0.0, y0=-8.0)
    assert taken(AlongKind(what="gap", take="greatest"), along(closed, zone, SeamKind())).value == 0.0


@pytest.mark.parametrize("surface", ["left", "right"])
def test_a_trimmed_edge_is_as_far_from_the_path_as_it_was_cut(surface):
    x, y = np.meshgrid(np.arange(400) * 0.1, np.arange(160) * 0.1 - 8.0)
    edge = 0.3 + 0.25 * np.sin(2 * np.pi * x / 30.0)
    solid = edge < y if surface == "left" else edge > y
    data = HeightMap(np.where(solid, 1.0, np.nan).astype(np.float32), dx=0.1, dy=0.1, x0=0.0, y0=-8.0)
    zone = PathZone.through(np.array([(2.0, 0.0), (38.0, 0.0)]), across=10.0)
    found = along(data, zone, TrimKind(surface=surface))
    offset = -(0.3 + 0.25 * np.sin(2 * np.pi * (2.0 + found.at) / 30.0))
    assert found.values("offset") == pytest.approx(offset, abs=0.08)
    spread = taken(AlongKind(what="offset", take="range"), found).value
    assert spread == pytest.approx(0.5, abs=0.08)


def test_one_section_shows_what_was_found_on_it():
    data, zone = bead_map(np.random.default_rng(11), base="plain")
    found = along(data, zone)
    given_ = StepContext(data, None, {"path": (found.path,)})
    cut, marks = BeadKind().section(given_, found, 30.0)
    here = found.path.curve.at(np.array([found.at[np.argmin(abs(found.at - 30.0))]]))[0]
    assert cut.at == pytest.approx(here)
    # its x goes to the right of the path, which goes counter-clockwise: outward
    ends = [zone.local(*np.array([(p := cut.place(x, 0.0)).x, p.y])) for x in (-4.0, 4.0)]
    assert off_path(*ends[1]) - off_path(*ends[0]) == pytest.approx(8.0, abs=0.01)
    texts = [mark.text for mark in marks if hasattr(mark, "text")]
    assert len(texts) == 2
    assert float(texts[1].split()[0]) == pytest.approx(WIDTH, abs=0.1)
    assert HALF_Y < 29
