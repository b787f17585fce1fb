"""X3P surface files (ISO 25178-72): a zip of main.xml, a binary z matrix and its md5, with our records beside.

X3P counts in metres; everything else in Hemtra in mm. The z matrix is stored, not deflated: deflating costs
half a second and saves a seventh.

A float32 in metres has not always a digit for every float32 in mm, so what is lost, one unit in the last place
up or down, stands beside it in two bits a point: a scan that was kept gives the very numbers it gave before.
"""

from __future__ import annotations

import hashlib
import json
import zipfile
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any
from xml.etree import ElementTree
from xml.sax.saxutils import escape

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import FileError
from hemtra.core.maps.float_residue import lost_places, packed_size, restore_places
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.importing import ImportSettings, PointCloud
from hemtra.core.maps.scan import Scan
from hemtra.core.text import plain
from hemtra.storage.container import Container, container_in
from hemtra.storage.files import atomic_write, opened, parsed_json, parsed_xml, shown

NAMESPACE = "http://www.opengps.eu/2008/ISO5436_2"
MM = 1e-3
"""Metres."""
MOST_POINTS = 200_000_000
LARGEST_TEXT = 4 * 1024**2
LARGEST_XML = 256 * 1024
SAID = 200
"""Letters of a file that a message repeats."""
TYPES: dict[str, np.dtype[Any]] = {
    "F": np.dtype("<f4"),
    "D": np.dtype("<f8"),
    "I": np.dtype("<i2"),
    "L": np.dtype("<i4"),
}
DATA, INTENSITY, RECORD = "bindata/data.bin", "vendor/hemtra/intensity.bin", "vendor/hemtra/scan.json"
IDENTITY = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
LAST_PLACES = "vendor/hemtra/last-places.bin"
CHUNK = 1 << 18
"""Points converted, hashed and written at a time, so that they are still in cache for the next of the three."""


@dataclass(frozen=True)
class _Header:
    cols: int
    rows: int
    dx: float
    dy: float
    x0: float
    y0: float
    dtype: np.dtype[Any]
    z_scale: float
    z_offset: float
    link: str
    md5: str
    mask_link: str
    mask_md5: str = ""
    listed: tuple[str, ...] = ()
    """Heights that stand in main.xml itself, as text; empty where a file beside it holds them."""
    apart: tuple[np.dtype[Any] | None, np.dtype[Any] | None] = (None, None)
    """Types of the coordinates stored for x and y; None where they follow from the grid."""
    rotation: tuple[float, ...] = ()
    """Rotation of all coordinates, nine numbers row by row; empty where there is none."""

    @property
    def size(self) -> int:
        return self.cols * self.rows * self.point.itemsize

    @property
    def point(self) -> np.dtype[Any]:
        """Types of the values stored for a point."""
        held = [(name, kind) for name, kind in zip("xy", self.apart, strict=True) if kind is not None]
        return np.dtype([*held, ("z", self.dtype)]) if held else self.dtype

    @property
    def is_cloud(self) -> bool:
        """Whether its points do not lie on a grid in x and y."""
        return any(kind is not None for kind in self.apart) or bool(self.rotation)


def read(path: Path) -> Scan | PointCloud:
    """A scan; a cloud where points do not lie on a grid.

    Raises `FileError` for anything that is not a whole and consistent X3P file.
    """
    with opened(path) as stream, container_in(stream, path) as container:
        header = _header(container)
        return _cloud(container, header) if header.is_cloud else _scan(container, header)


def read_stream(stream: IO[bytes], path: Path) -> Scan:
    """A scan from an open file; `path` names it in errors and in the scan. Raises `FileError`."""
    with container_in(stream, path) as container:
        return _scan(container, _header(container))


