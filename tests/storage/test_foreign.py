"""Scans of other programs: written by their own libraries, read as the surface they show, refused in words."""

import json
import random
import struct
import warnings
from contextlib import suppress

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from hemtra import FileError, HeightMap, Scan, load_scan, save_scan
from hemtra.core.maps.gridding import gridded, levelled, spacing_of
from hemtra.core.maps.importing import Unstated
from hemtra.storage.foreign.mesh import load_mesh
from hemtra.storage.scans import FOREIGN, ImportSettings, keep_settings
from makers import mutated

DX, DY = 0.12, 0.2
ROWS, COLS = 40, 60
X, Y = np.meshgrid(DX * np.arange(COLS), DY * np.arange(ROWS))
Z = 1.0 + 0.05 * X - 0.03 * Y + np.where((X - 3.0) ** 2 + (Y - 4.0) ** 2 < 4.0, 1.5, 0.0)
"""mm: a tilted plate with a round boss."""
POINTS = np.column_stack([X.ravel(), Y.ravel(), Z.ravel()])
TICKS = np.round(Z / 0.001).astype(np.int64)
"""The same in steps of a micrometre."""


def shows(scan, atol=1e-6):
    """Whether a scan is the surface, on its grid."""
    grid = scan.data.grid
    np.testing.assert_allclose(scan.data.z, Z, atol=atol)
    assert (grid.dx, grid.dy) == pytest.approx((DX, DY), rel=1e-4)


# -- images ---------------------------------------------------------------------------------------

STEPS = {"dx": DX, "dy": DY, "unit": "um"}


@pytest.mark.parametrize("how", [{}, {"compression": "lzw"}, {"compression": "zstd", "predictor": True}])
@pytest.mark.parametrize("kind", [np.uint16, np.int32])
def test_a_tiff_of_whole_numbers_is_read_with_its_scale(tmp_path, kind, how):
    path = tmp_path / "part.tif"
    tifffile.imwrite(path, TICKS.astype(kind), **how)
    shows(load_scan(path, **STEPS, scale=1.0), atol=5e-4)
    with pytest.raises(Unstated) as missing:
        load_scan(path)
    assert missing.value.missing == ("dx", "dy", "scale")
    assert "hemtra convert part.tif scan.x3p --dx 0.1 --dy 0.1 --scale 0.001" in str(missing.value)


def test_what_stands_for_no_height_is_none(tmp_path):
    path = tmp_path / "part.tif"
    held = Z.astype(np.float32)
    held[3:6, 7] = -9999.0
    tag = (42113, "s", 6, "-9999\0", True)
    tifffile.imwrite(path, held, resolution=(10 / DX, 10 / DY), resolutionunit="CENTIMETER", extratags=[tag])
    missing = np.isnan(load_scan(path).data.z)
    assert missing.sum() == 3
    assert missing[3:6, 7].all()
    tifffile.imwrite(path, np.where(held < -9000, 0, TICKS).astype(np.uint16))
    assert np.isnan(load_scan(path, **STEPS, scale=1.0, no_data=0).data.z).sum() == 3


def test_of_several_pages_one_must_be_named(tmp_path):
    path = tmp_path / "stack.tif"
    with tifffile.TiffWriter(path) as file:
        for k in range(3):
            file.write((Z + k).astype(np.float32))
    with pytest.raises(FileError, match=r"3 pages; say which of them holds the heights \(--page 1\)"):
        load_scan(path, dx=DX, dy=DY)
    np.testing.assert_allclose(load_scan(path, dx=DX, dy=DY, page=2).data.z, Z + 1.0, atol=1e-6)
    with pytest.raises(FileError, match="no page 4"):
        load_scan(path, dx=DX, dy=DY, page=4)


def test_a_png_has_its_spacing_from_its_pixels_a_metre(tmp_path):
    path = tmp_path / "part.png"
    Image.fromarray(TICKS.astype(np.uint16)).save(path, dpi=(25.4 / DX, 25.4 / DY))
    shows(load_scan(path, unit="um", scale=1.0), atol=5e-4)
    Image.fromarray(np.zeros((4, 5, 3), np.uint8)).save(path)
    with pytest.raises(FileError, match="colour or palette image"):
        load_scan(path, dx=1, dy=1, scale=1)


