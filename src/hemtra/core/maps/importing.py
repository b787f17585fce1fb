"""Height maps made of what other programs write: images of heights, and clouds of points."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.errors import FileError, HemtraError
from hemtra.core.maps.gridding import Take, gridded, levelled, spacing_of
from hemtra.core.maps.heightmap import HeightMap

UNITS = {"mm": 1.0, "um": 1e-3, "cm": 10.0, "m": 1e3, "in": 25.4}
"""Units of heights and places, in mm."""
LIKELY = (0.02, 400.0)
"""Plausible height ranges of a scan, mm; outside of these its unit must be stated."""
MOST_POINTS = 200_000_000
Unit = Literal["mm", "um", "cm", "m", "in"]
Positive = Annotated[float, Field(gt=0.0, allow_inf_nan=False)]
Number = Annotated[float, Field(allow_inf_nan=False)]


def _not_zero(value: float) -> float:
    if value == 0.0:
        raise ValueError("a scale of 0 would make every part flat")
    return value


Factor = Annotated[float, Field(allow_inf_nan=False), AfterValidator(_not_zero)]


class ImportSettings(BaseModel):
    """Information that a foreign file lacks. None where the file states it, or it can be found.

    unit: of heights, and of the places of a cloud. dx, dy: spacing in mm of an image's columns and rows, or of
    the grid that a cloud is laid on. scale: a stored number times this is a height in the unit. offset: mm to
    add to it. no_data: the number that stands for a missing height. page: of a file with several, from 1 on.
    rows: whether the first row of an image is the first profile, or the last. take: which height of a cell of a
    cloud. level: whether a cloud is turned so that its largest plane is horizontal.
    """

    unit: Unit | None = None
    dx: Positive | None = None
    dy: Positive | None = None
    scale: Factor | None = None
    offset: Number | None = None
    no_data: float | None = None
    page: Annotated[int, Field(ge=1)] | None = None
    rows: Literal["first", "last"] | None = None
    take: Take | None = None
    level: bool | None = None

    model_config = ConfigDict(frozen=True, extra="forbid")

    def over(self, other: ImportSettings) -> ImportSettings:
        """These, and what they leave open as another says it."""
        given = {name: value for name, value in self if value is not None}
        return other.model_copy(update=given)


NOTHING_SAID = ImportSettings()


@dataclass(frozen=True)
class Raster:
    """An image of heights: values (rows, cols) of any kind of number, and what its file says."""

    values: NDArray[Any]
    says: ImportSettings = NOTHING_SAID
    intensity: ByteArray | None = None


@dataclass(frozen=True)
class PointCloud:
    """Points (n, 3) in any order, NaN left out, with intensities (n,) 0 to 255 or None."""

    points: FloatArray
    says: ImportSettings = NOTHING_SAID
    intensity: FloatArray | None = None


Foreign: TypeAlias = Raster | PointCloud


class SeveralPages(FileError):
    """A file has several pages alike, and nobody said which of them holds the heights."""

    def __init__(self, message: str, pages: int) -> None:
        super().__init__(message)
        self.pages = pages


class Unstated(FileError):
    """A file leaves something open that it cannot be read without. missing: names of settings."""

    def __init__(self, missing: tuple[str, ...]) -> None:
        super().__init__(f"it does not say {' and '.join(WORDS[name] for name in missing)}")
        self.missing = missing


WORDS = {
    "dx": "the spacing of its columns (dx)",
    "dy": "the spacing of its rows (dy)",
    "scale": "how much height a step of its numbers is (scale)",
    "unit": "its unit",
}


def map_of(foreign: Foreign, given: ImportSettings) -> HeightMap:
    """The height map of an image or a cloud. given: goes before what the file says.

    Raises `Unstated` where something is missing, and `HemtraError` where nothing can be made of it.
    """
    settings = given.over(foreign.says)
    if isinstance(foreign, Raster):
        return _of_raster(foreign, settings)
    return _of_cloud(foreign, settings)


def guessed(foreign: Foreign) -> ImportSettings:
    """Information in a file, and proposals for what it lacks."""
    says = foreign.says
    if isinstance(foreign, Raster):
        values = foreign.values
        whole = np.issubdtype(values.dtype, np.integer)
        proposal = ImportSettings(unit="um" if whole else "mm", dx=0.1, dy=0.1, scale=1.0, offset=0.0)
        if not whole:
            proposal = proposal.model_copy(update={"unit": _likely_unit(_span(values, says.no_data))})
        return says.over(proposal)
    unit = says.unit or _likely_unit(_span(foreign.points[:, 2], None))
    dx, dy = spacing_of(foreign.points[:, :2] * UNITS[unit])
    return says.over(ImportSettings(unit=unit, dx=dx, dy=dy, scale=1.0, offset=0.0, take="mean", level=False))


def _of_raster(raster: Raster, settings: ImportSettings) -> HeightMap:
    values = raster.values
    missing = [name for name in ("dx", "dy") if getattr(settings, name) is None]
    if np.issubdtype(values.dtype, np.integer) and settings.scale is None:
        missing.append("scale")
    heights = values.astype(np.float64)
    if settings.no_data is not None:
        heights[_is(values, settings.no_data)] = np.nan
    factor = _factor(heights, settings, missing)
    if missing or settings.dx is None or settings.dy is None:
        raise Unstated(tuple(missing))
    heights = heights * factor + (settings.offset or 0.0)
    grey = raster.intensity
    if settings.rows == "last":
        heights, grey = heights[::-1], None if grey is None else grey[::-1]
    return HeightMap(heights.astype(np.float32), grey, settings.dx, settings.dy)


def _of_cloud(cloud: PointCloud, settings: ImportSettings) -> HeightMap:
    missing: list[str] = []
    factor = _factor(cloud.points[:, 2], settings.model_copy(update={"scale": None}), missing)
    if missing:
        raise Unstated(tuple(missing))
    points = cloud.points * factor
    if settings.level:
        points = levelled(points)
    if (settings.scale or 1.0, settings.offset or 0.0) != (1.0, 0.0):
        points[:, 2] = points[:, 2] * (settings.scale or 1.0) + (settings.offset or 0.0)
    if settings.dx is None or settings.dy is None:
        dx, dy = spacing_of(points[:, :2])
    dx, dy = settings.dx or dx, settings.dy or dy
    z, grey, x0, y0 = gridded(points, cloud.intensity, (dx, dy), settings.take or "mean", MOST_POINTS)
    return HeightMap(z, grey, dx, dy, x0, y0)


def _factor(heights: FloatArray, settings: ImportSettings, missing: list[str]) -> float:
    """Size of a stored number, mm; a missing setting is added to a list."""
    scale = 1.0 if settings.scale is None else settings.scale
    if settings.unit is not None:
        return scale * UNITS[settings.unit]
    span = abs(scale) * _span(heights, None)
    if "scale" not in missing and not LIKELY[0] <= span <= LIKELY[1]:
        missing.append("unit")
    return scale


def _span(values: NDArray[Any], no_data: float | None) -> float:
    """From the lowest to the highest, but for the outermost hundredth of them."""
    some = values.ravel()[:: max(1, values.size // 100_000)].astype(np.float64)
    known = some[np.isfinite(some) & ~(_is(some, no_data) if no_data is not None else np.isnan(some))]
    if not known.size:
        raise HemtraError("it holds no heights")
    low, high = np.percentile(known, [1.0, 99.0])
    return float(high - low)


def _likely_unit(span: float) -> Unit:
    """The unit in which a part would be most like one: some millimetres high."""
    order: tuple[Unit, ...] = ("mm", "um", "m", "in")
    return next((unit for unit in order if LIKELY[0] <= span * UNITS[unit] <= LIKELY[1]), "mm")


def _is(values: NDArray[Any], no_data: float) -> NDArray[np.bool_]:
    """Mask of values equal to the no-data value, also as rounded to 32 bits."""
    if np.isnan(no_data):
        missing: NDArray[np.bool_] = np.isnan(values)
        return missing
    same: NDArray[np.bool_] = np.isin(values, (no_data, float(np.float32(no_data))))
    return same
