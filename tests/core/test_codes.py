"""Codes printed on a surface: read at any angle, compared, and refused when they cannot be trusted."""

import math
from dataclasses import replace

import numpy as np
import pytest
import zxingcpp
from hypothesis import given
from hypothesis import strategies as st
from scipy.ndimage import map_coordinates
from test_anchors import X, local, relief

from hemtra import HeightMap, NotMeasured
from hemtra.core.characteristics.code_content import ReadsAsKind
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.code import CodeKind
from hemtra.core.maps.heightmap import Grid, frozen
from hemtra.core.maps.upright import upright
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import RectangleZone
from hemtra.virtual.demo import STATION, DemoPart, demo_plan
from hemtra.virtual.sensor import scan_part


def printed(text: str, turn: float, *, noise: float = 8.0) -> HeightMap:
    """A map with a QR code printed on it, 12 mm wide about (1, -2)."""
    code = zxingcpp.create_barcode(text, zxingcpp.BarcodeFormat.QRCode)
    matrix = np.array(code.to_image(scale=1, add_quiet_zones=False)) < 128
    module, last = 12.0 / len(matrix), len(matrix) - 1
    u, v = local(1.0, -2.0, turn)
    i, j = np.floor((6.0 - v) / module).astype(int), np.floor((u + 6.0) / module).astype(int)
    inside = (i >= 0) & (j >= 0) & (i <= last) & (j <= last)
    dark = inside & matrix[np.clip(i, 0, last), np.clip(j, 0, last)]
    grey = np.where(dark, 60.0, 190.0) + np.random.default_rng(1).normal(0, noise, X.shape)
    return HeightMap(np.zeros(X.shape), np.clip(grey, 0, 255).astype(np.uint8), 0.1, 0.1, -20, -15)


@pytest.mark.parametrize("turn", [0.0, 37.0, 180.0])
def test_a_code_is_read_at_any_angle_and_compared(turn):
    zone = RectangleZone(x=1, y=-2, width=20, height=20)
    code = CodeKind().evaluate(StepContext(printed("RPC-7 000123", turn), zone)).value
    assert code.text == "RPC-7 000123"
    assert math.hypot(code.x - 1.0, code.y + 2.0) < 0.3
    for how, expected, right in (
        ("exact", "RPC-7 000123", 1.0),
        ("exact", "RPC-7 000124", 0.0),
        ("pattern", "RPC-7 ######", 1.0),
        ("pattern", "R*2?", 1.0),
        ("pattern", "*#", 1.0),
        ("pattern", "RPC-8*", 0.0),
        ("pattern", "##C-7*", 0.0),
        ("pattern", "*a*a*a*a*a*a*a*a*a*a*b", 0.0),
    ):
        found = (
            ReadsAsKind(how=how, expected=expected)
            .evaluate(StepContext(relief(0 * X), None, {"of": (code,)}))
            .value
        )
        assert (found.value, found.text) == (right, "RPC-7 000123"), expected


def test_what_cannot_be_read_says_why():
    zone = RectangleZone(x=1, y=-2, width=20, height=20)
    plain = HeightMap(np.zeros(X.shape), np.full(X.shape, 9, np.uint8), 0.1, 0.1, -20, -15)
    with pytest.raises(NotMeasured, match="equally bright"):
        CodeKind().evaluate(StepContext(plain, zone))
    with pytest.raises(NotMeasured, match="no intensity"):
        CodeKind().evaluate(StepContext(relief(0 * X), zone))
    smudged = printed("RPC-7", 0.0, noise=300.0)
    none = CodeKind().evaluate(StepContext(smudged, zone)).value
    assert "no code could be read" in none.reason
    # all of the zone was seen, so the marking is wrong and not unknown
    assert ReadsAsKind().evaluate(StepContext(smudged, None, {"of": (none,)})).value.value == 0.0
    hidden = HeightMap(np.where(X > 3, np.nan, 0.0), smudged.intensity, 0.1, 0.1, -20, -15)
    with pytest.raises(NotMeasured, match="no code could be read"):
        CodeKind().evaluate(StepContext(hidden, zone))


def test_two_codes_in_a_zone_are_not_taken_for_one():
    one = printed("RPC-7 000123", 0.0)
    both = HeightMap(
        np.hstack([one.z, one.z]), np.hstack([one.intensity, printed("RPC-7 000124", 0.0).intensity]), 0.1, 0.1
    )
    x0, x1, y0, y1 = both.extent
    zone = RectangleZone(x=(x0 + x1) / 2, y=(y0 + y1) / 2, width=x1 - x0, height=y1 - y0)
    with pytest.raises(NotMeasured, match="2 codes lie in the zone"):
        CodeKind().evaluate(StepContext(both, zone))