def test_arrays_of_numpy_are_images_or_clouds(tmp_path):
    path = tmp_path / "part.npy"
    np.save(path, Z)
    shows(load_scan(path, dx=DX, dy=DY))
    np.save(path, POINTS)
    shows(load_scan(path))
    np.savez(tmp_path / "part.npz", heights=Z, dx=DX, dy=DY)
    shows(load_scan(tmp_path / "part.npz"))
    np.save(path, np.array([{"z": 1}], dtype=object), allow_pickle=True)
    with pytest.raises(FileError, match="damaged or no NumPy file"):
        load_scan(path)


def test_the_first_row_may_be_the_last_profile(tmp_path):
    path = tmp_path / "grid.asc"
    head = f"ncols {COLS}\nnrows {ROWS}\nxllcorner 0\nyllcorner 0\ncellsize {DX}\nNODATA_value -9999\n"
    held = np.where((X < 0.5) & (Y < 0.5), -9999.0, Z)
    path.write_text(head + "\n".join(" ".join(f"{v:.7f}" for v in row) for row in held[::-1]))
    scan = load_scan(path)
    assert (scan.data.grid.dx, scan.data.grid.dy) == (DX, DX)
    np.testing.assert_allclose(scan.data.z, np.where(held == -9999.0, np.nan, held), atol=1e-6)


@pytest.mark.parametrize(("factor", "unit"), [(1e3, "um"), (1e-3, "m"), (1 / 25.4, "in")])
def test_heights_that_are_no_millimetres_are_not_taken_for_such(tmp_path, factor, unit):
    path = tmp_path / "part.npy"
    np.save(path, factor * Z)
    shows(load_scan(path, dx=DX, dy=DY, unit=unit), atol=1e-5)
    if unit != "in":  # of which a part could be some millimetres high
        with pytest.raises(FileError, match="does not say its unit"):
            load_scan(path, dx=DX, dy=DY)


# -- clouds ---------------------------------------------------------------------------------------


def ply(path, text):
    plyfile = pytest.importorskip("plyfile")
    held = np.array([tuple(p) for p in POINTS], [("x", "f4"), ("y", "f4"), ("z", "f4")])
    plyfile.PlyData([plyfile.PlyElement.describe(held, "vertex")], text=text).write(str(path))


def pcd(path, how):
    head = "# .PCD v0.7\nVERSION 0.7\nFIELDS x y z rgb\nSIZE 4 4 4 4\nTYPE F F F F\nCOUNT 1 1 1 1\n"
    head += f"WIDTH {len(POINTS)}\nHEIGHT 1\nVIEWPOINT 0 0 0 1 0 0 0\nPOINTS {len(POINTS)}\nDATA {how}\n"
    four = np.column_stack([POINTS, np.zeros(len(POINTS))])
    body = (
        four.astype("<f4").tobytes()
        if how == "binary"
        else "\n".join(" ".join(map(repr, p)) for p in four.tolist())
    )
    path.write_bytes(head.encode() + (body if isinstance(body, bytes) else body.encode()))


def las(path):
    laspy = pytest.importorskip("laspy")
    header = laspy.LasHeader(point_format=0, version="1.2")
    header.scales = [1e-6] * 3
    held = laspy.LasData(header)
    held.x, held.y, held.z = POINTS.T
    held.write(str(path))


def e57(path):
    pye57 = pytest.importorskip("pye57")
    with pye57.E57(str(path), mode="w") as file:
        file.write_scan_raw({f"cartesian{a}": c / 1000.0 for a, c in zip("XYZ", POINTS.T, strict=True)})


def text(path, mark, point, head=""):
    lines = [mark.join(f"{v:.6f}".replace(".", point) for v in p) for p in POINTS]
    path.write_text(head + "\n".join(lines) + "\n")


CLOUDS = {
    "ply": ("a.ply", lambda path: ply(path, text=False)),
    "ply as text": ("a.ply", lambda path: ply(path, text=True)),
    "pcd": ("a.pcd", lambda path: pcd(path, "binary")),
    "pcd as text": ("a.pcd", lambda path: pcd(path, "ascii")),
    "las": ("a.las", las),
    "e57": ("a.e57", e57),
    "spaces": ("a.xyz", lambda path: text(path, " ", ".", "# made by a scanner\n")),
    "commas": ("a.csv", lambda path: text(path, ",", ".", "x,y,z\n")),
    "commas and spaces": ("a.csv", lambda path: text(path, ", ", ".")),
    "semicolons and decimal commas": ("a.csv", lambda path: text(path, ";", ",", "X;Y;Z\n")),
    "tabs and decimal commas": ("a.txt", lambda path: text(path, "\t", ",")),
}


