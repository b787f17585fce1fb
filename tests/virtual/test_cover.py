"""The virtual cover: its surface against the drawing, and its truth against its surface."""

import numpy as np
import pytest
import zxingcpp

from hemtra import HemtraError
from hemtra.virtual import cover_kernels as k
from hemtra.virtual.cover import BOSSES, DEFECTS, Cover, make_cover, parse_defect
from hemtra.virtual.demo import PARTS, drawn_plan, truth
from hemtra.virtual.shapes import surface_at


def heights(cover, places):
    shape = cover.shape()
    return [surface_at(float(x), float(y), shape)[0] for x, y in places]


def test_surface_is_the_drawing():
    cover = Cover()
    on_drawing = {
        (0, 30): 0.0,
        (42, 26): 4.0,
        (-42, -17.5): 4.0,
        (0, 15): 8.0,
        (35, 0): -2.5,
        (-35, 0): 0.2,
        (53, 0): 1.6,
        (0, -33): 1.6,
        (53, 0.75): 1.6,
        (52.25, 0): 1.6 * (1 - 0.5**2),
        (0, 25.5): 1.2,
    }
    assert heights(cover, on_drawing) == pytest.approx(list(on_drawing.values()), abs=1e-12)
    assert np.isneginf(heights(cover, [(42, 22), (0, 0), (61, 0), (59.9, 39.9), (0, 41)])).all()
    assert heights(cover, [(-35, 4.25)]) == [-3.0], "the floor of the slot shows in the gap"


def test_defects_change_what_they_name():
    plain, short = make_cover(5), make_cover(5, {"boss-short": 0.4})
    assert short.truth()[1] == pytest.approx(3.6, abs=0.03)
    assert short.truth()[2] == plain.truth()[2]
    tilted = make_cover(5, {"hub-tilted": 1.0}).shape().cover
    assert np.hypot(tilted.hub_slope_x, tilted.hub_slope_y) == pytest.approx(np.tan(np.radians(1.0)))
    assert make_cover(5, {"rotated": 30.0}).pose.rotation == 30.0
    assert set(DEFECTS) >= {"boss-short", "hub-tilted", "pocket-shallow", "flange-warped"}


@pytest.mark.parametrize(
    ("name", "size"), [("boss-melted", None), ("boss-short", float("nan")), ("rotated", 1e9)]
)
def test_defects_that_make_no_sense_are_refused(name, size):
    with pytest.raises(HemtraError, match=name):
        make_cover(1, {name: size})


def test_defects_as_written_on_a_command_line():
    assert parse_defect("boss-short") == ("boss-short", None)
    assert parse_defect("boss-short=0.25") == ("boss-short", 0.25)
    with pytest.raises(HemtraError, match="not a size"):
        parse_defect("boss-short=much")


def test_truth_of_a_warped_flange_follows_from_its_surface():
    """The sheet's truth is found again from the surface alone, on a grid and with a general solver."""
    cover = Cover(bow=0.26)
    shape = cover.shape()
    xs, ys = np.linspace(-50, 50, 251), np.linspace(-30, 30, 151)
    points = np.array([(x, y, *surface_at(x, y, shape)) for x in xs for y in ys])
    x, y, z = points[points[:, 4] == k.FLANGE][:, :3].T
    plane, *_ = np.linalg.lstsq(np.column_stack([x, y, np.ones(x.size)]), z, rcond=None)
    found = cover.truth()
    for balloon, (bx, by) in enumerate(BOSSES, start=1):
        # equal areas: radii evenly spaced in their squares
        radii, angles = np.sqrt(np.linspace(2.8**2, 5.95**2, 20)), np.linspace(0, 2 * np.pi, 60, endpoint=False)
        ring = [(bx + r * np.cos(a), by + r * np.sin(a)) for r in radii for a in angles]
        above = np.mean(heights(cover, ring)) - (plane @ [bx, by, 1])
        assert above == pytest.approx(found[balloon], abs=0.001)
    residual = z - np.column_stack([x, y, np.ones(x.size)]) @ plane
    assert np.ptp(residual) == pytest.approx(found[15], abs=0.002)


def test_marking_reads_back():
    cover = make_cover(42)
    shape = cover.shape()
    xs, ys = np.arange(-33.5, -20.5, 0.05), np.arange(-11.5, -24.5, -0.05)
    grey = np.array([[surface_at(x, y, shape)[1] for x in xs] for y in ys])
    (code,) = zxingcpp.read_barcodes((grey * 255).astype(np.uint8))
    assert code.text == cover.truth()[23] == "RPC-7 000042"


def test_truth_has_every_balloon_of_the_drawing():
    assert list(make_cover(3).truth()) == list(range(1, 25))


def test_demo_tags_are_the_truth():
    for part, known in zip(PARTS, truth().values(), strict=True):
        assert bool(known["fails"]) == (part.tag == "bad"), part.file
    failing = [tuple(known["fails"]) for known in truth().values() if known["fails"]]
    assert set.union(*map(set, failing)) == {1, 5, *range(7, 22), 23, 24}, "bad in many ways"
    assert {row.balloon for row in drawn_plan().sheet} == set(range(1, 25))
