"""LAS and LAZ files of laser scanners (ASPRS), in metres unless the user says otherwise."""

from __future__ import annotations

import io
import struct
from pathlib import Path
from typing import IO

import numpy as np

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.importing import MOST_POINTS, PointCloud
from hemtra.storage.files import opened
from hemtra.storage.foreign.extra import library
from hemtra.storage.foreign.numpy_files import cloud_of

BRIGHTEST = 65535.0
"""Intensity at full scale."""


HEAD = 375
"""Longest header (LAS 1.4), bytes."""
PACKED = 0x80
"""Bit of the kind of points that are compressed."""
RECORD, LATE_RECORD = 54, 60
"""Minimum size of a variable record's head, before the points and behind them, bytes."""


def _is_sound(stream: IO[bytes]) -> bool:
    """Whether a file is as large as its head says, so that nobody looks for records that cannot be there."""
    size = stream.seek(0, io.SEEK_END)
    stream.seek(0)
    head = stream.read(HEAD).ljust(HEAD, b"\0")
    stream.seek(0)
    minor, (start, records, kind, length, count) = head[25], struct.unpack_from("<IIBHI", head, 96)
    late = 0
    if minor >= 4:
        _, late, many = struct.unpack_from("<QIQ", head, 235)
        count = count or many
    points = 0 if kind & PACKED else count * length
    has_records = RECORD * records <= size and LATE_RECORD * late <= size
    return head[:4] == b"LASF" and start + points <= size and has_records


def read(path: Path) -> PointCloud:
    """Its points. Raises `FileError`."""
    laspy = library("laspy", "laspy", "LAS")
    with opened(path) as stream:
        if not _is_sound(stream):
            raise FileError(f"{path.name} is damaged or no LAS; use another copy of it.")
        try:
            with laspy.open(stream) as file:
                if file.header.point_count > MOST_POINTS:
                    raise FileError(f"{path.name} holds {file.header.point_count} points; that is too many.")
                held = file.read()
            light = np.asarray(held.intensity, np.float64) * 255.0 / BRIGHTEST
            return cloud_of(np.column_stack([held.x, held.y, held.z, light]))
        except HemtraError:
            raise
        except Exception as error:  # laspy raises nearly anything on damaged files
            raise FileError(f"{path.name} is damaged or no LAS; use another copy of it.") from error