@pytest.mark.parametrize("name", CLOUDS)
def test_a_cloud_is_laid_on_its_own_grid(tmp_path, name):
    file, write = CLOUDS[name]
    write(tmp_path / file)
    shows(load_scan(tmp_path / file), atol=2e-6)


def test_the_order_of_points_does_not_count_and_missing_ones_are_missing(tmp_path):
    rng = np.random.default_rng(1)
    kept = rng.permutation(len(POINTS))[: len(POINTS) - 200]
    np.save(tmp_path / "part.npy", POINTS[kept])
    z = load_scan(tmp_path / "part.npy").data.z
    expected = np.full(Z.size, np.nan)
    expected[kept] = Z.ravel()[kept]
    np.testing.assert_allclose(z, expected.reshape(Z.shape), atol=1e-6)


@given(st.lists(st.floats(-5, 5, width=32), min_size=1, max_size=9))
def test_a_cell_takes_the_mean_the_highest_or_the_median(heights):
    points = np.array([[0.0, 0.0, h] for h in heights] + [[3.0, 2.0, 7.0]])
    for take, expected in (("mean", np.mean), ("highest", np.max), ("median", np.median)):
        z, grey, x0, y0 = gridded(points, None, (1.0, 1.0), take, 100)
        assert z.shape == (3, 4)
        assert float(z[0, 0]) == pytest.approx(float(expected(heights)), abs=1e-6)
        assert (float(z[2, 3]), np.isnan(z).sum(), grey, x0, y0) == (7.0, 10, None, 0.0, 0.0)


@pytest.mark.parametrize("take", ["mean", "median", "highest"])
@pytest.mark.parametrize("strewn", [False, True])
def test_a_dense_cloud_ends_where_it_ends(take, strewn):
    """On cells larger than its spacing a plate would grow by half of one all around, and a hole shrink."""
    rng = np.random.default_rng(3)
    places = np.stack(np.meshgrid(*2 * [np.arange(-8.0, 8.0, 0.025)]), axis=-1).reshape(-1, 2)
    if strewn:
        places = rng.uniform(-8.0, 8.0, places.shape)
    c, s = np.cos(0.05), np.sin(0.05)
    u, v = c * places[:, 0] + s * places[:, 1], c * places[:, 1] - s * places[:, 0]
    on = (np.maximum(np.abs(u), np.abs(v)) < 5.0) & (np.hypot(u, v) > 2.0)
    points = np.column_stack([places[on], np.full(on.sum(), 3.0)])
    z, *_ = gridded(points, None, (0.1, 0.1), take, 10**6)
    assert np.count_nonzero(~np.isnan(z)) * 0.01 == pytest.approx(100.0 - 4.0 * np.pi, rel=0.005)


def test_points_strewn_at_random_get_a_spacing_that_fills_the_grid():
    rng = np.random.default_rng(2)
    places = rng.uniform(0.0, 20.0, (40_000, 2))
    dx, dy = spacing_of(places)
    assert dx == dy == pytest.approx(0.1, rel=0.1)
    with pytest.raises(FileError, match="too many"):
        raise FileError(_too_fine(places))


def _too_fine(places):
    try:
        gridded(np.column_stack([places, places[:, 0]]), None, (1e-6, 1e-6), "mean", 10_000)
    except Exception as error:
        return str(error)
    return ""


@settings(max_examples=15, deadline=None)
@given(st.floats(-20, 20), st.floats(-20, 20))
def test_a_tilted_cloud_is_levelled_about_its_main_plane(tilt_x, tilt_y):
    rng = np.random.default_rng(3)
    flat = np.column_stack([rng.uniform(-10, 10, (4000, 2)), rng.normal(0.0, 0.002, 4000)])
    flat[:800, 2] += 2.0  # a fifth stands out of it
    a, b = np.radians([tilt_x, tilt_y])
    turn = np.array([[np.cos(b), 0, np.sin(b)], [0, 1, 0], [-np.sin(b), 0, np.cos(b)]])
    turn = turn @ np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]])
    z = levelled(flat @ turn.T + (5.0, -3.0, 40.0))[:, 2]
    assert np.median(z[800:]) == pytest.approx(0.0, abs=2e-4)
    assert np.ptp(z[800:]) < 0.03
    assert np.median(z[:800]) == pytest.approx(2.0, abs=1e-3)


