"""Code: a two-dimensional code or bar code printed on the part."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import zxingcpp
from scipy import ndimage

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Given, Kind, Outcome
from hemtra.core.plan.registry import register
from hemtra.core.scan.heightmap import Grid

LARGEST = 1600
"""Points along the longer side of what is read; more is made coarser first."""
SMALLEST = 400
"""Points along the longer side below which it is made finer, so that modules span several points."""
FORMATS = {
    "any": None,
    "data-matrix": zxingcpp.BarcodeFormat.DataMatrix,
    "qr": zxingcpp.BarcodeFormat.QRCode,
    "code128": zxingcpp.BarcodeFormat.Code128,
    "code39": zxingcpp.BarcodeFormat.Code39,
    "ean13": zxingcpp.BarcodeFormat.EAN13,
}


@dataclass(frozen=True, slots=True)
class ReadCode(Point):
    """A code's middle, what it says, and its symbology."""

    text: str
    symbology: str
    corners: tuple[tuple[float, float], ...] = ()


@register
class CodeKind(Kind):
    """A printed code, read from the brightness of the scan."""

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
            "any": "any",
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

    def evaluate(self, given: Given) -> Outcome:
        """A `ReadCode`. Raises `NotMeasured` where none, or more than one, can be read."""
        picture, grid = self._picture(given)
        wanted = FORMATS[self.symbology]
        found: list[zxingcpp.Barcode] = []
        for image in (picture, _smoothed(picture)):
            found = (
                zxingcpp.read_barcodes(image)
                if wanted is None
                else zxingcpp.read_barcodes(image, formats=zxingcpp.BarcodeFormats(wanted))
            )
            found = [code for code in found if code.valid]
            if found:
                break
        if not found:
            raise NotMeasured(
                "no code could be read in the zone; check light and contrast, or enlarge the zone"
            )
        if len({code.text for code in found}) > 1:
            raise NotMeasured(f"{len(found)} codes lie in the zone; make it hold one only")
        code, place = found[0], found[0].position
        # the picture's rows run from the far end, as a code is read
        rows = picture.shape[0]
        corners = tuple(
            (grid.x0 + grid.dx * p.x, grid.y0 + grid.dy * (rows - 1 - p.y))
            for p in (place.top_left, place.top_right, place.bottom_right, place.bottom_left)
        )
        x, y = (float(np.mean([c[k] for c in corners])) for k in (0, 1))
        z = given.data.height_at(x, y) or 0.0
        read = ReadCode(x, y, z, code.text, str(code.format).removeprefix("BarcodeFormat."), corners)
        return Outcome(read, (("reads", code.text), ("code", read.symbology)))

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """Its outline."""
        code: ReadCode = outcome.value
        return Evidence((Polyline(np.array([(x, y, code.z) for x, y in code.corners]), "fit", closed=True),))

    def _picture(self, given: Given) -> tuple[ByteArray, Grid]:
        """The zone as a picture with square points, its last row first, and the grid of that."""
        view, data = given.window(), given.data
        if data.intensity is None:
            raise NotMeasured("the scan has no intensity, which a code is read from")
        grey = data.intensity[view.rows, view.cols].astype(np.float32)
        grid = view.grid(data)
        height, width = grey.shape[0] * grid.dy, grey.shape[1] * grid.dx
        pitch = min(grid.dx, grid.dy)
        longest = max(height, width)
        pitch = min(max(pitch, longest / LARGEST), longest / SMALLEST)
        rows, cols = max(round(height / pitch), 2), max(round(width / pitch), 2)
        zoom = rows / grey.shape[0], cols / grey.shape[1]
        even: FloatArray = ndimage.zoom(grey, zoom, order=1, grid_mode=True, mode="nearest")
        if self.contrast == "local":
            even = even - ndimage.uniform_filter(even, max(round(0.2 * min(even.shape)), 3))
        low, high = np.percentile(even, [2, 98])
        if high - low < 1e-6:
            raise NotMeasured("the zone is equally bright all over; there is nothing to read")
        stretched = np.clip((even - low) / (high - low) * 255.0, 0.0, 255.0).astype(np.uint8)
        fine = Grid(
            grid.x0 - grid.dx / 2 + width / cols / 2,
            grid.y0 - grid.dy / 2 + height / rows / 2,
            width / cols,
            height / rows,
        )
        return np.ascontiguousarray(stretched[::-1]), fine


def _smoothed(picture: ByteArray) -> ByteArray:
    """Less noise, for a second try."""
    smooth: ByteArray = ndimage.median_filter(picture, 3)
    return smooth
