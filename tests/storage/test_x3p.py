"""X3P files: what goes in comes out, and nothing damaged or hostile comes in."""

import hashlib
import io
import re
import zipfile
from contextlib import suppress

import numpy as np
import pytest
import x3pio
from hypothesis import example, given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from examples import examples
from hemtra import FileError, HeightMap, Scan, load_scan, save_scan
from hemtra.core.maps.float_residue import restore_places
from hemtra.core.text import plain

heights = hnp.arrays(
    np.float32,
    hnp.array_shapes(min_dims=2, max_dims=2, max_side=12),
    elements=st.floats(-500, 500, width=32) | st.just(float("nan")),
)
pitch = st.floats(1e-4, 10)


@settings(max_examples=examples(40))
@given(heights, pitch, pitch, st.floats(-1e3, 1e3), st.booleans())
def test_a_scan_comes_back(tmp_path_factory, z, dx, dy, x0, with_intensity):
    path = tmp_path_factory.mktemp("x3p") / "part.x3p"
    grey = np.random.default_rng(1).integers(0, 256, z.shape, np.uint8) if with_intensity else None
    station = {"name": "bench <A> & more", "sensor": {"model": "Sim 130"}}
    save_scan(Scan(HeightMap(z, grey, dx, dy, x0, -x0), "n", "S&1", "2026-01-12T08:00:00+00:00", station), path)
    again = load_scan(path)
    # to the last bit, so that what is measured is the same; sizes that no one can measure apart
    np.testing.assert_array_equal(np.where(abs(z) < 1e-30, 0, again.data.z), np.where(abs(z) < 1e-30, 0, z))
    assert again.data.grid == HeightMap(z, grey, dx, dy, x0, -x0).grid
    assert (again.serial, again.taken, again.station) == ("S&1", "2026-01-12T08:00:00+00:00", station)
    if grey is None:
        assert again.data.intensity is None
    else:
        assert np.array_equal(again.data.intensity, grey)


@pytest.fixture
def whole(tmp_path):
    """A small sound file, as bytes."""
    path = tmp_path / "whole.x3p"
    z = np.linspace(0, 1, 48).reshape(6, 8)
    save_scan(Scan(HeightMap(z, np.full(z.shape, 7), dx=0.1, dy=0.2)), path)
    return path.read_bytes()


def repacked(content: bytes, change=None, add=None) -> bytes:
    """The zip with entries changed by `change(name, bytes) -> bytes | None`, md5 of main.xml kept right."""
    entries = {}
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        for name in archive.namelist():
            data = archive.read(name)
            entries[name] = change(name, data) if change else data
    if entries.get("main.xml") and entries.get("md5checksum.hex"):
        entries["md5checksum.hex"] = (hashlib.md5(entries["main.xml"]).hexdigest() + " *main.xml").encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in {**entries, **(add or {})}.items():
            if data is not None:
                archive.writestr(name, data)
    return out.getvalue()


def refused(tmp_path, content: bytes) -> str:
    path = tmp_path / "bad.x3p"
    path.write_bytes(content)
    with pytest.raises(FileError) as caught:
        load_scan(path)
    message = str(caught.value)
    assert message.startswith("bad.x3p")
    assert message.count(".x3p") == 1, "one sentence, one name"
    return message


