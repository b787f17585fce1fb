"""Height maps, zones, sections and the small operations on them."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from examples import examples
from hemtra import HeightMap, HemtraError
from hemtra.core.errors import OffScan
from hemtra.core.filters.disc import disc_means
from hemtra.core.maps.assemble import resample_rows
from hemtra.core.maps.reduce import block_means
from hemtra.core.maps.section import sample, section
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import EllipseZone, RectangleZone
from makers import box, sloped


def test_height_map_is_its_own_and_frozen():
    z = np.zeros((3, 4), np.float32)
    data = HeightMap(z, dx=0.5, dy=0.25, x0=1, y0=2)
    z[0, 0] = 7
    assert data.z[0, 0] == 0
    with pytest.raises(ValueError, match="read-only"):
        data.z[0, 0] = 1
    assert data.extent == (1.0, 2.5, 2.0, 2.5)


def test_infinite_heights_are_missing_data():
    data = HeightMap([[np.inf, 1.0], [-np.inf, np.nan]])
    assert data.data_share == 0.25
    assert data.height_at(0.1, 0.0) == 1.0
    assert data.height_at(0.0, 0.0) is None
    assert data.height_at(99, 0) is None


@pytest.mark.parametrize(
    "make",
    [
        lambda: HeightMap(np.zeros(5)),
        lambda: HeightMap(np.zeros((0, 5))),
        lambda: HeightMap(np.zeros((2, 2)), np.zeros((2, 3))),
        lambda: HeightMap(np.zeros((2, 2)), dx=0.0),
        lambda: HeightMap(np.zeros((2, 2)), x0=float("nan")),
    ],
)
def test_arrays_that_do_not_fit_are_refused(make):
    with pytest.raises(HemtraError):
        make()


zone = st.builds(
    lambda cls, **fields: cls(**fields),
    st.sampled_from([RectangleZone, EllipseZone]),
    x=st.floats(-5, 5),
    y=st.floats(-7, 7),
    width=st.floats(0.3, 9),
    height=st.floats(0.3, 9),
    rotation=st.floats(-180, 180) | st.sampled_from([0.0, 90.0, -90.0, 180.0]),
)


@settings(max_examples=examples(150))
@given(zone)
def test_window_holds_exactly_the_points_inside(zone):
    data = sloped()
    x, y = np.meshgrid(data.x, data.y)
    expected = zone.contains(x, y)
    found = np.zeros(data.shape, bool)
    try:
        view = window(zone, data)
    except OffScan:
        assert not expected.any()
        return
    found[view.rows, view.cols] = True if view.inside is None else view.inside
    # points on the very border may go either way by rounding
    doubtful = expected != found
    larger, smaller = (
        zone.model_copy(update={"width": zone.width + d, "height": zone.height + d}) for d in (1e-6, -1e-6)
    )
    assert not (doubtful & (larger.contains(x, y) == smaller.contains(x, y))).any()
    assert 0.0 < view.covered <= 1.0


@given(zone)
def test_outline_lies_on_the_border_and_in_the_box(zone):
    outline = zone.outline()
    wx, wy = zone.half_extent()
    assert np.abs(outline[:, 0] - zone.x).max() <= wx + 1e-9
    assert np.abs(outline[:, 1] - zone.y).max() <= wy + 1e-9
    inner, outer = (
        zone.model_copy(update={"width": zone.width * k, "height": zone.height * k}) for k in (0.99, 1.01)
    )
    assert not inner.contains(*outline.T).any()
    assert outer.contains(*outline.T).all()


def test_covered_share_of_a_zone_half_outside():
    data = sloped(rows=50, cols=100, dx=0.1, dy=0.1)
    view = window(box(x=data.extent[0], y=0, width=2, height=2), data)
    assert view.covered == pytest.approx(0.5, abs=0.06)
    assert window(box(), data).covered == 1.0


@given(st.floats(-0.5, 0.5), st.floats(-0.5, 0.5), st.floats(-3, 3), st.floats(-3, 3), st.floats(0, 2))
@settings(max_examples=examples(30))
def test_section_of_a_plane_is_its_line(slope_x, slope_y, ax, bx, width):
    data = sloped(slope_x=slope_x, slope_y=slope_y)
    profile = section(data, (ax, -2.0), (bx, 2.0), width)
    share = profile.x / profile.x[-1]
    expected = slope_x * (ax + share * (bx - ax)) + slope_y * (-2 + 4 * share)
    assert profile.valid.all()
    assert profile.z == pytest.approx(expected, abs=2e-6)


def test_section_leaves_out_what_is_missing():
    data = sloped(rows=30, cols=30, dx=0.1, dy=0.1, z0=5.0)
    z = np.array(data.z)
    z[:, 10:12] = np.nan
    gapped = HeightMap(z, dx=0.1, dy=0.1, x0=data.grid.x0, y0=data.grid.y0)
    profile = section(gapped, (data.extent[0] - 1, 0), (data.extent[1], 0), 0.5)
    assert np.isnan(profile.z[:9]).all(), "before the map begins"
    inside = profile.x + data.extent[0] - 1
    gap = (inside > data.x[9] + 1e-6) & (inside < data.x[12] - 1e-6)
    assert np.isnan(profile.z[gap]).all()
    assert np.nanmax(np.abs(profile.z - 5.0)) == 0.0
    with pytest.raises(HemtraError, match="different ends"):
        section(data, (0, 0), (0, 0))


def test_sampling_on_grid_points_needs_no_neighbours():
    data = HeightMap([[1.0, np.nan], [3.0, np.nan]], dx=1, dy=1)
    assert sample(data, np.array([0.0, 0.0]), np.array([0.0, 0.5])) == pytest.approx([1.0, 2.0])
    assert np.isnan(sample(data, np.array([0.5]), np.array([0.0]))).all()


def test_block_means_are_means_of_blocks():
    z = np.arange(35, dtype=float).reshape(5, 7)
    z[0, 0] = np.nan
    means = block_means(z, 2, 3)
    assert means.shape == (3, 3)
    assert means[0, 0] == pytest.approx(np.mean([1, 2, 7, 8, 9]))
    assert means[2, 2] == 34.0
    assert np.isnan(block_means(z, 2, 3, least=0.9)[2, 2])


@pytest.mark.parametrize(("rx", "ry"), [(0, 0), (2, 2), (5, 3), (1, 4)])
def test_disc_means_agree_with_convolution(rx, ry):
    rng = np.random.default_rng(2)
    z = rng.normal(5, 1, (30, 40))
    z[rng.random(z.shape) < 0.2] = np.nan
    u, v = np.arange(-rx, rx + 1), np.arange(-ry, ry + 1)[:, None]
    half = np.floor(rx * np.sqrt(np.clip(1 - (v / max(ry, 1)) ** 2, 0, 1))) if ry else 0 * v
    disc = (np.abs(u) <= half).astype(float)
    count = ndimage.convolve((~np.isnan(z)).astype(float), disc, mode="constant")
    total = ndimage.convolve(np.nan_to_num(z), disc, mode="constant")
    expected = np.where(count >= max(1, disc.sum() / 2), total / np.maximum(count, 1), np.nan)
    assert disc_means(z, rx, ry) == pytest.approx(expected, abs=1e-9, nan_ok=True)


def resampled(x, z, first, pitch, cols):
    z_out, grey_out = np.empty((1, cols), np.float32), np.empty((1, cols), np.uint8)
    x, z = np.array([x], float), np.array([z], np.float32)
    resample_rows(x, z, np.full(z.shape, 90, np.uint8), first, pitch, 0, z_out, grey_out)
    return z_out[0], grey_out[0]


def test_rows_are_interpolated_but_walls_and_gaps_are_not_bridged():
    x = [0.0, 0.9, 2.1, 3.0, 4.0, 5.0]
    z, grey = resampled(x, [0.0, 0.09, 0.21, np.nan, 4.0, 4.0], 0.0, 1.0, 7)
    assert z[:3] == pytest.approx([0.0, 0.1, 0.2], abs=1e-6)
    assert np.isnan(z[3])
    assert z[4:6] == pytest.approx([4.0, 4.0])
    assert np.isnan(z[6])
    assert grey[1] == 90
    assert grey[3] == 0
    wall, _ = resampled([0.0, 1.0, 2.0], [0.0, 0.0, 3.0], 0.0, 0.5, 5)
    assert set(wall[~np.isnan(wall)]) == {0.0, 3.0}, "no height between the two levels is made up"


def test_a_steep_flank_is_no_staircase_of_walls_where_noise_makes_its_steps_larger():
    """Points of a flank 0.24 mm apart in height, on another spacing than the columns, with noise."""
    rng = np.random.default_rng(3)
    place = 0.013 + 0.107 * np.arange(40)
    rows = [
        resampled(place, 0.24 / 0.107 * place + rng.normal(0, 0.012, place.size), 0.0, 0.1, 42)[0]
        for _ in range(200)
    ]
    inner = np.array(rows)[:, 2:40]
    assert not np.isnan(inner).any()
    off = inner - 0.24 / 0.107 * 0.1 * np.arange(2, 40)
    assert np.abs(off.mean(axis=0)).max() < 0.004, "noise makes no bias"
    wall, _ = resampled([0.0, 0.1, 0.2, 0.3], [0.0, 0.0, 0.4, 0.4], 0.0, 0.05, 7)
    assert not ((wall > 0.05) & (wall < 0.35)).any(), "one step alone is a wall"
