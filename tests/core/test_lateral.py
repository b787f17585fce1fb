"""Sizes along the surface do not hang on how the part lies to the map, and say what the map leaves open."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import Engine, HeightMap, NotMeasured, Step, inspect, teach
from hemtra.core.characteristics.relations import GapKind, WidthKind
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.features.groove import GrooveKind
from hemtra.core.features.opening import SlotKind
from hemtra.core.features.profile_edge import ProfileEdgeKind
from hemtra.core.features.section import SectionKind
from hemtra.core.geometry.elements import Line, Plane
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.assemble import resample_rows, shift_columns, with_row_pitch
from hemtra.core.plan.document import Follow, Home, Plan
from hemtra.core.plan.follow import followed
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone, PathZone, RectangleZone, RingZone
from makers import box

DX, DY = 0.107, 0.16


def seen_from(shape, *, shift=(0.0, 0.0), reach=8.0, dx=DX, dy=DY) -> HeightMap:
    """shape(X, Y) on a grid of such a spacing, which begins at any place."""
    x0, y0 = -reach + shift[0], -reach + shift[1]
    x, y = np.arange(x0, reach, dx), np.arange(y0, reach, dy)
    return HeightMap(shape(*np.meshgrid(x, y)).astype(np.float32), dx=dx, dy=dy, x0=x0, y0=y0)


def into_a_shadow(degrees):
    """A level that ends at a straight edge through 0, and nothing seen beyond."""
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return lambda x, y: np.where(c * x + s * y <= 0.0, 5.0, np.where(c * x + s * y > 3.0, 0.0, np.nan))


def edge_at(degrees, rng):
    data = seen_from(into_a_shadow(degrees), shift=rng.random(2) * DY)
    zone = box(0.3, 0.0, 4.0, 8.0).model_copy(update={"rotation": degrees})
    zone = zone.model_copy(
        update={"x": 0.3 * math.cos(math.radians(degrees)), "y": 0.3 * math.sin(math.radians(degrees))}
    )
    edge = EdgeKind(change="falls", wall="top").evaluate(StepContext(data, zone, {})).value
    turn = math.radians(degrees)
    return edge.x * math.cos(turn) + edge.y * math.sin(turn), edge.spread


@pytest.mark.parametrize(("degrees", "limit"), [(1, 2.6), (7, 1.0), (30, 1.2), (45, 7.5), (60, 0.7)])
def test_an_edge_before_a_shadow_is_as_good_as_its_points_allow(degrees, limit):
    """limit: µm, of the line with the widest margin between the points seen and those not."""
    rng = np.random.default_rng(degrees)
    off = np.array([edge_at(degrees, rng)[0] for _ in range(60)])
    assert 1000 * np.std(off) < 1.5 * limit
    assert 1000 * abs(np.mean(off)) < limit


@pytest.mark.parametrize("degrees", [0, 90])
def test_what_the_grid_cannot_tell_is_said(degrees):
    rng = np.random.default_rng(4)
    found = np.array([edge_at(degrees, rng) for _ in range(200)])
    assert np.mean(np.abs(found[:, 0]) <= found[:, 1]) >= 0.99
    assert found[:, 1].max() < 1.3 * max(DX, DY)


@pytest.mark.parametrize("radius", [1.5, 4.0])
def test_a_hole_into_which_nothing_is_seen_has_a_rim(radius):
    rng = np.random.default_rng(1)
    zone = RingZone(x=0.0, y=0.0, width=2 * radius + 3, height=2 * radius + 3, inner=0.1)
    sizes, places = [], []
    for _ in range(20):
        x, y = rng.random(2) - 0.5
        data = seen_from(lambda a, b, x=x, y=y: np.where(np.hypot(a - x, b - y) < radius, np.nan, 2.0))
        outcome = CircleKind(change="rises", wall="top").evaluate(StepContext(data, zone, {}))
        assert "nothing is seen" in outcome.note
        rim = outcome.value
        sizes.append(rim.radius - radius)
        places.append(math.hypot(rim.x - x, rim.y - y))
    assert np.std(sizes) < 0.003
    assert np.abs(sizes).max() < 0.01
    assert np.max(places) < 0.03 / radius
    slot = SlotKind(change="rises").evaluate(
        StepContext(
            seen_from(lambda x, y: np.where((abs(x) < 4.0) & (abs(y) < 1.5), np.nan, 2.0)),
            EllipseZone(x=0, y=0, width=12, height=12),
            {},
        )
    )
    assert (slot.value.length, slot.value.width) == pytest.approx((8.0, 3.0), abs=0.08)


def test_a_surface_that_only_has_dropouts_has_no_rim():
    rng = np.random.default_rng(3)
    data = seen_from(lambda x, y: np.where(rng.random(x.shape) < 0.2, np.nan, 2.0))
    with pytest.raises(NotMeasured):
        CircleKind(change="rises").evaluate(StepContext(data, EllipseZone(x=0, y=0, width=8, height=8), {}))


def gap_of(data, degrees, **params):
    zone = box(0.0, 0.0, 8.0, 6.0).model_copy(update={"rotation": degrees})
    cut = SectionKind().evaluate(StepContext(data, zone, {})).value
    sides = {}
    for name, change in (("left", "falls"), ("right", "rises")):
        kind = ProfileEdgeKind(by="data", change=change, **params)
        sides[name] = (kind.evaluate(StepContext(data, None, {"section": (cut,)})).value,)
    return GapKind().evaluate(StepContext(data, None, sides)).value.value


@pytest.mark.parametrize(("degrees", "dx", "dy"), [(0, DX, DY), (90, DX, DY), (20, DX, DY), (0, 0.05, 0.3)])
def test_a_gap_between_ends_of_data_is_no_wider_than_it_is(degrees, dx, dy):
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    rng = np.random.default_rng(5)
    found = [
        gap_of(
            seen_from(
                lambda x, y: np.where(np.abs(c * x + s * y) < 0.5, np.nan, 1.0),
                shift=rng.random(2) * dy,
                dx=dx,
                dy=dy,
            ),
            degrees,
        )
        for _ in range(60)
    ]
    across = abs(c) * dx + abs(s) * dy
    assert np.mean(found) == pytest.approx(1.0, abs=0.12 * across)
    assert np.abs(np.array(found) - 1.0).max() <= across + 0.02


def test_a_wall_seen_in_a_gap_is_no_part_of_its_sides():
    walls = seen_from(
        lambda x, y: np.where(np.abs(x) < 0.5, np.where(x > 0.3, -3.0 * (0.5 - x) / 0.1, np.nan), 1.0)
    )
    assert gap_of(walls, 0) == pytest.approx(1.0, abs=DX)


def test_a_rounded_side_ends_where_its_rounding_stands_upright():
    """Though a camera that looks past it sees but a part of it."""

    def lips(x, y):
        inside = np.clip(0.5 + 0.4 - np.abs(x), 0.0, 0.4)
        z = 1.0 - (0.4 - np.sqrt(np.maximum(0.16 - inside**2, 0.0)))
        return np.where(inside > 0.33, np.nan, z)

    rng = np.random.default_rng(6)
    found = [gap_of(seen_from(lips, shift=rng.random(2) * DY), 0, radius=0.4) for _ in range(20)]
    assert np.array(found) == pytest.approx(1.0, abs=0.03)
    with pytest.raises(NotMeasured, match="too little of a rounding of 5 mm"):
        gap_of(seen_from(lips), 0, radius=5.0)


@settings(max_examples=examples(20), deadline=None)
@given(long=st.floats(5.0, 16.0), steep=st.floats(0.6, 1.5), at=st.floats(-0.4, 0.4))
def test_a_groove_is_as_deep_however_long_its_zone(long, steep, at):
    data = seen_from(lambda x, y: np.minimum(0.0, steep * np.abs(x - at) - 1.0))
    cut = SectionKind().evaluate(StepContext(data, box(0.0, 0.0, long, 2.0), {})).value
    groove = GrooveKind().evaluate(StepContext(data, None, {"section": (cut,)})).value
    assert groove.depth == pytest.approx(1.0, abs=0.03)
    assert groove.width == pytest.approx(1.0 / steep, abs=0.05)


def test_width_counts_along_the_surface_in_space_or_by_least_squares():
    one, other = Line(0.0, 0.0, 0.0, 90.0, 10.0), Line(5.0, 0.0, 2.0, 90.0, 10.0)

    def width(**params):
        inputs = {
            "one": (one,),
            "other": (other,),
            **({"plane": params.pop("plane")} if "plane" in params else {}),
        }
        return WidthKind(**params).evaluate(StepContext(None, None, inputs)).value.value

    assert width() == pytest.approx(5.0)
    assert width(counted="space") == pytest.approx(math.hypot(5.0, 2.0))
    assert width(take="fit") == pytest.approx(5.0)
    sloped = (Plane(0.0, 0.0, 0.0, 0.4, 0.0),)
    assert width(plane=sloped) == pytest.approx(math.hypot(5.0, 2.0))
    assert width(plane=sloped, take="fit") == pytest.approx(math.hypot(5.0, 2.0))


def plate(x, y):
    holes = (np.hypot(x - 3, y - 1.5) < 1.2) | (np.hypot(x + 3, y - 1.5) < 0.8) | (np.hypot(x + 1, y + 2) < 1.0)
    return np.where((np.abs(x) < 6) & (np.abs(y) < 4) & ~holes, 2.0, 0.0)


@pytest.mark.parametrize("change", [lambda z: z[:, ::-1], lambda z: z[::-1]], ids=["left-right", "near-far"])
def test_a_mirrored_part_is_another_part(change):
    data = seen_from(plate)
    zone = box(0.0, 0.0, 14.0, 10.0)
    plan = teach(Plan(name="p", steps=(Step(id="o", name="Outline", kind="outline", zone=zone),)), data)
    assert inspect(plan, data).steps["o"].value.share > 0.95
    g = data.grid
    other = HeightMap(np.ascontiguousarray(change(data.z)), dx=g.dx, dy=g.dy, x0=g.x0, y0=g.y0)
    assert "mirrored" in inspect(plan, other).steps["o"].reason


@settings(max_examples=examples(20), deadline=None)
@given(tilt=st.floats(-3.0, 3.0), over=st.floats(-3.0, 3.0), turn=st.floats(-180.0, 180.0))
def test_a_path_stays_on_its_plane_when_what_it_follows_stands_above_it(tilt, over, turn):
    """The outline lies 4 mm above the plane of the path: when the part tilts it moves sideways."""
    part = Frame(x=1.0, y=-2.0, z=3.0, rotation=turn, tilt_x=tilt, tilt_y=over)
    at, normal = part.outward(np.array([[0.0, 0.0, 4.0]]))[0], part.matrix[:, 2]
    outline = Frame(x=at[0], y=at[1], z=at[2], rotation=turn, tilt_x=tilt, tilt_y=over)
    plane = Plane(part.x, part.y, part.z, -normal[0] / normal[2], -normal[1] / normal[2])
    homes = {"o": Home(x=0, y=0, z=4, rotation=0), "a": Home(x=0, y=0, z=0, rotation=0)}
    zone = PathZone.through(np.array([(0.0, 0.0), (5.0, 0.0)]))
    moved = followed(
        zone, Follow(x="o", y="o", rotation="o", z="a", tilt="a"), homes, {"o": outline, "a": plane}
    )
    middle = part.outward(np.array([[zone.x, zone.y, 0.0]]))[0]
    # what is left is how much shorter the part looks from above
    assert math.hypot(moved.x - middle[0], moved.y - middle[1]) < 3.0 * (1 - math.cos(math.radians(4.3)))


def test_under_a_wall_that_leans_over_the_higher_surface_is_seen():
    """Going on along the fan, x falls back where ground was seen under the edge of what stands above it."""
    x = np.array([[0.0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.33, 0.43, 0.53, 0.63]])
    z = np.array([[0, 0, 0, 0, 0, 0, 8, 8, 8, 8]], np.float32)
    out, grey = np.empty((1, 7), np.float32), np.empty((1, 7), np.uint8)
    resample_rows(x, z, np.full(z.shape, 9, np.uint8), 0.0, 0.1, 0, out, grey)
    assert out[0].tolist() == [0, 0, 0, 8, 8, 8, 8]


def shadow_on_both_sides(x, y):
    """A step down at x = 0 whose shadow meets that of a wall at x = 1.5 which stands up again."""
    return np.where(x < 0.0, 5.0, np.where(x < 1.5, np.nan, 5.0))


def burred(x, y):
    """A boss of radius 4 with a burr of 1 mm on a tenth of its rim."""
    burr = (np.abs(np.arctan2(y, x)) < 0.3) & (np.hypot(x, y) < 5.0)
    return np.where((np.hypot(x, y) < 4.0) | burr, 5.0, 0.0)


def off_the_map(x, y):
    """A hole of radius 3 at x = 6, of which the map holds a part."""
    return np.where(np.hypot(x - 6.0, y) < 3.0, np.nan, 2.0)


def chamfered(x, y):
    """A step down by 3 at x = 0.37, its edge broken by a chamfer of 0.05."""
    return np.clip(5.0 - (x - 0.32), 4.95, 5.0) - 3.0 * (x > 0.37)


def leaning(x, y):
    """A wall that leans outward: 5 down to 0 over 1 mm, the way a casting has it."""
    return np.clip(5.0 - 5.0 * x, 0.0, 5.0)


AROUND = EllipseZone(x=0, y=0, width=11, height=11)


@pytest.mark.parametrize(
    ("kind", "surface", "zone", "truth", "bound", "grid"),
    [
        (EdgeKind(change="falls"), lambda x, y: np.nan * x, box(0, 0, 4, 8), None, 0, {}),
        (EdgeKind(change="falls", wall="top"), leaning, box(0.5, 0, 4, 8), 0.0, 0.05, {}),
        (EdgeKind(change="falls", wall="half"), leaning, box(0.5, 0, 4, 8), 0.5, 0.02, {}),
        (EdgeKind(change="falls", wall="foot"), leaning, box(0.5, 0, 4, 8), 1.0, 0.05, {}),
        (EdgeKind(change="falls", wall="top"), shadow_on_both_sides, box(0, 0, 2.4, 8), 0.0, DX / 2 + 0.01, {}),
        (EdgeKind(change="falls", wall="top"), chamfered, box(0.3, 0, 4, 8), 0.37, DX / 2 + 0.01, {}),
        (EdgeKind(change="falls"), into_a_shadow(0), box(0, 0, 4, 3 * DY), None, 0, {}),
        (CircleKind(change="falls"), burred, AROUND, 4.0, 0.03, {}),
        (CircleKind(change="rises"), off_the_map, EllipseZone(x=6, y=0, width=9, height=9), 3.0, 0.03, {}),
        (CircleKind(change="falls"), burred, AROUND, 4.0, 0.08, {"dy": 10 * DX}),
    ],
    ids=[
        "dark",
        "leaning-top",
        "leaning-half",
        "leaning-foot",
        "shadows-meet",
        "chamfer",
        "three-lines",
        "burr",
        "half-outside",
        "coarse",
    ],
)
def test_what_hardly_shows_is_right_or_not_measured(kind, surface, zone, truth, bound, grid):
    """truth: mm across an edge, or a radius; None where only a refusal is right."""
    data = seen_from(surface, shift=(0.031, 0.017), **grid)
    if truth is None:
        with pytest.raises(NotMeasured, match=r"on \d+ of \d+|no data"):
            kind.evaluate(StepContext(data, zone, {}))
        return
    found = kind.evaluate(StepContext(data, zone, {})).value
    value = found.radius if isinstance(kind, CircleKind) else found.x
    assert value == pytest.approx(truth, abs=max(bound, found.spread))


def test_no_printed_edge_is_found_where_the_surface_ends():
    """Beside a shadow the belt may be darker than the part; that is no print, and its height is not known."""
    x, _ = np.meshgrid(np.arange(-100, 101) * 0.1, np.arange(-40, 41) * 0.1)
    z = np.where(x < 0, 0.0, np.where(x < 0.6, np.nan, -3.0))
    grey = np.where(x < -5, 40, np.where(x < 0.3, 160, 60)).astype(np.uint8)
    data = HeightMap(z, grey, dx=0.1, dy=0.1, x0=-10, y0=-4)
    printed = {"on": "brightness", "change": "either"}
    across = RectangleZone(x=0.3, y=0, width=4, height=5)
    steps = (
        Step(id="end", name="End", kind="edge", zone=across, params=printed),
        Step(id="print", name="Print", kind="edge", zone=across.model_copy(update={"x": -5.0}), params=printed),
    )
    found = Engine(data).run(Plan(steps=steps)).steps
    assert found["end"].outcome is None
    assert "edge" in found["end"].reason
    assert found["print"].value.place == pytest.approx((-5.05, 0.0, 0.0), abs=0.06)


def from_a_sensor(inside, rng):
    """A step as a sensor sees it, whose own points lie anywhere between two columns, the same on every row."""
    xs = np.arange(-10.0, 10.0, 0.98 * DX) + rng.random() * DX
    ys = np.arange(-10.0, 10.0, DY)
    z = np.where(inside(xs[None, :], ys[:, None]), 4.0, 0.0).astype(np.float32)
    cols = round(20.0 / DX)
    out, grey = np.empty((ys.size, cols), np.float32), np.empty((ys.size, cols), np.uint8)
    resample_rows(np.tile(xs, (ys.size, 1)), z, np.full(z.shape, 110, np.uint8), -10.0, DX, 0, out, grey)
    return HeightMap(out, None, dx=DX, dy=DY, x0=-10.0, y0=-10.0)


def disc_of_a_sensor(x, y, radius, rng):
    return from_a_sensor(lambda u, v: np.hypot(u - x, v - y) < radius, rng)


def off_by(data, turn, at):
    """Error of the end of an upper level that lies `at` from the middle, turned a little from the columns."""
    edge = EdgeKind(change="falls", wall="top").evaluate(StepContext(data, box(at, 0, 4, 16, turn), {})).value
    return edge.x * math.cos(math.radians(turn)) + edge.y * math.sin(math.radians(turn)) - at


@pytest.mark.parametrize("turn", [0.7, 1.0, 2.0, -3.0])
def test_an_edge_nearly_along_travel_lies_where_it_is(turn):
    """A part in a fixture: hundreds of rows see its edge from points beside the columns by the same share."""
    rng, off = np.random.default_rng(5), []
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    for at in rng.uniform(-3.0, 3.0, 12):
        data = from_a_sensor(lambda x, y, at=at: x * c + y * s < at, rng)
        off.append(off_by(data, turn, at))
    assert np.abs(off).max() < DX / 20, "up to half a column, where the nearer one is taken"


def askew(z):
    """Rows as a laser that leans and stands askew takes them, 0.3 and 0.4 of one late, put back."""
    out, grey = np.empty_like(z), np.empty(z.shape, np.uint8)
    by = np.full(z.shape[1], -0.3)
    shift_columns(z, np.full(z.shape, 9, np.uint8), by, -0.1, True, out, grey)
    return HeightMap(out, None, DX, DX, -10.0, -10.0)


def other_pitch(z):
    """The same on rows at another pitch."""
    return with_row_pitch(HeightMap(z, None, DX, DX, -10.0, -10.0), 0.97 * DX)


@pytest.mark.parametrize("kept", [askew, other_pitch])
@pytest.mark.parametrize("way", [1, -1])
def test_rows_that_are_moved_end_where_they_ended(kept, way):
    """The end of a level nearly along the rows, towards later rows or earlier ones; nothing is seen beyond."""
    rng, off = np.random.default_rng(6), []
    x, y = np.meshgrid(*2 * [np.arange(-10.0, 10.0, DX)])
    late = -0.7 * DX if kept is askew else 0.0
    lookup = EdgeKind(change="falls" if way > 0 else "rises", wall="top")
    for at in rng.uniform(-3.0, 3.0, 12):
        data = kept(np.where(way * (y + 0.02 * x - at) < 0.0, 4.0, np.nan).astype(np.float32))
        zone = box(0, at + late, 4, 16, 90.0 - math.degrees(math.atan(0.02)))
        edge = lookup.evaluate(StepContext(data, zone, {})).value
        off.append(edge.y + 0.02 * edge.x - at - late)
    assert np.abs(off).max() < DX / 20


def test_a_rim_seen_by_points_between_the_columns_is_known_to_a_thirtieth_of_them():
    """Where it runs along the columns row after row sees it from the same points."""
    rng = np.random.default_rng(8)
    zone = RingZone(x=0.0, y=0.0, width=16.0, height=16.0, inner=0.5)
    off = []
    for _ in range(60):
        x, y = rng.random(2) - 0.5
        rim = CircleKind(wall="top").evaluate(StepContext(disc_of_a_sensor(x, y, 6.0, rng), zone, {})).value
        off.append((rim.x - x, rim.y - y, rim.radius - 6.0, rim.spread))
    across, along, grown, spread = np.array(off).T
    assert across.std() < DX / 30, "a twelfth, were the nearer column taken"
    assert max(along.std(), grown.std()) < DX / 40
    assert abs(grown.mean()) < 0.002
    assert np.mean(np.hypot(across, along) <= 1.5 * spread) >= 0.95