def in_main(old: str, new: str):
    def change(name, data):
        if name != "main.xml":
            return data
        assert old in data.decode()
        return data.decode().replace(old, new).encode()

    return change


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (in_main("<SizeX>8<", "<SizeX>9<"), "declares 9 × 6 points and holds data for 48"),
        (in_main("<SizeX>8<", "<SizeX>99999999<"), "at most"),
        (in_main("<SizeX>8<", "<SizeX>-8<"), "-8 × 6"),
        (in_main("<SizeX>8<", "<SizeX>many<"), "cannot be used"),
        (in_main("<SizeZ>1<", "<SizeZ>2<"), "several layers"),
        (in_main("<Increment>0.0001<", "<Increment>nan<"), "nan"),
        (in_main("<AxisType>I<", "<AxisType>A<"), "declares 8 × 6 points and holds data for"),
        (in_main("<AxisType>I<", "<AxisType>B<"), "X axis is of the unknown kind “B D”"),
        (in_main("<DataType>F<", "<DataType>Q<"), "unknown type “Q”"),
        (in_main("<Record3>", "<Record33>"), "main.xml cannot be read"),
        (in_main("<Record1>", '<!DOCTYPE a [<!ENTITY b "c">]><Record1>'), "entities"),
        (lambda n, d: d[:-4] + b"oops" if n == "bindata/data.bin" else d, "md5 of bindata/data.bin"),
        (lambda n, d: d[:-1] if n == "vendor/hemtra/intensity.bin" else d, "intensity and heights differ"),
        (lambda n, d: b"\0" * 48 if n == "vendor/hemtra/intensity.bin" else d, "md5 of vendor"),
        (lambda n, d: b"[]" if n == "vendor/hemtra/scan.json" else d, "scan.json"),
        (lambda n, d: None if n == "bindata/data.bin" else d, "data.bin is missing"),
        (lambda n, d: None if n == "main.xml" else d, "main.xml is missing"),
    ],
)
def test_what_does_not_fit_together_is_refused_in_words(tmp_path, whole, change, message):
    assert message in refused(tmp_path, repacked(whole, change))


def test_changed_description_is_found_by_its_md5(tmp_path, whole):
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    entries["main.xml"] = entries["main.xml"].replace(b"<SizeX>8", b"<SizeX>6")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    assert "md5 of main.xml" in refused(tmp_path, out.getvalue())


@settings(max_examples=examples(60))
@given(st.data())
def test_cut_or_flipped_anywhere_never_more_than_an_error(tmp_path_factory, data):
    folder = tmp_path_factory.mktemp("cut")
    path = folder / "part.x3p"
    save_scan(Scan(HeightMap(np.ones((5, 5)))), path)
    raw = bytearray(path.read_bytes())
    at = data.draw(st.integers(0, len(raw) - 1))
    if data.draw(st.booleans()):
        del raw[at:]
    else:
        raw[at] ^= data.draw(st.integers(1, 255))
    path.write_bytes(raw)
    with suppress(FileError):
        z = load_scan(path).data.z
        assert np.array_equal(z, np.ones((5, 5), np.float32)), "what is read is what was written"


def test_paths_that_lead_out_are_refused(tmp_path, whole):
    for name in ("../../evil.bin", "/etc/evil", "a/../../b", "..\\evil"):
        assert "leads out" in refused(tmp_path, repacked(whole, add={name: b"x"}))


def test_a_bomb_is_refused_by_its_claim(tmp_path, whole):
    bomb = io.BytesIO(whole)
    with (
        zipfile.ZipFile(bomb, "a", zipfile.ZIP_DEFLATED) as archive,
        archive.open("big", "w", force_zip64=True) as big,
    ):
        for _ in range(64):
            big.write(bytes(1 << 20))
    raw = bomb.getvalue()
    # the directory claims 64 MiB for "big"; let it claim 8 GiB and more
    claimed = raw.replace((64 << 20).to_bytes(8, "little"), (9 << 30).to_bytes(8, "little"))
    claimed = claimed.replace((64 << 20).to_bytes(4, "little"), (0xFFFFFFF0).to_bytes(4, "little"))
    message = refused(tmp_path, claimed)
    assert "unpack to" in message or "impossible size" in message
    many = repacked(whole, add={f"entry-{k}": b"" for k in range(300)})
    assert "entries" in refused(tmp_path, many)