# -- what is said of a file -----------------------------------------------------------------------


def test_what_is_said_in_a_call_goes_before_what_lies_beside_and_that_before_the_file(tmp_path):
    path = tmp_path / "part.npz"
    np.savez(path, data=Z, dx=0.5, dy=0.6)
    grids = [load_scan(path).data.grid]
    keep_settings(path, ImportSettings(dx=0.7, offset=2.0))
    grids.append(load_scan(path).data.grid)
    assert float(load_scan(path).data.z[0, 0]) == pytest.approx(Z[0, 0] + 2.0)
    grids.append(load_scan(path, dx=0.9).data.grid)
    assert [(g.dx, g.dy) for g in grids] == [(0.5, 0.6), (0.7, 0.6), (0.9, 0.6)]
    beside = tmp_path / "part.npz.import.json"
    beside.write_text(json.dumps({"dx": -1}))
    with pytest.raises(FileError, match="does not hold, at dx"):
        load_scan(path)
    beside.unlink()
    for wrong, words in (({"unit": "furlong"}, "at unit"), ({"scale": 0.0}, "would make every part flat")):
        with pytest.raises(FileError, match=words):
            load_scan(path, **wrong)
    save_scan(Scan(HeightMap(Z, None, DX, DY)), tmp_path / "ours.x3p")
    with pytest.raises(FileError, match="says its heights and grid itself; leave out dx, unit"):
        load_scan(tmp_path / "ours.x3p", dx=0.3, unit="um")


@pytest.mark.parametrize("suffix", [".npz", ".ply", ".csv"])
def test_what_is_written_is_read_again(tmp_path, suffix):
    grey = (X * 20).astype(np.uint8)
    z = np.where(X > 6.5, np.nan, Z)
    scan = Scan(HeightMap(z, grey, DX, DY, 0.0, 0.0), "part", "S1")
    save_scan(scan, tmp_path / f"part{suffix}")
    again = load_scan(tmp_path / f"part{suffix}")
    wide = int(np.flatnonzero(~np.isnan(z[0]))[-1]) + 1
    np.testing.assert_allclose(again.data.z[:, :wide], z[:, :wide], atol=1e-6)
    np.testing.assert_array_equal(again.data.intensity[:, :wide], grey[:, :wide])
    assert (again.data.grid.dx, again.data.grid.dy) == pytest.approx((DX, DY))
    with pytest.raises(FileError, match=r"Scans are not saved as \.png"):
        save_scan(scan, tmp_path / "part.png")


# -- hostile files --------------------------------------------------------------------------------


def images(path):
    if path.suffix == ".png":
        Image.fromarray(TICKS[:9, :9].astype(np.uint16)).save(path)
    elif path.suffix == ".npy":
        np.save(path, Z[:9, :9])
    else:
        np.savez(path, z=Z[:9, :9])


SOURCES = {
    **{name: CLOUDS[name] for name in ("ply", "pcd", "las", "commas", "pcd as text")},
    **{suffix: (f"a{suffix}", images) for suffix in (".png", ".npy", ".npz")},
}


@pytest.mark.parametrize("name", SOURCES)
def test_a_damaged_file_is_refused_in_a_sentence(tmp_path, monkeypatch, name):
    monkeypatch.setattr("test_foreign.POINTS", POINTS[:50])
    file, write = SOURCES[name]
    path = tmp_path / file
    write(path)
    raw, rng = path.read_bytes(), random.Random(name)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of a height that is beyond what 32 bits hold
        for _ in range(250):
            path.write_bytes(mutated(raw, rng))
            with suppress(FileError):
                load_scan(path, dx=0.1, dy=0.1, unit="mm", scale=1.0)


