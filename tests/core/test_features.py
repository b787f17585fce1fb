"""Features and characteristics against analytic surfaces."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import examples
from hemtra import HeightMap, NotMeasured
from hemtra.core.characteristics.angle import TiltKind
from hemtra.core.characteristics.form import FlatnessKind
from hemtra.core.characteristics.height import HeightKind, StepKind
from hemtra.core.features.plane import FittedPlane, PlaneKind
from hemtra.core.features.spot import SpotKind
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Dimension, Histogram, Region
from hemtra.core.plan.kind import StepContext
from hemtra.core.plan.registry import kinds
from hemtra.core.zones.zone import EllipseZone
from makers import box, edited, sloped


def found(kind, data, zone=None, **inputs):
    return kind.evaluate(
        StepContext(data, zone, {k: v if isinstance(v, tuple) else (v,) for k, v in inputs.items()})
    ).value


def raised(z, x, y):
    z[(np.abs(x) < 1) & (np.abs(y) < 1)] += 2.5


def test_plane_reads_slope_in_mm_on_unequal_pitch():
    plane = found(PlaneKind(), sloped(slope_x=0.02, slope_y=-0.05, z0=3), box(x=1, y=-2))
    assert (plane.slope_x, plane.slope_y) == pytest.approx((0.02, -0.05), abs=1e-6)
    assert plane.height_at(0.0, 0.0) == pytest.approx(3.0, abs=1e-6)
    assert plane.tilt == pytest.approx(math.degrees(math.atan(math.hypot(0.02, 0.05))), abs=1e-4)


@pytest.mark.parametrize(
    ("take", "expected"),
    [("mean", 5.0), ("median", 5.0), ("percentile", 5.0), ("highest", 5.2), ("lowest", 4.8)],
)
def test_spot_takes_what_it_is_told(take, expected):
    ramp = sloped(slope_x=0.1, z0=5.0)
    spot = found(SpotKind(take=take), ramp, box(width=4.01, height=4.01))
    # the ramp's outermost grid points lie 1.95 mm from the middle
    assert spot.z == pytest.approx(expected, abs=0.0051)
    side = {"highest": 1.95, "lowest": -1.95}.get(take, 0.0)
    assert spot.x == pytest.approx(side, abs=1e-6)


def test_spot_ignores_up_to_four_tenths_on_another_level():
    data = edited(sloped(z0=4.0, noise=0.005), lambda z, x, y: z.__setitem__(x < -0.4, -6.0))
    spot = found(SpotKind(), data, box())
    assert spot.z == pytest.approx(4.0, abs=0.001)
    keep = found(SpotKind(outliers="keep"), data, box())
    assert keep.z == pytest.approx(4.0 - 10 * 0.4, abs=0.15)


def test_averaging_disc_keeps_one_stray_point_from_deciding():
    def dirty(z, x, y):
        z[30, 40] = 9.0
        z[(x - 1) ** 2 + (y - 1) ** 2 < 0.6] = 1.0

    data = edited(sloped(), dirty)
    alone = found(SpotKind(take="highest"), data, box())
    assert alone.z == 1.0, "one stray point is not part of the part"
    averaged = found(SpotKind(take="highest", disc=1.0), data, box())
    assert averaged.z == pytest.approx(1.0, abs=1e-6)
    assert math.dist((averaged.x, averaged.y), (1, 1)) < 0.5


tilts = st.floats(-3, 3)


@settings(max_examples=examples(25))
@given(tilts, tilts)
def test_height_and_step_do_not_depend_on_how_the_part_lies(tilt_x, tilt_y):
    """A block 2.5 mm high, measured square to its base, on a base tilted by up to 3°."""
    tan_x, tan_y = math.tan(math.radians(tilt_y)), math.tan(math.radians(tilt_x))
    upright = 1 / math.sqrt(1 + tan_x**2 + tan_y**2)

    def block(z, x, y):
        z[(np.abs(x) < 1) & (np.abs(y) < 1)] += 2.5 / upright

    data = edited(sloped(slope_x=tan_x, slope_y=tan_y), block)
    base = found(PlaneKind(use="lowest", share=60), data, box(width=7, height=10))
    top = found(SpotKind(), data, box(width=1.5, height=1.5))
    beside = found(SpotKind(), data, box(x=2.5, y=3, width=1, height=1))
    assert found(HeightKind(), data, point=top, plane=base).value == pytest.approx(2.5, abs=1e-5)
    step = found(StepKind(), data, upper=top, lower=beside, plane=base)
    assert step.value == pytest.approx(2.5, abs=1e-5)


def test_step_without_a_plane_is_along_z():
    data = edited(sloped(), raised)
    top, low = (
        found(SpotKind(), data, box(width=1, height=1)),
        found(SpotKind(), data, box(x=3, width=1, height=1)),
    )
    assert found(StepKind(), data, upper=top, lower=low).value == pytest.approx(2.5)
    assert found(StepKind(), data, upper=low, lower=top).value == pytest.approx(-2.5)


def test_tilt_between_planes_and_to_level():
    a = found(PlaneKind(), sloped(slope_x=math.tan(math.radians(1.5))), box())
    b = found(PlaneKind(), sloped(slope_x=math.tan(math.radians(-0.5))), box())
    data = sloped()
    assert found(TiltKind(), data, plane=a).value == pytest.approx(1.5, abs=1e-4)
    assert found(TiltKind(), data, plane=a, to=b).value == pytest.approx(2.0, abs=1e-4)


def test_flatness_of_a_bow_is_its_height():
    bow = 0.2
    data = edited(sloped(rows=100, cols=200, slope_x=0.01), lambda z, x, y: z.__iadd__(bow * (x / 10) ** 2))
    surface = found(PlaneKind(trim=0), data, box(width=19.8, height=19.8))
    # the outermost points inside are at 9.85 mm
    value = found(FlatnessKind(cell=0.2), data, surfaces=surface).value
    assert value == pytest.approx(bow * (9.85 / 10) ** 2, abs=2e-4)


def test_flatness_of_two_surfaces_sees_the_step_between_them():
    data = edited(sloped(rows=100, cols=200, noise=0.002), lambda z, x, y: z.__setitem__(x > 0, z[x > 0] + 0.1))
    left, right = (found(PlaneKind(), data, box(x=x, width=6, height=18)) for x in (-5, 5))
    assert found(FlatnessKind(), data, surfaces=(left,)).value < 0.003
    # a common plane leans with the step and leaves less than half of it at the inner edges
    both = found(FlatnessKind(cell=1.0), data, surfaces=(left, right)).value
    assert 0.02 < both < 0.1


@pytest.mark.parametrize("kind", [SpotKind(), PlaneKind()])
def test_zones_without_data_say_so(kind):
    empty = HeightMap(np.full((60, 80), np.nan), dx=0.1, dy=0.2, x0=-3.95, y0=-5.9)
    with pytest.raises(NotMeasured, match="no data"):
        found(kind, empty, box())
    with pytest.raises(NotMeasured, match="outside the scan"):
        found(kind, sloped(), box(x=100))


@pytest.mark.parametrize("kind", [SpotKind, PlaneKind])
def test_half_seen_zones_are_not_trusted(kind):
    data = edited(sloped(), lambda z, x, y: z.__setitem__(x > -0.8, np.nan))
    with pytest.raises(NotMeasured, match=r"only 30 % of the zone has data; minimum 50 %"):
        found(kind(), data, box(width=4.01))
    assert found(kind(least_data=30 - 1), data, box(width=4.01)).used > 0
    # what lies outside the scan holds no data either
    with pytest.raises(NotMeasured, match="only"):
        found(kind(), sloped(), box(x=data.extent[1] + 1.5, width=4.01))


def test_flatness_needs_cells():
    surface = found(PlaneKind(), sloped(), box(width=1, height=1))
    with pytest.raises(NotMeasured, match="cells"):
        found(FlatnessKind(cell=5.0), sloped(), surfaces=surface)


def test_evidence_of_a_spot_counts_the_points_it_used():
    data = edited(sloped(noise=0.003), raised)
    given_ = StepContext(data, EllipseZone(x=0, y=0, width=3, height=3), {})
    kind = SpotKind()
    outcome = kind.evaluate(given_)
    evidence = kind.explain(given_, outcome)
    used, left_out = (m for m in evidence.marks if isinstance(m, Region))
    assert used.mask.sum() == outcome.value.used
    assert not (used.mask & left_out.mask).any()
    assert isinstance(evidence.picture, Histogram)
    assert evidence.picture.used.sum() == outcome.value.used
    assert evidence.picture.counts.sum() == used.mask.sum() + left_out.mask.sum()


def test_dimension_of_a_height_is_as_long_as_the_height():
    plane = found(PlaneKind(), sloped(slope_x=0.3), box())
    kind, given_ = HeightKind(), StepContext(sloped(), None, {"point": (Point(1, 1, 4),), "plane": (plane,)})
    outcome = kind.evaluate(given_)
    (dimension,) = kind.explain(given_, outcome).marks
    assert isinstance(dimension, Dimension)
    ends = [(p.x, p.y, p.z) for p in (dimension.start, dimension.end)]
    assert math.dist(*ends) == pytest.approx(outcome.value.value)


@pytest.mark.parametrize("name", sorted(kinds()))
def test_every_kind_declares_itself_in_full(name):
    kind = kinds()[name]
    assert kind.kind == name
    assert kind.title
    assert kind.__doc__
    instance = kind()
    for setting, info in kind.model_fields.items():
        if info.json_schema_extra is None:
            continue  # no field of the form
        assert info.title, setting
        assert len(info.description or "") > 10, f"{name}.{setting} needs a help text"
        for value in (info.json_schema_extra or {})["choices"]:  # type: ignore[index, call-overload]
            # a title is of something that can be chosen
            assert getattr(kind.model_validate({setting: value}), setting) == value
    for setting, shown in instance.shown_settings().items():
        assert not shown.choices or str(shown.value) in shown.choices, setting
    for wanted in kind.inputs.values():
        assert wanted.label
        assert wanted.help.endswith(".")
    plain = {"count", "code-reads", "formula"}
    assert not kind.is_characteristic() or kind.unit or name in plain


def test_settings_that_do_not_matter_are_not_shown():
    assert list(PlaneKind(use="lowest").shown_settings()) == ["use", "share", "trim", "least_data"]
    assert list(PlaneKind(use="band").shown_settings()) == ["use", "band_from", "band_to", "trim", "least_data"]
    assert FittedPlane is PlaneKind.output