def foreign(z_type: str, raw: bytes, *, mask: bytes | None = None, increment="1e-7", **more: str) -> bytes:
    """A file as another program may write it: whole numbers, a list of valid points, another prefix."""
    link = "<ValidPointsLink>bindata/valid.bin</ValidPointsLink>" if mask else ""
    link += more.get("links", "")
    main = f"""<?xml version="1.0"?><q:ISO5436_2 xmlns:q="http://www.opengps.eu/2008/ISO5436_2"><Record1>
<Revision>ISO5436 - 2000</Revision><FeatureType>SUR</FeatureType><Axes>
<CX><AxisType>I</AxisType><DataType>L</DataType><Increment>2e-4</Increment><Offset>0</Offset></CX>
<CY><AxisType>I</AxisType><DataType>L</DataType><Increment>3e-4</Increment></CY>
<CZ><AxisType>A</AxisType><DataType>{z_type}</DataType><Increment>{increment}</Increment><Offset>0.001</Offset></CZ>
{more.get("axes", "")}</Axes></Record1><Record3>
<MatrixDimension><SizeX>3</SizeX><SizeY>2</SizeY><SizeZ>1</SizeZ></MatrixDimension>
<DataLink><PointDataLink>bindata/data.bin</PointDataLink>
<MD5ChecksumPointData>{hashlib.md5(raw).hexdigest()}</MD5ChecksumPointData>{link}</DataLink></Record3></q:ISO5436_2>"""
    for name in ("CX", "CY"):
        if name in more:
            main = re.sub(f"<{name}>.*</{name}>", more[name], main)
    if "listed" in more:
        main = re.sub("(?s)<DataLink>.*</DataLink>", more["listed"], main)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("main.xml", main)
        archive.writestr("bindata/data.bin", raw)
        if mask:
            archive.writestr("bindata/valid.bin", mask)
    return out.getvalue()


@pytest.mark.parametrize(("z_type", "dtype"), [("I", "<i2"), ("L", "<i4")])
def test_whole_number_heights_of_others_are_scaled(tmp_path, z_type, dtype):
    raw = np.array([0, 10, -20, 30, 40, 50], dtype)
    path = tmp_path / "other.x3p"
    path.write_bytes(foreign(z_type, raw.tobytes(), mask=bytes([0b00110111])))
    data = load_scan(path).data
    expected = np.array([[1.0, 1.001, 0.998], [np.nan, 1.004, 1.005]])
    assert data.z == pytest.approx(expected, abs=1e-6, nan_ok=True)
    assert (data.grid.dx, data.grid.dy) == pytest.approx((0.2, 0.3))


@pytest.mark.parametrize(("z_type", "dtype"), [("F", "<f4"), ("D", "<f8")])
def test_floating_heights_are_metres_from_the_offset_on(tmp_path, z_type, dtype):
    path = tmp_path / "other.x3p"
    path.write_bytes(foreign(z_type, np.full(6, 0.0025, dtype).tobytes(), increment="5"))
    assert load_scan(path).data.z == pytest.approx(np.full((2, 3), 3.5))


def test_heights_may_stand_in_the_head_itself(tmp_path):
    path = tmp_path / "other.x3p"
    held = ["0.001", "0.002", "", "0.004", "0.005", "0.006"]
    listed = f"<DataList>{''.join(f'<Datum>{one}</Datum>' for one in held)}</DataList>"
    path.write_bytes(foreign("D", b"", listed=listed))
    expected = np.array([[2.0, 3.0, np.nan], [5.0, 6.0, 7.0]])
    assert load_scan(path).data.z == pytest.approx(expected, nan_ok=True)
    path.write_bytes(foreign("D", b"", listed=listed.replace("<Datum></Datum>", "")))
    with pytest.raises(FileError, match="declares 3 × 2 points and lists 5"):
        load_scan(path)


def absolute(name, kind="D"):
    """An axis whose coordinates stand with the points, from 1 mm on."""
    return f"<{name}><AxisType>A</AxisType><DataType>{kind}</DataType><Offset>0.001</Offset></{name}>"