def _raw(container: Container, header: _Header) -> NDArray[Any]:
    """Stored values of the points (rows, cols), the md5 checked where the file has one."""
    if header.listed:
        return _listed(container, header)
    found = container.size(header.link) // header.point.itemsize
    if container.size(header.link) != header.size:
        raise FileError(
            f"{shown(container.path)} is inconsistent: it declares {header.cols} × {header.rows} points"
            f" and holds data for {found}."
        )
    raw = np.empty((header.rows, header.cols), header.point)
    container.read_into(header.link, raw.reshape(-1).view(np.uint8).data)
    _check_md5(container, header.link, raw, header.md5)
    return raw


def _listed(container: Container, header: _Header) -> NDArray[Any]:
    """Heights that stand in main.xml; a point without one is missing."""
    if len(header.listed) != header.rows * header.cols:
        raise FileError(
            f"{shown(container.path)} is inconsistent: it declares {header.cols} × {header.rows} points"
            f" and lists {len(header.listed)}."
        )
    try:
        held = [float(text.rpartition(";")[2] or "nan") for text in header.listed]
    except ValueError:
        raise FileError(f"{shown(container.path)} is damaged: some of its heights are no numbers.") from None
    return np.array(held).reshape(header.rows, header.cols)


def _cloud(container: Container, header: _Header) -> PointCloud:
    """Points whose coordinates are their own, or turned, in mm."""
    raw = _raw(container, header)
    plain_z = raw["z"] if raw.dtype.names else raw
    z = _heights(np.ascontiguousarray(plain_z), header).astype(np.float64)
    if header.mask_link:
        z[~_valid_points(container, header)] = np.nan
    along: tuple[NDArray[Any], ...] = (np.arange(header.cols), np.arange(header.rows)[:, None])
    places = []
    for name, kind, line, start, step in zip(
        "xy", header.apart, along, (header.x0, header.y0), (header.dx, header.dy), strict=True
    ):
        held = line if kind is None else raw[name].astype(np.float64)
        # as of heights, the increment of an absolute axis scales whole numbers only
        factor = step if kind is None or kind.kind == "i" else 1.0 / MM
        places.append(np.broadcast_to(start + factor * held, z.shape))
    points = np.column_stack([one.ravel() for one in (*places, z)])
    if header.rotation:
        points = points @ np.array(header.rotation).reshape(3, 3).T
    return PointCloud(points[np.isfinite(points).all(axis=1)], ImportSettings(unit="mm"))


def _scan(container: Container, header: _Header) -> Scan:
    path = container.path
    if header.is_cloud:
        raise FileError(f"{shown(path)} holds points that do not lie on a grid.")
    z = _heights(_raw(container, header), header)
    if header.mask_link:
        z[~_valid_points(container, header)] = np.nan
    record, intensity = _vendor_records(container, header)
    if container.has(LAST_PLACES):
        _restore(z, container, str(record.get("last_places_md5", "")))
    z.flags.writeable = False  # ours alone from here on: the height map need not copy it
    data = HeightMap(z, intensity, **_exact(record, header))
    return Scan(
        data,
        name=path.name,
        serial=str(record.get("serial", "")),
        taken=str(record.get("taken", "")),
        station=record["station"] if isinstance(record.get("station"), dict) else {},
    )


def is_whole(path: Path) -> bool:
    """Whether its list of contents, which is written last, stands at its end."""
    with opened(path) as stream:
        return zipfile.is_zipfile(stream)


def write(scan: Scan, path: Path) -> None:
    """Save a scan atomically. Raises `FileError` when it cannot be written."""
    with atomic_write(path) as stream, zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        write_records(scan, archive)


