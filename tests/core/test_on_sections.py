"""Features of sections against analytic profiles."""

import math
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hemtra import NotMeasured
from hemtra.core.characteristics.relations import AngleKind, GapKind
from hemtra.core.characteristics.sizes import GrooveSizeKind, RadiusKind
from hemtra.core.features.arc import ArcKind
from hemtra.core.features.groove import GrooveKind
from hemtra.core.features.profile_edge import ProfileEdgeKind
from hemtra.core.features.profile_line import ProfileLevelKind, ProfileLineKind
from hemtra.core.features.section import Cut
from hemtra.core.geometry.elements import LEVEL, Plane, Point
from hemtra.core.plan.kind import Absent, StepContext
from hemtra.core.zones.zone import RectangleZone

PITCH = 0.05
X = PITCH * np.arange(-300, 301)


def on(z, kind, *, zone=None, at=(3.0, -2.0), direction=30.0, base=LEVEL, noise=0.0, missing=0.0):
    """The value of a kind on a section with heights z over `X`."""
    rng = np.random.default_rng(4)
    z = np.asarray(z, float) + rng.normal(0.0, noise, X.size)
    z = np.where(rng.random(X.size) < missing, np.nan, z)
    cut = Cut(X, z, None, at, direction, base)
    return kind.evaluate(StepContext(None, zone, {"section": (cut,)})).value, cut


def along(point: Point, cut: Cut) -> float:
    """Where on the section a point lies."""
    c, s = math.cos(math.radians(cut.direction)), math.sin(math.radians(cut.direction))
    return (point.x - cut.at[0]) * c + (point.y - cut.at[1]) * s


@settings(deadline=None)
@given(st.floats(-8, 8), st.floats(0.2, 2.0))
def test_a_crossing_of_a_level_is_exact_on_a_slope(at, slope):
    point, cut = on(slope * (X - at), ProfileEdgeKind(by="level", level=0.0))
    assert along(point, cut) == pytest.approx(at, abs=1e-9)
    assert point.z == pytest.approx(0.0, abs=1e-9)


@settings(deadline=None)
@given(st.floats(-8, 8), st.floats(0.15, 0.6))
def test_the_steepest_change_is_the_middle_of_a_soft_step(at, soft):
    point, cut = on(np.tanh((X - at) / soft), ProfileEdgeKind())
    assert along(point, cut) == pytest.approx(at, abs=0.05 * PITCH)


def test_which_of_several_edges_counts():
    z = np.tanh((X + 6) / 0.3) + 0.5 * np.tanh((X - 1) / 0.3) - 0.8 * np.tanh((X - 7) / 0.3)

    def at(**params):
        return round(along(*on(z, ProfileEdgeKind(**params))), 2)

    assert (at(pick="first"), at(pick="last"), at(pick="strongest")) == (-6.0, 7.0, -6.0)
    assert (at(change="falls"), at(change="rises", pick="last")) == (7.0, 1.0)
    assert at(change="rises", pick="last", sensitivity=80) == -6.0
    zone = RectangleZone(x=1, y=0, width=4, height=40)
    point, cut = on(z, ProfileEdgeKind(), zone=zone)
    assert along(point, cut) == pytest.approx(1.0, abs=0.01)
    for kind in (ProfileEdgeKind(by="level", level=99), ProfileEdgeKind(change="falls")):
        with pytest.raises(NotMeasured, match="nowhere"):
            on(X if kind.by == "steepest" else z, kind)
    with pytest.raises(NotMeasured, match="only 0 % of the section has data"):
        on(X * np.nan, ProfileEdgeKind())


@settings(deadline=None)
@given(st.floats(-0.8, 0.8), st.floats(-60, 60))
def test_a_line_has_its_angle_in_space_also_from_a_tilted_base(slope, direction):
    base = Plane(1.0, 2.0, 5.0, 0.02, -0.03)
    line, cut = on(slope * X + 1.0, ProfileLineKind(), direction=direction, base=base)
    to_base = AngleKind().evaluate(StepContext(None, None, {"line": (line,), "plane": (base,)})).value.value
    # the section stands upright on the scan, the base leans by 1.7° across it at most
    assert to_base == pytest.approx(math.degrees(math.atan(abs(slope))), abs=0.03)
    if direction == 0.0:
        two = cut.place(-3.0, 1.0 - 3.0 * slope), cut.place(4.0, 1.0 + 4.0 * slope)
        assert line.climb == pytest.approx((two[1].z - two[0].z) / (two[1].x - two[0].x), abs=1e-9)
    angle = AngleKind().evaluate(StepContext(None, None, {"line": (line,)})).value.value
    assert angle == pytest.approx(math.degrees(math.atan(abs(line.climb))), abs=1e-9)
    draft = AngleKind(take="complement").evaluate(StepContext(None, None, {"line": (line,)})).value.value
    assert draft == pytest.approx(90.0 - angle)


def test_lines_choose_their_points():
    burr = np.where((X > 2) & (X < 5), 3.0, 0.0)
    assert on(0.1 * X + burr, ProfileLineKind())[0].climb == pytest.approx(0.1, abs=1e-9)
    assert abs(on(0.1 * X + burr, ProfileLineKind(fit="all"))[0].climb - 0.1) > 1e-3
    wave = 0.1 * X + 0.2 * np.sin(20 * X)
    upper, cut = on(wave, ProfileLineKind(fit="upper", share=10))
    assert upper.z - 0.1 * along(upper, cut) == pytest.approx(0.2, abs=0.01)
    with pytest.raises(NotMeasured, match="only 0 % of the section has data"):
        on(wave, ProfileLineKind(), zone=RectangleZone(x=99, y=0, width=1, height=9))


