"""Code: a two-dimensional code or bar code printed on the part."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain
from typing import Any, ClassVar, Literal

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.filters.glare import SATURATED
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.maps.heightmap import frozen
from hemtra.core.maps.upright import upright
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Absent, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.zones.zone import AnyZone

SEEN_WHOLE = 0.9
"""Share of the zone that must hold data for a code that cannot be read to be missing."""
LARGEST = 1600
"""Points along the longer side of what is read; more is made coarser first."""
SMALLEST, FINER = 200, 1.5
"""Points along the longer side at least, and how much finer than the map: modules span several points."""
BUSY, BUSY_SHARE = 2.0, 0.4
"""Window for the change of intensity, mm, and the share of its maximum that is a code."""
RARE = 0.1
"""Smallest code in a zone, percent of the zone."""
LINEAR = ("code128", "code39", "ean13")
MATRIX = ("data-matrix", "qr")
FORMATS = {
    "data-matrix": "DataMatrix",
    "qr": "QRCode",
    "code128": "Code128",
    "code39": "Code39",
    "ean13": "EAN13",
}


@dataclass(frozen=True, slots=True)
class ReadCode(Point):
    """A code's middle, what it says, and its symbology."""

    text: str
    symbology: str
    corners: tuple[tuple[float, float], ...] = ()