def write_records(scan: Scan, archive: zipfile.ZipFile) -> None:
    """The records of an X3P file, written into an open zip."""
    md5, places = _write_heights(scan.data.z, archive)
    grid = scan.data.grid
    record = {"serial": scan.serial, "taken": scan.taken, "station": scan.station}
    record["grid"] = {"dx": grid.dx, "dy": grid.dy, "x0": grid.x0, "y0": grid.y0}
    if places:
        archive.writestr(LAST_PLACES, places)
        record["last_places_md5"] = _md5(places)
    if scan.data.intensity is not None:
        grey = scan.data.intensity
        archive.writestr(INTENSITY, grey.data.cast("B"))
        record["intensity_md5"] = hashlib.md5(grey.data, usedforsecurity=False).hexdigest()
    archive.writestr(RECORD, json.dumps(record, indent=1, sort_keys=True))
    main = _main_xml(scan, md5)
    archive.writestr("main.xml", main)
    archive.writestr("md5checksum.hex", f"{_md5(main.encode())} *main.xml\n")


def _write_heights(z: NDArray[np.float32], archive: zipfile.ZipFile) -> tuple[str, bytes]:
    """Write the z matrix; its md5, and the last places that metres have lost, empty where none were."""
    digest = hashlib.md5(usedforsecurity=False)
    flat = z.reshape(-1)
    places: list[NDArray[np.uint8]] = []
    entry = zipfile.ZipInfo(DATA, date_time=datetime.now(UTC).timetuple()[:6])
    entry.file_size = flat.nbytes
    with archive.open(entry, "w", force_zip64=flat.nbytes > 2**31) as stream:
        for start in range(0, flat.size, CHUNK):
            part = flat[start : start + CHUNK]
            metres = (part * np.float64(MM)).astype("<f4")
            digest.update(metres.data)
            stream.write(metres.data.cast("B"))
            back = (metres / np.float64(MM)).astype(np.float32)
            places.append(lost_places(part.view(np.int32), back.view(np.int32)))
    found = np.concatenate(places)
    return digest.hexdigest().upper(), found.tobytes() if found.any() else b""


def _restore(z: NDArray[np.float32], container: Container, declared: str) -> None:
    """Give heights the last places that metres had none for."""
    patterns, name = z.reshape(-1).view(np.int32), shown(container.path)
    if container.size(LAST_PLACES) != packed_size(patterns.size):
        raise FileError(f"{name} is inconsistent: its last places and heights differ in size.")
    packed = container.read(LAST_PLACES, packed_size(patterns.size))
    if _md5(packed) != declared.lower():
        raise FileError(f"{name} was changed or damaged: the md5 of {LAST_PLACES} is wrong.")
    restore_places(patterns, np.frombuffer(packed, np.uint8))


def _exact(record: dict[str, Any], header: _Header) -> dict[str, float]:
    """The grid in mm: to its last digit from our record where that agrees with the file's metres."""
    grid = {"dx": header.dx, "dy": header.dy, "x0": header.x0, "y0": header.y0}
    kept = record.get("grid")
    if isinstance(kept, dict) and all(isinstance(kept.get(name), float) for name in grid):
        room = 1e-9 * max(abs(value) for value in grid.values())
        if all(abs(kept[name] - value) <= room for name, value in grid.items()):
            return {name: kept[name] for name in grid}
    return grid