def test_a_level_is_the_mean_of_its_stretch():
    point, cut = on(
        np.where(X > 0, 2.0, 0.0), ProfileLevelKind(), zone=RectangleZone(x=5, y=1, width=6, height=9)
    )
    assert (along(point, cut), point.z) == (pytest.approx(5.0, abs=PITCH), pytest.approx(2.0))
    with pytest.raises(NotMeasured, match="no point here"):
        on(X, ProfileLevelKind(), zone=RectangleZone(x=0, y=900, width=6, height=9))


@settings(deadline=None)
@given(st.floats(-3, 3), st.floats(1.0, 6.0), st.booleans())
def test_an_arc_has_its_radius_and_centre(x, radius, hollow):
    with np.errstate(invalid="ignore"):
        cap = np.sqrt(radius**2 - (X - x) ** 2)
    z = np.where(np.abs(X - x) < 0.8 * radius, -cap if hollow else cap, np.nan)
    arc, cut = on(z, ArcKind())
    assert arc.radius == pytest.approx(radius, abs=1e-6)
    assert (along(arc, cut), arc.z) == (pytest.approx(x, abs=1e-6), pytest.approx(0.0, abs=1e-6))
    assert arc.span == pytest.approx(2 * math.degrees(math.asin(0.8)), abs=10)
    assert RadiusKind().evaluate(StepContext(None, None, {"of": (arc,)})).value.value == arc.radius


def test_an_arc_that_shows_too_little_of_itself_is_no_radius():
    with np.errstate(invalid="ignore"):
        z = np.where(np.abs(X) < 1.0, np.sqrt(400.0 - X**2), np.nan)
    with pytest.raises(NotMeasured, match="cannot be trusted"):
        on(z, ArcKind())
    with pytest.raises(NotMeasured, match=r"straight line|cannot be trusted"):
        on(0.3 * X, ArcKind())
    with pytest.raises(NotMeasured, match="an arc needs"):
        on(np.where(np.abs(X) < 0.06, z, np.nan), ArcKind())


@settings(deadline=None)
@given(st.floats(-2, 2), st.floats(0.5, 2.0), st.floats(1.0, 4.0), st.booleans(), st.floats(-0.05, 0.05))
def test_a_groove_has_depth_width_and_centre(x, depth, width, ridge, slope):
    """Flanks of 45 degrees; at half depth it is as wide as its floor and one depth more."""
    shape = np.clip(depth - np.maximum(np.abs(X - x) - width / 2, 0.0), 0.0, depth)
    z = slope * X + (shape if ridge else -shape)
    groove, cut = on(z, GrooveKind(side="ridge" if ridge else "groove"), noise=0.0)
    upright = math.hypot(1.0, slope)
    assert groove.depth == pytest.approx(depth / upright, abs=1e-3)
    # along the slope, and cut at half depth on flanks that are straight between samples
    assert groove.width == pytest.approx((width + depth) * upright, abs=0.05)
    assert along(groove, cut) == pytest.approx(x, abs=0.05)
    sizes = [
        GrooveSizeKind(what=what).evaluate(StepContext(None, None, {"of": (groove,)})).value.value
        for what in ("depth", "width")
    ]
    assert sizes == [groove.depth, groove.width]


def test_no_groove_is_made_up():
    none, _ = on(0.0 * X, GrooveKind())
    assert isinstance(none, Absent)
    assert re.search(r"only 0\.\d+ mm deep", none.reason)
    # nothing is as deep as nothing, and as wide
    given_ = StepContext(None, None, {"of": (none,)})
    for what in ("depth", "width"):
        assert GrooveSizeKind(what=what).evaluate(given_).value.value == pytest.approx(0.0, abs=1e-6)


@settings(deadline=None)
@given(
    st.floats(0.2, 3.0), st.floats(-1.0, 1.0), st.floats(0.2, 0.6), st.floats(0.2, 0.6), st.floats(-30.0, 30.0)
)
def test_a_gap_between_rounded_edges_is_tangent_to_them(gap, flush, left, right, tilt):
    """Two sheets with rounded edges, however they are tilted; the arcs are known exactly."""
    from hemtra.core.geometry.elements import Arc, Line

    c, s = math.cos(math.radians(tilt)), math.sin(math.radians(tilt))

    def arc(x, z, radius):
        return Arc(c * x - s * z, 0.0, s * x + c * z, radius, 0.0, 90.0)

    a, b = arc(-gap / 2 - left, -left, left), arc(gap / 2 + right, flush - right, right)
    sides = {"left": (a,), "right": (b,), "line": (Line(0.0, 0.0, 0.0, 0.0, 5.0, s / c),)}

    def found(take):
        return GapKind(take=take).evaluate(StepContext(None, None, sides)).value.value

    assert found("lateral") == pytest.approx(gap)
    assert found("flush") == pytest.approx(flush)
    apart = math.hypot(gap + left + right, flush - right + left)
    assert found("least") == pytest.approx(apart - left - right)
    overlap = Arc(a.x + 0.5 * left, 0.0, a.z, left, 0.0, 90.0)
    with pytest.raises(NotMeasured, match="overlap"):
        GapKind().evaluate(StepContext(None, None, {"left": (a,), "right": (overlap,)}))