def test_points_with_coordinates_of_their_own_are_a_cloud(tmp_path):
    path = tmp_path / "other.x3p"
    y, x = np.mgrid[0:2, 0:3]
    raw = np.empty(6, [("x", "<f8"), ("y", "<f8"), ("z", "<f8")])
    raw["x"], raw["y"], raw["z"] = x.ravel() * 2e-4, y.ravel() * 3e-4, 1e-3 * np.arange(6)
    shuffled = raw[[3, 1, 5, 0, 4, 2]]
    axes = {name: absolute(name) for name in ("CX", "CY")}
    path.write_bytes(foreign("D", shuffled.tobytes(), **axes))
    scan = load_scan(path)
    assert (scan.data.grid.dx, scan.data.grid.dy, scan.data.grid.x0) == pytest.approx((0.2, 0.3, 1.0))
    assert scan.data.z == pytest.approx(1.0 + np.arange(6.0).reshape(2, 3))


def test_turned_axes_turn_the_points(tmp_path):
    """A quarter turn about z: what lay along x lies along y."""
    path = tmp_path / "other.x3p"
    turned = "<Rotation><r11>0</r11><r12>-1</r12><r21>1</r21><r22>0</r22><r33>1</r33></Rotation>"
    raw = 1e-3 * np.arange(6.0)
    path.write_bytes(foreign("D", raw.astype("<f8").tobytes(), axes=turned))
    scan = load_scan(path)
    assert scan.data.z == pytest.approx(1.0 + np.array([[3.0, 0.0], [4.0, 1.0], [5.0, 2.0]]))
    same = "<Rotation><r11>1</r11><r22>1</r22><r33>1</r33></Rotation>"
    path.write_bytes(foreign("D", raw.astype("<f8").tobytes(), axes=same))
    assert load_scan(path).data.z == pytest.approx(1.0 + raw.reshape(2, 3) * 1e3)


def test_checksums_are_checked_where_there_are_any(tmp_path):
    path = tmp_path / "other.x3p"
    raw, mask = np.zeros(6, "<i4").tobytes(), bytes([0b00111111])
    for declared, ok in ((hashlib.md5(mask).hexdigest(), True), ("0" * 32, False), ("", True)):
        links = f"<MD5ChecksumValidPoints>{declared}</MD5ChecksumValidPoints>"
        path.write_bytes(foreign("L", raw, mask=mask, links=links))
        if ok:
            assert load_scan(path).data.data_share == 1.0
        else:
            with pytest.raises(FileError, match=r"the md5 of bindata/valid\.bin is wrong"):
                load_scan(path)
    whole = foreign("L", raw)
    changed = repacked(whole, in_main(hashlib.md5(raw).hexdigest(), ""))
    path.write_bytes(changed)
    assert load_scan(path).data.data_share == 1.0


def rewritten(path, **changed):
    """The same file with some of its records replaced, or taken out."""
    with zipfile.ZipFile(path) as archive:
        held = {name: archive.read(name) for name in archive.namelist()}
    held |= changed
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in held.items():
            if content is not None:
                archive.writestr(name, content)


def test_last_places_are_checked_and_may_be_missing(tmp_path):
    rng = np.random.default_rng(2)
    scan = Scan(HeightMap(rng.uniform(-5, 5, (300, 1200)).astype(np.float32), dx=0.1, dy=0.2))
    name = "vendor/hemtra/last-places.bin"
    save_scan(scan, tmp_path / "a.x3p")
    places = zipfile.ZipFile(tmp_path / "a.x3p").read(name)
    np.testing.assert_array_equal(load_scan(tmp_path / "a.x3p").data.z, scan.data.z)
    rewritten(tmp_path / "a.x3p", **{name: places[:-1]})
    with pytest.raises(FileError, match="last places and heights differ"):
        load_scan(tmp_path / "a.x3p")
    rewritten(tmp_path / "a.x3p", **{name: bytes(len(places))})
    with pytest.raises(FileError, match=r"md5 of vendor/hemtra/last-places\.bin is wrong"):
        load_scan(tmp_path / "a.x3p")
    rewritten(tmp_path / "a.x3p", **{name: None})
    # as others write it
    np.testing.assert_allclose(load_scan(tmp_path / "a.x3p").data.z, scan.data.z, rtol=1.3e-7)