def _main_xml(scan: Scan, md5: str) -> str:
    grid, (rows, cols) = scan.data.grid, scan.data.shape
    taken = scan.taken or datetime.now(UTC).isoformat(timespec="seconds")
    sensor = scan.station.get("sensor", {})
    model = escape(str(sensor.get("model", "unknown") if isinstance(sensor, dict) else sensor))
    return f"""<?xml version="1.0" encoding="UTF-8" standalone="no"?>
<p:ISO5436_2 xmlns:p="{NAMESPACE}">
  <Record1>
    <Revision>ISO5436 - 2000</Revision>
    <FeatureType>SUR</FeatureType>
    <Axes>
      <CX>{_axis(grid.dx, grid.x0)}</CX>
      <CY>{_axis(grid.dy, grid.y0)}</CY>
      <CZ><AxisType>A</AxisType><DataType>F</DataType><Increment>1</Increment><Offset>0</Offset></CZ>
    </Axes>
  </Record1>
  <Record2>
    <Date>{escape(taken)}</Date>
    <Creator>Hemtra</Creator>
    <Instrument><Manufacturer>unknown</Manufacturer><Model>{model}</Model>\
<Serial>{escape(scan.serial) or "unknown"}</Serial><Version>1</Version></Instrument>
    <CalibrationDate>{escape(taken)}</CalibrationDate>
    <ProbingSystem><Type>NonContacting</Type><Identification>{model}</Identification></ProbingSystem>
  </Record2>
  <Record3>
    <MatrixDimension><SizeX>{cols}</SizeX><SizeY>{rows}</SizeY><SizeZ>1</SizeZ></MatrixDimension>
    <DataLink><PointDataLink>{DATA}</PointDataLink><MD5ChecksumPointData>{md5}</MD5ChecksumPointData></DataLink>
  </Record3>
  <Record4><ChecksumFile>md5checksum.hex</ChecksumFile></Record4>
  <VendorSpecificID>urn:hemtra:scan:1</VendorSpecificID>
</p:ISO5436_2>
"""


def _axis(spacing: float, start: float) -> str:
    # repr of a float reads back as the same float; the factor is a power of ten, so twelve digits undo it
    return (
        "<AxisType>I</AxisType><DataType>D</DataType>"
        f"<Increment>{spacing * MM!r}</Increment><Offset>{start * MM!r}</Offset>"
    )


def _header(container: Container) -> _Header:
    path = container.path
    text = container.read("main.xml", LARGEST_XML)
    if container.has("md5checksum.hex"):
        declared = container.read("md5checksum.hex", LARGEST_TEXT).split()
        if not declared or declared[0].decode("ascii", "replace").lower() != _md5(text):
            raise FileError(f"{shown(path)} was changed or damaged: the md5 of main.xml is wrong.")
    root = parsed_xml(text, f"{shown(path)} is damaged: its main.xml cannot be read.")
    try:
        return _parse_header(root)
    except (KeyError, ValueError, OverflowError) as error:
        raise FileError(f"{shown(path)} cannot be used: {plain(str(error.args[0]), SAID)}.") from None


def _parse_header(root: ElementTree.Element) -> _Header:
    def text(place: str, default: str | None = None) -> str:
        found = root.findtext(place)
        if found is None and default is None:
            raise KeyError(f"its main.xml lacks {place}")
        return (found if found is not None else default or "").strip()

    def number(place: str, default: str | None = None) -> float:
        value = float(text(place, default))
        if not np.isfinite(value):
            raise ValueError(f"{place} is {value}")
        return value

    apart: list[np.dtype[Any] | None] = []
    for axis in ("CX", "CY"):
        how = text(f"Record1/Axes/{axis}/AxisType")
        kind = text(f"Record1/Axes/{axis}/DataType", "D")
        if how not in ("I", "A") or kind not in TYPES:
            raise ValueError(f"its {axis[1]} axis is of the unknown kind “{how} {kind}”")
        apart.append(None if how == "I" else TYPES[kind])
    if root.find("Record3/ListDimension") is not None:
        cols, rows = int(text("Record3/ListDimension")), 1
    else:
        cols, rows = (int(text(f"Record3/MatrixDimension/Size{a}")) for a in "XY")
    if int(text("Record3/MatrixDimension/SizeZ", "1")) != 1:
        raise ValueError("it holds several layers; Hemtra reads one")
    if not (0 < cols <= MOST_POINTS and 0 < rows <= MOST_POINTS and cols * rows <= MOST_POINTS):
        raise ValueError(f"it declares {cols} × {rows} points; at most {MOST_POINTS:,} are read")
    z_type = text("Record1/Axes/CZ/DataType")
    if z_type not in TYPES:
        raise ValueError(f"its heights are of the unknown type “{z_type}”")
    whole = TYPES[z_type].kind == "i"
    listed = tuple((one.text or "").strip() for one in root.iterfind("Record3/DataList/Datum"))
    turned = tuple(number(f"Record1/Axes/Rotation/r{i}{k}", "0") for i in "123" for k in "123")
    is_turned = root.find("Record1/Axes/Rotation") is not None and turned != IDENTITY
    return _Header(
        cols,
        rows,
        _mm(number("Record1/Axes/CX/Increment", None if apart[0] is None else "1")),
        _mm(number("Record1/Axes/CY/Increment", None if apart[1] is None else "1")),
        _mm(number("Record1/Axes/CX/Offset", "0")),
        _mm(number("Record1/Axes/CY/Offset", "0")),
        TYPES[z_type],
        # the increment of an absolute axis scales whole numbers only; floating heights are metres already
        number("Record1/Axes/CZ/Increment", "1") if whole else 1.0,
        number("Record1/Axes/CZ/Offset", "0"),
        text("Record3/DataLink/PointDataLink", "" if listed else None),
        text("Record3/DataLink/MD5ChecksumPointData", ""),
        text("Record3/DataLink/ValidPointsLink", ""),
        text("Record3/DataLink/MD5ChecksumValidPoints", ""),
        listed,
        (apart[0], apart[1]),
        turned if is_turned else (),
    )


