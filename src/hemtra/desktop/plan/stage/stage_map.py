"""The picture of the part on the stage: what colours it, in which colours, and the image of a view."""

from __future__ import annotations

import math
from contextlib import suppress

import numpy as np
from PySide6.QtGui import QImage

from hemtra.core.arrays import ByteArray
from hemtra.core.errors import OffScan
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.rendering.palettes import deviation_palette, grey_palette, height_palette
from hemtra.core.rendering.picture import View, grey_picture, isoline_picture, picture
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.plan.stage.legend import Legend
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.layers import image

UNITS = {"slope": "°", "plane": "mm", "reference": "mm", "nominal": "mm"}
"""Colourings by values that are worked out beside the window, and the units of those."""
NAMES = {
    "slope": "slope",
    "plane": "above the plane",
    "reference": "above the reference",
    "nominal": "above the nominal",
}
DEVIATIONS = ("plane", "reference", "nominal")
"""Colourings about zero."""
ISOLINES = 24
"""About how many steps isolines divide the coloured heights into."""


class StageMap:
    """Colours the map of a bench; keeps the last image until something of it changes."""

    def __init__(self, bench: WorkspaceModel, legend: Legend) -> None:
        self._bench, self._legend = bench, legend
        self._image: tuple[tuple[object, ...], QImage] | None = None

    @property
    def derived(self) -> bool:
        """Whether other values than heights or intensity colour the part."""
        return self._bench.colour in UNITS

    def values(self, data: HeightMap) -> HeightMap:
        """Values that colour the part: its heights, unless the bench has others."""
        shown = self._bench.shown
        return (shown.coloured if shown is not None and self.derived else None) or data

    @property
    def colours(self) -> ByteArray:
        """(256, 3) uint8 that they are shown in."""
        if self._bench.colour in DEVIATIONS:
            return deviation_palette()
        return grey_palette() if self._bench.colour == "grey" else height_palette()

    def fill_legend(self, data: HeightMap | None) -> None:
        """Update the legend to the colouring."""
        even = self._bench.colour in DEVIATIONS
        unit = UNITS.get(self._bench.colour, "mm")
        self._legend.set_data(None if data is None else self.values(data), self.colours, unit=unit, even=even)
        self._legend.setVisible(data is not None and self._bench.colour != "intensity")

    def stretch(self, data: HeightMap, zone: AnyZone | None) -> None:
        """Set the colour range to a zone's heights, or to the whole map."""
        values = self.values(data)
        with suppress(OffScan):
            held = values.z.reshape(-1) if zone is None else window(zone, values).heights(values)
            self._legend.choose(held[~np.isnan(held)].astype(np.float64))

    def value_text(self, data: HeightMap, x: float, y: float) -> str:
        """The value at a place in words and unit; '' where heights or intensity colour the part."""
        value = self.values(data).height_at(x, y) if self.derived else None
        if value is None:
            return ""
        unit = UNITS[self._bench.colour]
        number = f"{value:.2f}°" if unit == "°" else f"{value:+.3f} {unit}"
        return units.text(f"{NAMES[self._bench.colour]} {number}")

    def image(self, data: HeightMap, viewport: Viewport) -> QImage:
        """The picture of a view."""
        values, colour = self.values(data), self._bench.colour
        # the map itself, not its id, which another map may get
        key = (values, viewport, self._legend.span, colour)
        if self._image is None or self._image[0] != key:
            left, top = viewport.to_part(0, 0)
            view = View(left, top, viewport.scale, viewport.width, viewport.height)
            if colour == "intensity":
                pixels = grey_picture(data, view)
            else:
                shade = 0.0 if self.derived else 1.0
                pixels = picture(values, view, self.colours, *self._legend.span, shade=shade)
                if colour == "isolines":
                    pixels = isoline_picture(data, view, pixels, isoline_step(self._legend.span))
            self._image = key, image(pixels)
        return self._image[1]


def isoline_step(span: tuple[float, float]) -> float:
    """A round step in mm that divides a span of heights well."""
    rough = (span[1] - span[0]) / ISOLINES
    power = 10.0 ** math.floor(math.log10(rough))
    return min((k * power for k in (1.0, 2.0, 5.0, 10.0)), key=lambda step: abs(step - rough))