def test_a_code_can_be_compared_with_the_serial_of_the_part():
    data = printed("RPC-7 000123", 0.0)
    code = CodeKind().evaluate(StepContext(data, RectangleZone(x=1, y=-2, width=20, height=20))).value
    kind = ReadsAsKind(how="serial", expected="RPC-7 {serial}")
    for serial, right in (("000123", 1.0), ("000124", 0.0)):
        given_ = StepContext(data, None, {"of": (code,)}, serial=serial)
        assert kind.evaluate(given_).value.value == right
    whole = ReadsAsKind(how="serial", expected="*")
    assert whole.evaluate(StepContext(data, None, {"of": (code,)}, serial="RPC-7 000123")).value.value == 1.0
    with pytest.raises(NotMeasured, match="which serial"):
        kind.evaluate(StepContext(data, None, {"of": (code,)}))


def barred(turn: float, *, inverted: bool = False, module: float = 0.3) -> tuple[HeightMap, str]:
    """A map with a Code 128 printed on it in the middle, 8 mm high."""
    text = "AB123"
    code = zxingcpp.create_barcode(text, zxingcpp.BarcodeFormat.Code128)
    bars = (np.array(code.to_image(scale=1, add_quiet_zones=False)) < 128)[0]
    u, v = local(0.0, 0.0, turn)
    j = np.floor(u / module + bars.size / 2).astype(int)
    dark = (np.abs(v) < 4.0) & (j >= 0) & (j < bars.size) & bars[np.clip(j, 0, bars.size - 1)]
    noise = np.random.default_rng(1).normal(0.0, 8.0, X.shape)
    grey = np.where(dark != inverted, 40.0, 200.0) + noise
    return HeightMap(np.zeros(X.shape), np.clip(grey, 0, 255).astype(np.uint8), 0.1, 0.1, -20, -15), text


@pytest.mark.parametrize("inverted", [False, True])
@pytest.mark.parametrize("turn", [0.0, 33.0, 45.0, 90.0, 150.0])
def test_bars_are_read_at_any_angle_dark_or_light(turn, inverted):
    data, text = barred(turn, inverted=inverted)
    code = CodeKind(symbology="code128").evaluate(
        StepContext(data, RectangleZone(x=0, y=0, width=36, height=28))
    )
    assert code.value.text == text
    # bars have no place along themselves, so only the middle across them is theirs
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    assert abs(code.value.x * c + code.value.y * s) < 0.5


def test_a_small_code_is_found_in_a_large_zone():
    data = printed("RPC-7 000123", 20.0)
    g = data.grid
    small = HeightMap(data.z, data.intensity, g.dx / 2, g.dy / 2, g.x0 / 2, g.y0 / 2)
    x0, x1, y0, y1 = small.extent
    wide = RectangleZone(x=(x0 + x1) / 2, y=(y0 + y1) / 2, width=x1 - x0, height=y1 - y0)
    assert CodeKind().evaluate(StepContext(small, wide)).value.text == "RPC-7 000123"


def test_a_spot_that_shines_on_its_frame_does_not_hide_a_code():
    """On this part a spot of light, which the camera cannot look at, breaks the solid side of the code."""
    part = DemoPart(5298, "good", {})
    shines = part.cover.specks[:, 3] > 1.0
    scan = scan_part(replace(part.cover, specks=part.cover.specks[shines]), STATION, 5298)
    plan = demo_plan()
    alone = plan.edited(sheet=(plan.characteristic(23),), signals=())
    assert Engine(scan.data).run(alone).characteristics[0].text == "RPC-7 005298"


@given(st.integers(0, 2**32 - 1), st.floats(-180.0, 180.0), st.floats(0.03, 0.4))
def test_a_picture_is_upright_as_its_zone_is(seed, rotation, spacing):
    """Like what interpolates anywhere, beyond the border of the map too; the far side first."""
    rng = np.random.default_rng(seed)
    grid = Grid(-4.0, -3.0, 0.2, 0.3)
    source = frozen(rng.integers(0, 256, (20, 40)).astype(np.uint8))
    middle, (rows, cols) = rng.uniform(-5.0, 5.0, 2), rng.integers(2, 30, 2)
    found = upright(source, grid, tuple(middle), rotation, spacing, (rows, cols))
    u, v = (np.arange(cols) - (cols - 1) / 2) * spacing, ((rows - 1) / 2 - np.arange(rows)) * spacing
    turn = np.exp(1j * np.radians(rotation)) * (u[None, :] + 1j * v[:, None])
    where = (middle[1] + turn.imag - grid.y0) / grid.dy, (middle[0] + turn.real - grid.x0) / grid.dx
    assert found == pytest.approx(map_coordinates(source, where, float, order=1, mode="nearest"), abs=1e-3)
