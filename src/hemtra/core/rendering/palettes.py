"""Colours for heights and deviations, for screens and pages."""

from __future__ import annotations

from functools import cache

import numpy as np

from hemtra.core.arrays import ByteArray, FloatArray


@cache
def height_palette() -> ByteArray:
    """(256, 3) uint8, perceptually uniform: lightness in Oklab rises evenly from deep spruce to pale copper."""
    t = np.linspace(0.0, 1.0, 256)
    lightness = 0.25 + 0.66 * t
    hue = np.radians(np.interp(t, [0.0, 0.45, 0.7, 1.0], [235.0, 178.0, 105.0, 78.0]))
    chroma = np.interp(t, [0.0, 0.25, 0.6, 1.0], [0.055, 0.07, 0.085, 0.10])
    return _oklab_to_bytes(lightness, chroma * np.cos(hue), chroma * np.sin(hue))


@cache
def grey_palette() -> ByteArray:
    """(256, 3) uint8, from dark to light."""
    return np.repeat(np.linspace(28, 238, 256).astype(np.uint8)[:, None], 3, axis=1)


@cache
def deviation_palette() -> ByteArray:
    """(256, 3) uint8, diverging: anchor blue below, paper in the middle, copper above."""
    t = np.linspace(-1.0, 1.0, 256)
    hue = np.radians(np.where(t < 0, 255.0, 50.0))
    chroma = 0.13 * np.abs(t)
    return _oklab_to_bytes(0.96 - 0.40 * np.abs(t), chroma * np.cos(hue), chroma * np.sin(hue))


def _oklab_to_bytes(lightness: FloatArray, a: FloatArray, b: FloatArray) -> ByteArray:
    """Oklab to sRGB (Ottosson 2020)."""
    long = (lightness + 0.3963377774 * a + 0.2158037573 * b) ** 3
    medium = (lightness - 0.1055613458 * a - 0.0638541728 * b) ** 3
    short = (lightness - 0.0894841775 * a - 1.2914855480 * b) ** 3
    linear = np.stack(
        [
            4.0767416621 * long - 3.3077115913 * medium + 0.2309699292 * short,
            -1.2684380046 * long + 2.6097574011 * medium - 0.3413193965 * short,
            -0.0041960863 * long - 0.7034186147 * medium + 1.7076147010 * short,
        ],
        axis=1,
    ).clip(0.0, 1.0)
    encoded = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
    return np.ascontiguousarray((encoded * 255 + 0.5).astype(np.uint8))