def _heights(raw: NDArray[Any], header: _Header) -> NDArray[np.float32]:
    z = np.empty(raw.shape, np.float32)
    flat, target = raw.reshape(-1), z.reshape(-1)
    with np.errstate(over="ignore", invalid="ignore"):
        for start in range(0, flat.size, CHUNK):
            part = flat[start : start + CHUNK].astype(np.float64)
            target[start : start + CHUNK] = (part * header.z_scale + header.z_offset) / MM
    return z


def _check_md5(container: Container, name: str, raw: NDArray[Any], declared: str) -> None:
    if not declared:
        return  # other programs leave it out; the zip has a checksum of its own
    found = hashlib.md5(np.ascontiguousarray(raw).view(np.uint8).data, usedforsecurity=False).hexdigest()
    if found != declared.lower():
        raise FileError(f"{shown(container.path)} was changed or damaged: the md5 of {name} is wrong.")


def _valid_points(container: Container, header: _Header) -> NDArray[np.bool_]:
    """Unpack one bit per point, the lowest bit of each byte first."""
    points = header.cols * header.rows
    bits = np.frombuffer(container.read(header.mask_link, points // 8 + 1), np.uint8)
    _check_md5(container, header.mask_link, bits, header.mask_md5)
    if bits.size * 8 < points:
        raise FileError(f"{shown(container.path)} is inconsistent: its list of valid points is too short.")
    valid = np.unpackbits(bits, bitorder="little")[:points].astype(np.bool_)
    return valid.reshape(header.rows, header.cols)


def _vendor_records(container: Container, header: _Header) -> tuple[dict[str, Any], NDArray[np.uint8] | None]:
    if not container.has(RECORD):
        return {}, None
    damaged = f"{shown(container.path)} is damaged: {RECORD} cannot be read."
    record = parsed_json(container.read(RECORD, LARGEST_TEXT), damaged)
    if not isinstance(record, dict):
        raise FileError(damaged)
    if not container.has(INTENSITY):
        return record, None
    if container.size(INTENSITY) != header.rows * header.cols:
        raise FileError(f"{shown(container.path)} is inconsistent: intensity and heights differ in size.")
    grey = np.empty((header.rows, header.cols), np.uint8)
    container.read_into(INTENSITY, grey.data.cast("B"))
    _check_md5(container, INTENSITY, grey, str(record.get("intensity_md5", "")))
    grey.flags.writeable = False
    return record, grey


def _mm(metres: float) -> float:
    return float(f"{metres / MM:.12g}")


def _md5(content: bytes) -> str:
    return hashlib.md5(content, usedforsecurity=False).hexdigest()