def test_sizes_are_looked_at_before_memory_is_taken(tmp_path):
    path = tmp_path / "huge.npy"
    head = "{'descr': '<f8', 'fortran_order': False, 'shape': (900000000, 900000), }"
    head += " " * (-(len(head) + 11) % 64) + "\n"
    path.write_bytes(b"\x93NUMPY\x01\x00" + struct.pack("<H", len(head)) + head.encode())
    with pytest.raises(FileError, match="damaged"):
        load_scan(path)
    cloud = np.array([[0.0, 0.0, 0.0], [1e9, 1e9, 1.0]])
    np.save(tmp_path / "absurd.npy", np.vstack([cloud * 1e290, POINTS]))
    with pytest.raises(FileError, match="too many") as absurd:
        load_scan(tmp_path / "absurd.npy", dx=DX, dy=DY, unit="mm")
    assert len(str(absurd.value)) < 300, "numbers of hundreds of digits tell nobody anything"
    np.save(tmp_path / "far.npy", np.vstack([cloud, POINTS]))
    with pytest.raises(FileError, match="too many"):
        load_scan(tmp_path / "far.npy", dx=DX, dy=DY, unit="mm")


def test_a_library_that_is_missing_is_named(tmp_path, monkeypatch):
    ply(tmp_path / "a.ply", text=False)
    monkeypatch.setitem(__import__("sys").modules, "plyfile", None)
    with pytest.raises(FileError, match=r"PLY files need the package plyfile; install it with: pip install"):
        load_scan(tmp_path / "a.ply")
    assert ".ply" in FOREIGN


def test_what_is_said_of_a_folder_holds_for_files_of_its_kind_alone(tmp_path):
    """What pictures do not say must not change what an array says itself."""
    path = tmp_path / "one.png"
    Image.fromarray(TICKS.astype(np.uint16)).save(path)
    keep_settings(path, ImportSettings(**STEPS, scale=1.0), of_folder=True)
    shows(load_scan(path), atol=5e-4)
    np.savez(tmp_path / "two.npz", data=Z, dx=0.5, dy=0.6)
    grid = load_scan(tmp_path / "two.npz").data.grid
    assert (grid.dx, grid.dy) == (0.5, 0.6)
    keep_settings(tmp_path / "two.npz", ImportSettings(dx=0.7), of_folder=True)
    shows(load_scan(path), atol=5e-4)
    assert load_scan(tmp_path / "two.npz").data.grid.dx == 0.7
    for content in ("no json", "[1]"):
        (tmp_path / "folder.import.json").write_text(content)
        with pytest.raises(FileError, match=r"folder\.import\.json is damaged"):
            load_scan(path)


@pytest.mark.parametrize("form", ["stl", "stl_ascii", "ply"])
def test_meshes_of_another_library_are_read_in_their_unit(tmp_path, form):
    trimesh = pytest.importorskip("trimesh")
    box = trimesh.creation.box((2.0, 3.0, 4.0))
    path = tmp_path / f"box.{form[:3]}"
    made = box.export(file_type=form)
    path.write_bytes(made if isinstance(made, bytes) else made.encode())
    low, high = load_mesh(path).box
    assert high - low == pytest.approx((2.0, 3.0, 4.0))
    low, high = load_mesh(path, "in").box
    assert high - low == pytest.approx((50.8, 76.2, 101.6), rel=1e-6)
    with pytest.raises(FileError, match="no unit of length"):
        load_mesh(path, "parsec")


def test_damaged_meshes_are_a_sentence(tmp_path):
    trimesh = pytest.importorskip("trimesh")
    box = trimesh.creation.box((2.0, 3.0, 4.0))
    rng = np.random.default_rng(4)
    for form in ("stl", "ply"):
        whole = bytes(box.export(file_type=form))
        path = tmp_path / f"box.{form}"
        for k in range(250):
            raw = bytearray(whole[: rng.integers(0, len(whole) + 1)] if k % 2 else whole)
            for at in rng.integers(0, max(len(raw), 1), 4):
                if raw:
                    raw[at] = rng.integers(256)
            path.write_bytes(raw)
            with suppress(FileError):
                load_mesh(path)
    (tmp_path / "box.obj").write_text("v 0 0 0")
    with pytest.raises(FileError, match=r"is no mesh; it ends in \.stl or \.ply"):
        load_mesh(tmp_path / "box.obj")
