"""Pictures of height maps."""

import numpy as np
import pytest

from hemtra import HeightMap
from hemtra.core.rendering.picture import View, _indices, grey_picture, picture, view_heights
from makers import sloped

RAMP = np.repeat(np.arange(256, dtype=np.uint8)[:, None], 3, axis=1)


def flat_view(data, scale):
    x0, x1, _, y1 = data.extent
    return View(x0 - data.grid.dx / 2, y1 + data.grid.dy / 2, scale, round((x1 - x0) / scale) + 1, 40)


def test_a_pixel_over_many_points_shows_their_mean():
    z = np.arange(64, dtype=float).reshape(8, 8)
    z[0, 0] = np.nan
    data = HeightMap(z, dx=1, dy=1)
    view = View(-0.5, 7.5, 2.0, 4, 4)
    shown = view_heights(data.z, *_indices(data, view))
    assert shown[0, 0] == np.mean([48, 49, 56, 57]), "the first row of pixels is the highest y"
    assert shown[3, 0] == np.mean([1, 8, 9]), "without the missing point"


def test_a_pixel_smaller_than_the_pitch_shows_the_nearest_point():
    data = HeightMap([[1.0, 2.0], [3.0, np.nan]], dx=1, dy=1)
    view = View(-0.5, 1.5, 0.25, 8, 8)
    shown = view_heights(data.z, *_indices(data, view))
    assert (shown[4:, :4] == 1.0).all()
    assert (shown[:4, :4] == 3.0).all()
    assert np.isnan(shown[:4, 4:]).all()


def test_colours_rise_with_height_and_end_at_the_limits():
    data = sloped(rows=20, cols=100, slope_x=1.0)
    shown = picture(data, flat_view(data, 0.1), RAMP, -3.0, 3.0, shade=0.0)
    row = shown[5, :, 0].astype(int)
    assert (np.diff(row[shown[5, :, 3] > 0]) >= 0).all()
    assert row[1] == 0
    assert row[98] == 255


def test_nothing_is_painted_where_there_is_no_scan():
    data = sloped(rows=10, cols=10)
    far = picture(data, View(500.0, 500.0, 0.1, 30, 20), RAMP, 0.0, 1.0)
    assert far.shape == (20, 30, 4)
    assert not far.any()
    assert not grey_picture(data, View(-1.0, 1.0, 0.1, 20, 20))[..., :3].any(), "no intensity, no grey"


def test_shading_tells_rising_from_falling():
    shown = {}
    for slope in (-0.5, 0.5):
        data = sloped(slope_x=slope)
        shown[slope] = picture(data, View(-2, 2, 0.1, 40, 40), RAMP, -50.0, 50.0)[20, 20, 0]
    assert shown[0.5] > shown[-0.5]


@pytest.mark.parametrize("name", ["height_palette", "deviation_palette"])
def test_palettes_are_even_in_lightness(name):
    from hemtra.core.rendering import palettes

    palette = getattr(palettes, name)().astype(float) / 255
    linear = np.where(palette <= 0.04045, palette / 12.92, ((palette + 0.055) / 1.055) ** 2.4)
    lightness = np.cbrt(linear @ [0.2126, 0.7152, 0.0722])
    rising = lightness if name == "height_palette" else lightness[:128]
    steps = np.diff(rising)
    assert steps.min() > -1e-3
    assert steps.max() < 4 * steps.mean()
