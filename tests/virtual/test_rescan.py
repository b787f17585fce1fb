"""A part of the demo simulated anew: the same part, lying otherwise."""

from dataclasses import replace

import numpy as np

from hemtra import Scan, inspect
from hemtra.virtual.demo import PARTS, demo_plan
from hemtra.virtual.rescan import rescan_of
from makers import sloped


def test_a_demo_part_is_scanned_anew_and_reads_the_same():
    scan = PARTS[1].scan()
    rescan = rescan_of(scan)
    first, again, other = (rescan(1.0, np.random.default_rng(seed)) for seed in (4, 4, 5))
    assert np.array_equal(first.z, again.z, equal_nan=True)
    assert not np.array_equal(first.z, other.z, equal_nan=True)
    before, after = (inspect(demo_plan(), data) for data in (scan.data, other))
    assert str(after.verdict) == "PASS"
    heights = [{row.balloon: row.value for row in result.characteristics} for result in (before, after)]
    assert abs(heights[0][6] - heights[1][6]) < 0.003


def test_other_scans_are_not_made_anew():
    scan = PARTS[0].scan()
    assert rescan_of(Scan(sloped(), PARTS[0].file)) is None
    assert rescan_of(replace(scan, name="mine.x3p")) is None
    assert rescan_of(replace(scan, station={})) is None