@register
class CodeKind(Kind):
    """A printed code, read from the intensity of the scan."""

    kind: ClassVar = "code"
    title: ClassVar = "Code"
    glyph: ClassVar = "code"
    output: ClassVar = ReadCode
    needs_zone: ClassVar = True

    symbology: Literal["any", "data-matrix", "qr", "code128", "code39", "ean13"] = setting(
        "any",
        "code",
        "Which kind of code it is; naming it is faster and safer.",
        choices={
            "data-matrix": "Data Matrix",
            "qr": "QR code",
            "code128": "Code 128",
            "code39": "Code 39",
            "ean13": "EAN-13",
        },
    )
    contrast: Literal["stretch", "local"] = setting(
        "stretch",
        "contrast",
        "Stretched over the zone, or evened out where the light is uneven.",
        choices={"stretch": "stretched", "local": "evened out"},
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """A `ReadCode`, or that there is none. Raises `NotMeasured` where that is unknown, or for two."""
        lit = ((made, self.symbology) for made in self._pictures(given))
        unlit = ((made, name) for made in self._unlit(given) for name in self._corrected)
        for (picture, spacing, zone), symbology in chain(lit, unlit):  # noqa: B007
            found = _read(picture, symbology)
            if found:
                break
        else:
            why = "no code could be read in the zone; check light and contrast, or enlarge the zone"
            if given.window().data_share(given.data) < SEEN_WHOLE:
                raise NotMeasured(why)
            # all of the zone is seen, so that what cannot be read is missing or spoilt
            assert given.zone is not None
            x, y = given.zone.x, given.zone.y
            return Outcome(Absent(why, Point(x, y, given.data.height_at(x, y) or 0.0)))
        if len({code.text for code in found}) > 1:
            raise NotMeasured(f"{len(found)} codes lie in the zone; make it hold one only")
        code, place = found[0], found[0].position
        middle = np.array([picture.shape[1] - 1, picture.shape[0] - 1]) / 2
        spots = [place.top_left, place.top_right, place.bottom_right, place.bottom_left]
        # the picture's rows run from the far side of the zone, as a code is read
        u = np.array([(spot.x - middle[0]) * spacing for spot in spots])
        v = np.array([(middle[1] - spot.y) * spacing for spot in spots])
        corners = tuple((float(x), float(y)) for x, y in zone.outward(u, v))
        x, y = (float(np.mean([c[k] for c in corners])) for k in (0, 1))
        z = given.data.height_at(x, y) or 0.0
        read = ReadCode(x, y, z, code.text, str(code.format).removeprefix("BarcodeFormat."), corners)
        return Outcome(read, (("reads", code.text), ("code", read.symbology)))

    @property
    def _corrected(self) -> tuple[str, ...]:
        """Types among the wanted ones that correct errors: a damaged code is then read right or not at all."""
        return MATRIX if self.symbology == "any" else tuple({self.symbology} & set(MATRIX))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Its outline."""
        code: ReadCode = outcome.value
        return Evidence((Polyline(np.array([(x, y, code.z) for x, y in code.corners]), "fit", closed=True),))

    def _pictures(self, given: StepContext) -> Iterator[tuple[ByteArray, float, AnyZone]]:
        """Pictures to read it in, the likeliest first; mm a point of each, and where it was taken.

        Bars are read at right angles only, so the zone is turned to them; light ones on a dark background are
        turned round; small modules want a finer picture, and a small code in a large zone one of itself.
        """
        zone = given.zone
        if zone is None:
            raise NotMeasured("it has no zone; draw one about the code")
        picture, spacing = self._picture(given, zone, FINER)
        yield picture, spacing, zone
        yield _smoothed(picture), spacing, zone
        whole, spacing = self._picture(given, zone, FINER, RARE)
        close = _about_the_busiest(whole, spacing, zone)
        zones = [zone, close] if close.area < zone.area / 2 else [zone]
        if self.symbology in LINEAR or self.symbology == "any":
            zones += [_turned(one, across_bars(picture)) for one in zones]
        for finer in (FINER, 2 * FINER):
            for one in reversed(zones):
                again, spacing = self._picture(given, one, finer)
                for made in (again, 255 - again, _smoothed(again), 255 - _smoothed(again)):
                    yield np.ascontiguousarray(made), spacing, one

    def _unlit(self, given: StepContext) -> Iterator[tuple[ByteArray, float, AnyZone]]:
        """Pictures in which what shines is dark: light there breaks the dark frame of a code."""
        view, grey, zone = given.window(), given.data.intensity, given.zone
        if grey is None or zone is None or not (grey[view.rows, view.cols] == SATURATED).any():
            return
        picture, spacing = self._picture(given, zone, FINER, shines=False)
        yield picture, spacing, zone
        yield _softened(picture), spacing, zone

    def _picture(
        self, given: StepContext, zone: AnyZone, finer: float, ends: float = 2.0, *, shines: bool = True
    ) -> tuple[ByteArray, float]:
        """A zone upright, as a picture with square points and its far side first; and mm a point.

        ends: percent of the points at either end that may be as bright or dark as can be. shines: whether
        points that overran the camera are light; else they are dark.
        """
        data = given.data
        given.window()
        if data.intensity is None:
            raise NotMeasured("the scan has no intensity, which a code is read from")
        grid, longest = data.grid, max(zone.width, zone.height)
        spacing = min(max(min(grid.dx, grid.dy) / finer, longest / LARGEST), longest / SMALLEST)
        cols, rows = max(round(zone.width / spacing), 2), max(round(zone.height / spacing), 2)
        source = data.intensity
        if not shines:
            source = frozen(np.where(source == SATURATED, np.uint8(0), source))
        grey: FloatArray = upright(source, grid, (zone.x, zone.y), zone.rotation, spacing, (rows, cols))
        if self.contrast == "local":
            grey = grey - scipy.ndimage.uniform_filter(grey, max(round(0.2 * min(grey.shape)), 3))
        low, high = np.percentile(grey, [ends, 100.0 - ends])
        if high - low < 1e-6:
            raise NotMeasured("the zone is equally bright all over; there is nothing to read")
        picture: ByteArray = np.clip((grey - low) / (high - low) * 255.0, 0.0, 255.0).astype(np.uint8)
        return np.ascontiguousarray(picture), spacing


def _read(image: ByteArray, symbology: str) -> list[Any]:
    """The codes that can be read in a picture, of one symbology or any."""
    # loaded only where there is a code to read
    import zxingcpp

    if symbology == "any":
        found = zxingcpp.read_barcodes(image)
    else:
        name = getattr(zxingcpp.BarcodeFormat, FORMATS[symbology])
        found = zxingcpp.read_barcodes(image, formats=zxingcpp.BarcodeFormats(name))
    return [code for code in found if code.valid]


def across_bars(picture: ByteArray) -> float:
    """Degrees, counter-clockwise, from the rows of a picture to the direction in which it changes most.

    That of the structure tensor, summed over the picture (Förstner and Gülch 1987).
    """
    smooth = scipy.ndimage.gaussian_filter(picture.astype(np.float32), 1.5)
    down, right = np.gradient(smooth)
    up = -down  # its first row is the far side
    xx, yy, xy = (float((a * b).sum()) for a, b in ((right, right), (up, up), (right, up)))
    return math.degrees(math.atan2(2.0 * xy, xx - yy)) / 2.0


def _turned(zone: AnyZone, degrees: float) -> AnyZone:
    """A zone turned about its middle, as large as what it was fits into."""
    c, s = abs(math.cos(math.radians(degrees))), abs(math.sin(math.radians(degrees)))
    size = {"width": c * zone.width + s * zone.height, "height": s * zone.width + c * zone.height}
    return zone.model_copy(update={**size, "rotation": zone.rotation + degrees})


def _about_the_busiest(picture: ByteArray, spacing: float, zone: AnyZone) -> AnyZone:
    """The part of a zone where intensity changes most, with some room about it."""
    steep = np.hypot(*np.gradient(scipy.ndimage.gaussian_filter(picture.astype(np.float32), 1.0)))
    busy = scipy.ndimage.uniform_filter(steep, max(round(BUSY / spacing), 3))
    inside = busy > BUSY_SHARE * busy.max()
    rows, cols = (np.flatnonzero(inside.any(axis=axis)) for axis in (1, 0))
    u = ((cols[0] + cols[-1]) / 2 - (picture.shape[1] - 1) / 2) * spacing
    v = ((picture.shape[0] - 1) / 2 - (rows[0] + rows[-1]) / 2) * spacing
    x, y = zone.outward(np.array([u]), np.array([v]))[0]
    width, height = (float(np.ptp(ends) * spacing + 2 * BUSY) for ends in (cols, rows))
    size = {"width": min(width, zone.width), "height": min(height, zone.height)}
    return zone.model_copy(update={**size, "x": float(x), "y": float(y)})


def _smoothed(picture: ByteArray) -> ByteArray:
    """Less noise, for a second try."""
    smooth: ByteArray = scipy.ndimage.median_filter(picture, 3)
    return smooth


def _softened(picture: ByteArray) -> ByteArray:
    """Blurred by about a point of the map, so that ragged edges of modules become straight."""
    soft: ByteArray = scipy.ndimage.gaussian_filter(picture, FINER)
    return soft
