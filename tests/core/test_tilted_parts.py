"""What is measured across a tilted part is what it has when it lies flat."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import Characteristic, Engine, HeightMap, NotMeasured, Plan, Step, teach
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.characteristics.relations import AngleKind, GapKind, WidthKind
from hemtra.core.features.arc import ArcKind
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.deviation import DeviationKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.extreme import ExtremeKind
from hemtra.core.features.groove import GrooveKind
from hemtra.core.features.opening import SlotKind
from hemtra.core.features.path import PathKind
from hemtra.core.features.profile_edge import ProfileEdgeKind
from hemtra.core.features.profile_line import ProfileLineKind
from hemtra.core.features.seam import SeamKind
from hemtra.core.features.section import SectionKind
from hemtra.core.features.spot import SpotKind
from hemtra.core.geometry.elements import Line, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.plan.document import Follow, Home
from hemtra.core.plan.follow import followed
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.proof import unproven
from hemtra.core.proposals.proposing import with_feature
from hemtra.core.zones.zone import PathZone, RectangleZone

PITCH, HALF = 0.05, 10.0
ROUND = 2.0
tilts = st.floats(-3.0, 3.0)


def prism(profile, tilt_x, tilt_y):
    """Map of z = profile(x) whatever y, tilted in space, and the plane z = 0 of the part."""
    r = Frame(tilt_x=tilt_x, tilt_y=tilt_y).matrix
    x = PITCH * np.arange(-round(HALF / PITCH), round(HALF / PITCH) + 1)
    y = PITCH * np.arange(-20, 21)
    p = np.linspace(-HALF - 2.0, HALF + 2.0, 20_001)
    f = profile(p)
    z = np.empty((y.size, x.size), np.float32)
    for row, at in enumerate(y):
        q = (at - r[1, 0] * p - r[1, 2] * f) / r[1, 1]
        px, pz = (r[k, 0] * p + r[k, 1] * q + r[k, 2] * f for k in (0, 2))
        ahead = px >= np.maximum.accumulate(px)  # a wall that leans over hides what is under it
        z[row] = np.interp(x, px[ahead], pz[ahead])
    slopes = -r[0, 2] / r[2, 2], -r[1, 2] / r[2, 2]
    return HeightMap(z, dx=PITCH, dy=PITCH, x0=float(x[0]), y0=float(y[0])), Plane(0.0, 0.0, 0.0, *slopes)


def cut_of(data, base, x=0.0, width=14.0):
    zone = RectangleZone(x=x, y=0.0, width=width, height=0.8)
    return SectionKind().evaluate(StepContext(data, zone, {}, base)).value


def on(cut, kind, x, width, **inputs):
    zone = RectangleZone(x=x, y=0.0, width=width, height=100.0)
    return kind.evaluate(StepContext(None, zone, {"section": (cut,), **inputs})).value


def rounded_edge(p):
    """Level to x = 0, then an arc of 60° that goes on straight."""
    turned = ROUND * math.sin(math.radians(60.0))
    q = np.maximum(p, 0.0)
    return np.sqrt(ROUND**2 - np.minimum(q, turned) ** 2) - ROUND - np.maximum(q - turned, 0.0) * math.sqrt(3.0)


@settings(max_examples=examples(12), deadline=None)
@given(tilts, tilts)
def test_a_rounded_edge_has_its_radius(tilt_x, tilt_y):
    cut = cut_of(*prism(rounded_edge, tilt_x, tilt_y))
    assert on(cut, ArcKind(), 0.85, 1.5).radius == pytest.approx(ROUND, abs=0.003)


@settings(max_examples=examples(12), deadline=None)
@given(tilts, tilts)
def test_lines_and_edges_of_different_heights_lie_as_on_the_flat_part(tilt_x, tilt_y):
    """A flank of 45° from a foot at x = -2 to a shoulder 3 mm above it."""
    data, base = prism(lambda p: np.clip(p + 2.0, 0.0, 3.0), tilt_x, tilt_y)
    cut = cut_of(data, base)
    flank = on(cut, ProfileLineKind(), -0.5, 2.0)
    angle = AngleKind().evaluate(StepContext(None, None, {"line": (flank,), "plane": (base,)})).value.value
    assert angle == pytest.approx(45.0, abs=0.05)
    low, high = (on(cut, ProfileEdgeKind(by="level", level=z), -0.5, 6.0) for z in (0.5, 2.5))
    given = StepContext(None, None, {"left": (low,), "right": (high,), "plane": (base,)})
    assert GapKind().evaluate(given).value.value == pytest.approx(2.0, abs=0.003)
    assert GapKind(take="flush").evaluate(given).value.value == pytest.approx(2.0, abs=0.003)


@settings(max_examples=examples(12), deadline=None)
@given(tilts, tilts)
def test_a_groove_far_above_its_base_stays_in_its_zone(tilt_x, tilt_y):
    """On a block 12 mm high, whose top moves sideways by 0.6 mm; one flank falls by 30°, the other by 60°."""

    def block(p):
        return 12.0 + np.clip(np.maximum(-math.tan(math.pi / 6) * p, math.sqrt(3.0) * p) - 2.0, -2.0, 0.0)

    data, base = prism(block, tilt_x, tilt_y)
    width = 2.0 / math.tan(math.pi / 6) + 2.0 / math.sqrt(3.0)
    groove = on(cut_of(data, base), GrooveKind(at=50.0), -1.1, width + 2.0)
    assert groove.width == pytest.approx(width / 2, abs=0.01)
    assert groove.depth == pytest.approx(2.0, abs=0.03)


@pytest.mark.parametrize("tilt", [-3.0, 2.0])
def test_what_counts_from_the_zero_of_the_station_stays_where_it_is_seen(tilt):
    """It follows the tilt alone: 30 mm below the part there is nothing that could have turned with it."""
    data, base = prism(rounded_edge, 0.0, tilt)
    far = Plane(0.0, 0.0, -30.0, base.slope_x, base.slope_y)
    zone = RectangleZone(x=0.0, y=0.0, width=14.0, height=0.8)
    cut = SectionKind().evaluate(StepContext(data, zone, {}, far, on_part=False)).value
    arc = on(cut, ArcKind(), 0.85, 1.5)
    assert arc.radius == pytest.approx(ROUND, abs=0.003)
    near = on(cut_of(data, base), ArcKind(), 0.85, 1.5)
    assert (arc.x, arc.z) == pytest.approx((near.x, near.z), abs=1e-3)
    x, z = cut.lies_at(*cut.seen_at(1.5, 29.0))
    assert (x, z) == pytest.approx((1.5, 29.0), abs=1e-9)
    path = PathZone.through(np.array([(0.0, -0.8), (0.0, 0.8)]), across=8.0)
    bead, below = prism(lambda p: 1.6 * np.maximum(1.0 - (p / 1.5) ** 2, 0.0), 0.0, tilt)
    below = Plane(0.0, 0.0, -30.0, below.slope_x, below.slope_y)
    along = PathKind().evaluate(StepContext(bead, path, {}, below, on_part=False)).value
    found = BeadKind().evaluate(StepContext(bead, None, {"path": (along,)})).value
    # its feet lie 1.6 mm below its crest, along which the path was seen to run
    assert np.nanmedian(found.values("offset")) == pytest.approx(0.0, abs=0.1)


def straight(data, base, kind, across):
    """What a kind measures along y."""
    zone = PathZone.through(np.array([(0.0, -0.8), (0.0, 0.8)]), across=across)
    path = PathKind().evaluate(StepContext(data, zone, {}, base)).value
    found = kind.evaluate(StepContext(data, None, {"path": (path,)})).value
    return {name: float(np.nanmedian(found.values(name))) for name in found.quantities}, found


@pytest.mark.parametrize(("tilt_x", "tilt_y"), [(0.0, 2.0), (0.0, -3.0), (2.0, 1.0), (-3.0, 3.0)])
def test_a_bead_has_its_angles_sizes_and_lean(tilt_x, tilt_y):
    def dome(p):
        return 1.6 * np.maximum(1.0 - (p / 1.5) ** 2, 0.0)

    (flat, _), (tilted, found) = (
        straight(*prism(dome, *tilt), BeadKind(), 8.0) for tilt in ((0.0, 0.0), (tilt_x, tilt_y))
    )
    within = {"angle-left": 0.3, "angle-right": 0.3, "lean": 0.15, "area": 0.006, "void": 0.002}
    for name, size in flat.items():
        assert tilted[name] == pytest.approx(size, abs=within.get(name, 0.004)), name
    assert flat["angle-left"] == pytest.approx(math.degrees(math.atan(2 * 1.6 / 1.5)), abs=0.5)
    volume = ContinuityKind(take="volume").evaluate(StepContext(data_of_none(), None, {"of": (found,)})).value
    # as seen from above its path is shorter where it climbs
    long = 1.6 / math.cos(math.radians(tilt_x))
    assert volume.value == pytest.approx(2 / 3 * 3.0 * 1.6 * long, rel=0.003)


def data_of_none():
    return HeightMap(np.zeros((2, 2)))


@pytest.mark.parametrize("tilt", [-3.0, -2.0, 2.0, 3.0])
def test_the_gap_of_a_seam_with_a_step_does_not_depend_on_how_it_lies(tilt):
    """Its right side lies 3 mm higher: unless it is looked at squarely, 2° move its sides apart by 105 µm."""

    def seam(p):
        left, right = np.minimum(0.0, -8.0 * (p + 0.6)), np.minimum(3.0, 3.0 + 8.0 * (p - 0.6))
        return np.maximum(np.maximum(left, right), -2.0)

    (flat, _), (found, _) = (straight(*prism(seam, 0.0, t), SeamKind(), 8.0) for t in (0.0, tilt))
    assert abs(flat["flush"]) == pytest.approx(3.0, abs=1e-4)
    assert found["flush"] == pytest.approx(flat["flush"], abs=1e-4)
    # each of its edges is known to half a point of the map
    assert found["gap"] == pytest.approx(flat["gap"], abs=PITCH + 1e-3)


@settings(max_examples=examples(20), deadline=None)
@given(tilts, tilts, st.floats(-180.0, 180.0), tilts, tilts)
def test_a_path_lies_on_its_part_from_end_to_end(tilt, over, turn, tilt_home, over_home):
    """However the part lies, and lay on the reference; and back again."""
    nodes = np.array([(0.0, 0.0, 0.0), (60.0, 5.0, 0.0), (40.0, 50.0, 0.0), (-30.0, 20.0, 0.0)])
    home = Frame(x=5.0, y=3.0, z=1.0, rotation=20.0, tilt_x=tilt_home, tilt_y=over_home)
    now = Frame(x=1.0, y=-2.0, z=3.0, rotation=turn, tilt_x=tilt, tilt_y=over)
    plane = Plane(now.x, now.y, now.z, *now.slopes)
    x, y = home.slopes
    homes = {
        "o": Home(x=home.x, y=home.y, z=home.z, rotation=home.rotation, slope_x=x, slope_y=y),
        "a": Home(x=home.x, y=home.y, z=home.z, rotation=0.0, slope_x=x, slope_y=y),
    }
    follow, values = Follow(x="o", y="o", rotation="o", z="a", tilt="a"), {"o": now, "a": plane}
    drawn = PathZone.through(home.outward(nodes)[:, :2])
    moved = followed(drawn, follow, homes, values)
    assert np.abs(moved.node_places() - now.outward(nodes)[:, :2]).max() < 1e-9
    back = followed(moved, follow, homes, values, back=True)
    assert np.abs(back.node_places() - drawn.node_places()).max() < 1e-9
    PathZone.model_validate(moved.model_dump())


@settings(max_examples=examples(20), deadline=None)
@given(tilts, tilts, st.floats(-180.0, 180.0), st.booleans())
def test_a_zone_on_a_plane_stays_there_whatever_it_follows_above_it(tilt, over, turn, by_edges):
    """By the rim of a boss 10 mm high, or two edges of its top: seen from above they move by 0.5 mm at 3°."""
    now = Frame(x=1.0, y=-2.0, z=3.0, rotation=turn, tilt_x=tilt, tilt_y=over)
    top, near = now.outward(np.array([[0.0, 0.0, 10.0], [4.0, 3.0, 0.0]]))
    (ax, ay, az), (bx, by, bz) = now.matrix[:, 0], now.matrix[:, 1]
    along = Line(*top, math.degrees(math.atan2(ay, ax)), 5.0, az / math.hypot(ax, ay))
    across = Line(*top, math.degrees(math.atan2(by, bx)), 5.0, bz / math.hypot(bx, by))
    values = {"a": Plane(now.x, now.y, now.z, *now.slopes), "rim": Point(*top), "u": along, "v": across}
    homes = {"a": Home(x=0, y=0, z=0, rotation=0), "v": Home(x=0, y=0, z=10, rotation=90)}
    homes |= {name: Home(x=0, y=0, z=10, rotation=0) for name in ("rim", "u")}
    x, y = ("v", "u") if by_edges else ("rim", "rim")
    zone = RectangleZone(x=4.0, y=3.0, width=1.0, height=1.0)
    moved = followed(zone, Follow(x=x, y=y, rotation="u", z="a", tilt="a"), homes, values)
    # distances from edges are as seen from above: 3 mm are 8 µm shorter at 4°
    within = 0.015 if by_edges else 1e-9
    assert math.hypot(moved.x - near[0], moved.y - near[1]) < within


@settings(max_examples=examples(20), deadline=None)
@given(tilts, tilts, st.floats(-180.0, 180.0))
def test_a_zone_that_follows_an_outline_in_all_axes_lies_where_its_heights_count_from(tilt, over, turn):
    """The zero of the reference goes along, 25 mm below the outline: at 3° it lies 1.3 mm aside of that."""
    now = Frame(x=1.0, y=-2.0, z=3.0, rotation=turn, tilt_x=tilt, tilt_y=over)
    at, near = now.outward(np.array([[0.0, 0.0, 25.0], [4.0, 3.0, 0.0]]))
    outline = Frame(*at, rotation=turn, tilt_x=tilt, tilt_y=over)
    follow = Follow(**dict.fromkeys(("x", "y", "rotation", "z", "tilt"), "o"))
    homes, zone = {"o": Home(x=0, y=0, z=25, rotation=0)}, RectangleZone(x=4.0, y=3.0, width=1.0, height=1.0)
    moved = followed(zone, follow, homes, {"o": outline})
    # what is left: the base lies as far below the outline straight down, not square to it
    assert math.hypot(moved.x - near[0], moved.y - near[1]) < 0.006


def solid(height, tilt_x, tilt_y, half=(32.0, 22.0), pitch=0.1):
    """Map of z = height(x, y), which is smooth, tilted in space, and the plane z = 0 of the part."""
    r = Frame(tilt_x=tilt_x, tilt_y=tilt_y).matrix
    x, y = (pitch * np.arange(-round(h / pitch), round(h / pitch) + 1) for h in half)
    gx, gy = np.meshgrid(x, y)
    z = np.zeros(gx.shape)
    for _ in range(30):
        p, q, f = np.tensordot(r.T, np.stack([gx, gy, z]), 1)
        z = z + (height(p, q) - f) / r[2, 2]
    slopes = -r[0, 2] / r[2, 2], -r[1, 2] / r[2, 2]
    data = HeightMap(z.astype(np.float32), dx=pitch, dy=pitch, x0=float(x[0]), y0=float(y[0]))
    return data, Plane(0.0, 0.0, 0.0, *slopes)


def swelling(x, y):
    """A bump 0.3 mm high on the left of a level top, one 0.2 mm deep on its right."""
    bumps = ((-12.0, 4.0, 0.3), (12.0, -4.0, -0.2))
    return 4.0 + sum(h * np.exp(-((x - a) ** 2 + (y - b) ** 2) / 4.0) for a, b, h in bumps)


@pytest.mark.parametrize("kind", [SpotKind, ExtremeKind])
@pytest.mark.parametrize(("tilt_x", "tilt_y"), [(0.0, 0.0), (0.0, 2.0), (2.0, -1.0), (-3.0, 3.0)])
def test_the_highest_place_is_highest_above_what_it_follows(kind, tilt_x, tilt_y):
    """Not at the uphill end of the zone, which lies 2 mm higher on the scan."""
    data, base = solid(swelling, tilt_x, tilt_y)
    zone = RectangleZone(x=0.0, y=0.0, width=50.0, height=30.0)
    name = "take" if kind is SpotKind else "which"
    for which, true in (("highest", 4.3), ("lowest", 3.8)):
        found = kind.model_validate({name: which}).evaluate(StepContext(data, zone, {}, base)).value
        assert base.distance(found) == pytest.approx(true, abs=0.004)
    median = SpotKind(take="median").evaluate(StepContext(data, zone, {}, base))
    assert base.distance(median.value) == pytest.approx(4.0, abs=0.001)
    assert "100" not in dict(median.facts)["points"]


@pytest.mark.parametrize(("tilt_x", "tilt_y"), [(0.0, 2.0), (2.0, -1.0), (-3.0, 3.0)])
def test_a_part_does_not_deviate_from_itself_when_it_lies_tilted(tilt_x, tilt_y):
    """A hill of 8 mm, whose flanks of 50° lie 0.4 mm aside of where they stand; the reference is tilted too."""

    def hill(x, y):
        return 8.0 * np.exp(-(x**2 + y**2) / 72.0)

    def dented(x, y):
        return hill(x, y) - 0.1 * np.exp(-((x - 8.0) ** 2 + y**2) / 9.0)

    zone, kind = RectangleZone(x=0.0, y=0.0, width=50.0, height=34.0), DeviationKind(cell=1.0)
    reference, below = solid(hill, 0.4, -0.3)
    taught = {k: np.array(v) for k, v in kind.teach(StepContext(reference, zone, {}, below)).items()}
    for part, low in ((hill, 0.0), (dented, -0.1)):
        data, base = solid(part, tilt_x, tilt_y)
        found = kind.evaluate(StepContext(data, zone, {}, base, taught)).value
        assert found.values.max() == pytest.approx(0.0, abs=0.006)
        assert found.values.min() == pytest.approx(low, abs=0.012)


@pytest.mark.parametrize("on_part", [True, False])
def test_a_deviation_is_taken_where_its_zone_lies_whatever_heights_count_from(on_part):
    """From the zero of the station, 30 mm below, which does not turn with the part, or from the part itself."""

    def hill(x, y):
        return 4.0 * np.exp(-(x**2 + y**2) / 72.0)

    def below(plane):
        return plane if on_part else Plane(0.0, 0.0, -30.0, plane.slope_x, plane.slope_y)

    zone, kind = RectangleZone(x=0.0, y=0.0, width=50.0, height=34.0), DeviationKind(cell=1.0)
    reference, level = solid(hill, 0.0, 0.0)
    given = StepContext(reference, zone, {}, below(level), on_part=on_part)
    taught = {k: np.array(v) for k, v in kind.teach(given).items()}
    data, base = solid(hill, 1.0, 2.0)
    found = kind.evaluate(StepContext(data, zone, {}, below(base), taught, on_part=on_part)).value
    # 30 mm are 23 µm more along the slope, and the hill is seen from its foot or from its middle
    assert np.ptp(found.values) < (0.012 if on_part else 0.12)


def test_a_section_without_data_says_so_on_a_tilted_base():
    z = np.full((50, 200), np.nan)
    z[::2, ::2] = 1.0  # points, between which nothing is seen
    empty = HeightMap(z, dx=0.1, dy=0.1)
    zone = RectangleZone(x=10.03, y=2.03, width=5.01, height=1.0)
    given = StepContext(empty, zone, {}, Plane(0.0, 0.0, -5.0, 0.02, 0.01), on_part=False)
    with pytest.raises(NotMeasured, match="no data along the section"):
        SectionKind(least_data=0.0).evaluate(given)


def block(x, y):
    """60 mm long, 4 mm high, with walls of 75°, in which a slot of 30 by 8 mm ends 1 mm deeper."""
    long, wide = np.maximum(np.abs(x) - 11.0, 0.0), y
    rise = np.clip(4.0 - 3.7 * (np.abs(x) - 29.0), 0.0, 4.0)
    return rise - np.clip(0.5 - 3.7 * (np.hypot(long, wide) - 4.0), 0.0, 1.0)


@pytest.mark.parametrize(("tilt_x", "tilt_y"), [(0.0, 3.0), (2.0, -3.0)])
def test_lengths_of_a_tilted_part_are_those_along_it(tilt_x, tilt_y):
    """Seen from above, 60 mm are 82 µm shorter at 3°."""
    sizes = []
    for tilt in ((0.0, 0.0), (tilt_x, tilt_y)):
        data, base = solid(block, *tilt, half=(36.0, 12.0))
        edges = []
        for side in (-1.0, 1.0):
            zone = RectangleZone(x=side * 30.0, y=0.0, width=8.0, height=18.0)
            edges.append(EdgeKind().evaluate(StepContext(data, zone, {}, base)).value)
        given = StepContext(data, None, {"one": (edges[0],), "other": (edges[1],), "plane": (base,)})
        takes = [WidthKind(take=t).evaluate(given).value.value for t in ("mean", "fit", "least", "greatest")]
        zone = RectangleZone(x=0.0, y=0.0, width=36.0, height=14.0)
        slot = SlotKind(change="rises").evaluate(StepContext(data, zone, {}, base)).value
        sizes.append((*takes, slot.length, slot.width))
    assert sizes[1] == pytest.approx(sizes[0], abs=0.012)


def test_an_extreme_that_is_looked_for_straight_up_is_warned_of():
    """A new one follows the tilt of the datum plane by itself."""
    data, _ = solid(swelling, 0.3, 0.2)
    zone = RectangleZone(x=0.0, y=0.0, width=50.0, height=30.0)
    plan = teach(Plan(name="p", steps=(Step(id="a", name="Datum A", kind="plane", zone=zone),)), data)
    top = Step(id="top", name="Top", kind="spot", zone=zone, params={"take": "highest"})
    made, _ = with_feature(plan, Engine(data), top)
    assert made.step("top").follow.tilt == "a"
    row = Characteristic(balloon=1, name="Height", step="h", upper=5.0)
    height = Step(id="h", name="Height", kind="height", inputs={"point": ("top",), "plane": ("a",)})
    assert list(unproven(made.edited(steps=(*made.steps, height), sheet=(row,)))) == []
    straight = plan.edited(steps=(*plan.steps, top, height), sheet=(row,))
    ((_, why),) = unproven(straight)
    assert why.endswith("another; let it follow the tilt of “Datum A”.")
    mean = top.edited(params={})
    assert list(unproven(straight.with_step(mean))) == []
