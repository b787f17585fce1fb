"""Files of other programs read, and records written for them."""

from __future__ import annotations

import hashlib

import numpy as np
import plyfile
import pytest
from many_parts import many_parts

from hemtra import load_scan
from hemtra.storage.exports import export
from hemtra.storage.records import Records

POINTS, LINES = 20_000_000, 5_000_000
PARTS = 100_000


def cloud(points):
    """(n, 3) points of a wavy surface on a grid of 0.02 mm."""
    side = int(points**0.5)
    x, y = np.meshgrid(0.02 * np.arange(side), 0.02 * np.arange(side))
    return np.column_stack([x.ravel(), y.ravel(), (0.5 * np.sin(x / 5) + 0.01 * y).ravel()])


def test_read_a_cloud_of_20_million_points(beside, tmp_path):
    points = cloud(POINTS).astype(np.float32)
    held = points.view([("x", "f4"), ("y", "f4"), ("z", "f4")]).ravel()
    plyfile.PlyData([plyfile.PlyElement.describe(held, "vertex")]).write(str(tmp_path / "big.ply"))
    digest = lambda: hashlib.md5(points).digest()  # noqa: E731
    beside(lambda: load_scan(tmp_path / "big.ply", unit="mm"), digest, "md5 of the points", rounds=3)


def test_read_a_text_of_5_million_points(beside, tmp_path):
    np.savetxt(tmp_path / "big.xyz", cloud(LINES), fmt="%.4f")
    raw = (tmp_path / "big.xyz").read_bytes()
    beside(
        lambda: load_scan(tmp_path / "big.xyz"), lambda: hashlib.md5(raw).digest(), "md5 of the text", rounds=3
    )


@pytest.fixture(scope="module")
def lot(tmp_path_factory):
    """A lot of 100 000 parts of 24 values."""
    records = Records(str(many_parts(tmp_path_factory.mktemp("records") / "r.db", PARTS, lots=1)))
    yield records
    records.close()


@pytest.mark.parametrize("ending", ["parquet", "xlsx", "values.csv"])
def test_export_100_000_parts(beside, lot, tmp_path, ending):
    beside(lambda: export(lot, tmp_path / f"out.{ending}"), rounds=1)
