"""Where on a wall its edge is, and sizes of rims that lie tilted."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.features.circle import CircleKind
from hemtra.core.features.edge import EdgeKind
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone
from makers import box

PITCH = 0.1
X, Y = np.meshgrid(np.arange(-6.0, 6.0, PITCH), np.arange(-6.0, 6.0, PITCH))


def surface(z) -> HeightMap:
    return HeightMap(np.asarray(z, np.float32), dx=PITCH, dy=PITCH, x0=X[0, 0], y0=Y[0, 0])


def edge_x(data, wall, change="falls") -> float:
    kind = EdgeKind(change=change, wall=wall, least_step=1.0)
    return kind.evaluate(StepContext(data, box(0.3, 0.0, 8.0, 6.0), {})).value.x


@settings(max_examples=examples(15), deadline=None)
@given(run=st.floats(0.3, 1.5), at=st.floats(-0.5, 0.5), mirrored=st.booleans())
def test_a_wall_in_view_has_a_top_a_middle_and_a_foot(run, at, mirrored):
    """Of a wall 3 mm high: half height lies half its run behind the top, and the foot all of it."""
    z = 3.0 * np.clip(1.0 - (X - at) / run, 0.0, 1.0)
    sign, change = (-1.0, "rises") if mirrored else (1.0, "falls")
    data = surface(z[:, ::-1] if mirrored else z)
    # mirrored, the map's columns run from -6.0 to 5.9 the other way
    shift = X[0, 0] + X[0, -1] if mirrored else 0.0
    top, half, foot = (sign * (edge_x(data, wall, change) - shift) for wall in ("top", "half", "foot"))
    assert top == pytest.approx(at, abs=PITCH)
    assert foot == pytest.approx(at + run, abs=PITCH)
    assert top < half < foot
    if run < 6 * PITCH:  # its levels are looked for on three samples either way
        assert half == pytest.approx(at + run / 2, abs=PITCH / 2)


def test_the_top_before_a_shadow_lies_between_the_last_seen_and_the_first_that_is_not():
    """Also where the shadow is but a point or two: what is seen behind it says nothing about the edge."""
    for hidden in (0.15, 0.35, 2.0):
        z = np.where(X < 0.43, 3.0, 0.0)
        z[(X > 0.43) & (0.43 + hidden > X)] = np.nan
        assert edge_x(surface(z), "top") == pytest.approx(0.43, abs=PITCH / 2)


def test_a_stretch_of_another_height_in_the_middle_of_an_edge_counts_and_one_at_its_end_does_not():
    """At its end the level runs out before a corner; in its middle the edge is notched, which must not go."""

    def lines(lower):
        z = np.where(lower, 2.2, 3.0) * np.clip(1.0 - (X - 0.03 * lower) / 0.5, 0.0, 1.0)
        outcome = EdgeKind(change="falls", least_step=1.0).evaluate(
            StepContext(surface(z), box(0.3, 0.0, 8.0, 6.0), {})
        )
        used, seen = map(int, dict(outcome.facts)["scan lines"].split(" of "))
        return seen - used

    assert lines(np.abs(Y) < 0.6) == 0
    assert lines(Y > 2.0) == pytest.approx(1.0 / PITCH, abs=2)


def test_a_foot_in_the_shadow_is_not_measured():
    z = np.where(X < 0.43, 3.0, 0.0)
    z[(X > 0.43) & (X < 1.5)] = np.nan
    with pytest.raises(NotMeasured):
        edge_x(surface(z), "foot")


@pytest.mark.parametrize("wall", ["top", "half"])
def test_a_round_rim_is_as_large_however_it_lies(wall):
    """Seen from above a tilted circle is shorter along the slope; its diameter is that of its own plane."""
    sizes = []
    for slope in (0.0, np.tan(np.radians(12.0))):
        off = np.hypot(np.hypot(X, Y), slope * X)
        data = surface(np.where(off < 4.0, slope * X + 3.0, slope * X))
        kind = CircleKind(change="falls", wall=wall, least_step=1.0)
        circle = kind.evaluate(StepContext(data, EllipseZone(x=0.1, y=0.0, width=11, height=11), {})).value
        sizes.append(2 * circle.radius)
        assert (circle.x, circle.y) == pytest.approx((0.0, 0.0), abs=0.02)
        # the level of a rim is that of the highest sample just before it
        assert circle.z == pytest.approx(3.0, abs=0.03)
    assert sizes == pytest.approx([8.0, 8.0], abs=0.025)