@given(hnp.arrays(np.uint8, 5), hnp.arrays(np.int32, 18))
def test_no_last_place_makes_a_number_of_none(packed, patterns):
    before = patterns.view(np.float32).copy()
    restore_places(patterns, packed)
    after, numbers = patterns.view(np.float32), np.isfinite(before)
    np.testing.assert_array_equal(patterns[~numbers], before.view(np.int32)[~numbers])
    numbers &= np.isfinite(after)
    assert (abs(after[numbers] - before[numbers].astype(np.float64)) <= np.spacing(abs(before[numbers]))).all()


@settings(max_examples=examples(60), deadline=None)
@given(serial=st.text(st.characters(codec=None), max_size=200), name=st.text(max_size=20))
@example(serial="]d2\x1d0104\ud800", name="\x00")
@example(serial="x" * 100_000, name="")
def test_any_serial_can_be_kept_and_read_again(tmp_path_factory, serial, name):
    path = tmp_path_factory.getbasetemp() / "serial.x3p"
    scan = Scan(HeightMap(np.zeros((3, 4), np.float32), dx=0.1, dy=0.1), name, serial)
    save_scan(scan, path)
    assert load_scan(path).serial == scan.serial
    assert len(scan.serial) <= 120
    if serial.isprintable() and len(serial) <= 120:
        assert scan.serial == serial


def test_a_separator_in_a_code_stays_to_be_seen():
    assert plain("01\x1d21A\x7f\x85\ud800") == "01␝21A␡\ufffd\ufffd"
    assert plain("a\ue55f\u202eb\xa0c") == "a\ufffd\ufffdb c", (
        "private places, marks that turn text, odd spaces"
    )


def scattered_heights():
    z = np.random.default_rng(4).uniform(-3.0, 9.0, (14, 23)).astype(np.float32)
    z[3, 4] = z[10:12, 5:9] = z[0] = np.nan
    return z


def test_an_independent_reader_of_the_standard_finds_the_same_scan(tmp_path):
    z = scattered_heights()
    grey = np.full(z.shape, 7, np.uint8)
    save_scan(Scan(HeightMap(z, grey, dx=0.05, dy=0.07, x0=-1.5, y0=2.0), serial="A1"), tmp_path / "part.x3p")
    read = x3pio.read(tmp_path / "part.x3p", verify=True)
    assert read.is_regular_grid
    np.testing.assert_array_equal(
        read.layers[0].z.astype(np.float32), (z.astype(float) * 1e-3).astype(np.float32)
    )
    assert read.layers[0].spacing == pytest.approx((5e-5, 7e-5), rel=1e-12)
    assert list(read.placement.offset) == pytest.approx([-1.5e-3, 2e-3, 0.0], rel=1e-12)


@pytest.mark.parametrize("z_type", list(x3pio.DataType))
def test_what_an_independent_writer_of_the_standard_writes_is_read(tmp_path, z_type):
    z = scattered_heights()
    steps = {"INT16": 2**16 - 2, "INT32": 2**32 - 2}.get(z_type.name)
    scale = {} if steps is None else {"z_scale": "auto"}
    x3pio.write(
        tmp_path / "part.x3p", z.astype(float) * 1e-3, x_scale=2e-5, y_scale=3e-5, z_type=z_type, **scale
    )
    data = load_scan(tmp_path / "part.x3p").data
    assert (data.grid.dx, data.grid.dy) == pytest.approx((0.02, 0.03), rel=1e-12)
    near = 1e-6 if steps is None else max(12.0 / steps, 1e-6)
    np.testing.assert_allclose(data.z, z, rtol=0.0, atol=near)
