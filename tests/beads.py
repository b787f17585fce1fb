"""Analytic beads round a part: what is measured on them, minus what is true."""

from __future__ import annotations

import math

import numpy as np

from hemtra import HeightMap
from hemtra.core.characteristics.continuity import ContinuityKind
from hemtra.core.features.along_path import Along
from hemtra.core.features.bead import BeadKind
from hemtra.core.features.path import Path, PathKind
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import PathZone
from kind_cases import NOISE, QUANTUM

PITCH = 0.11
WIDTH, HEIGHT = 3.0, 1.6
HALF_X, HALF_Y, CORNER = 20.0, 12.0, 6.0
LENGTH = 4 * (HALF_X + HALF_Y) - (8 - 2 * math.pi) * CORNER
SHAPES = ("dome", "flat-topped", "leaning")
BASES = {"tilted": "line", "stepped": "step", "curved": "curve"}
AREAS = {"dome": 2 / 3 * WIDTH * HEIGHT, "flat-topped": 0.8 * WIDTH * HEIGHT, "leaning": 2 / 3 * WIDTH * HEIGHT}
BOUNDS = {"width": 0.05, "height": 0.005, "area": 0.0005, "offset": 0.02, "volume": 0.0005}
"""What may be off: mm, mm, share, mm, share."""


def grid(pitch=PITCH):
    """x and y of the points of a map that holds the part in any turn."""
    half = round(29.0 / pitch)
    return np.meshgrid(pitch * np.arange(-half, half + 1), pitch * np.arange(-half, half + 1))


def off_path(x, y):
    """mm outside the path, negative inside."""
    qx, qy = np.abs(x) - HALF_X + CORNER, np.abs(y) - HALF_Y + CORNER
    inner = (qx <= 0) | (qy <= 0)
    return np.where(inner, np.maximum(qx, qy), np.hypot(qx, qy)) - CORNER


def cross_section(shape, d, width=WIDTH, height=HEIGHT):
    """Height above the base, d mm to the right of the middle between the feet."""
    t = 2.0 * d / width
    if shape == "flat-topped":
        return height * np.clip((1.0 - np.abs(t)) / 0.4, 0.0, 1.0)
    if shape == "leaning":
        crest = 1 / 3
        t = (t - crest) / np.where(t < crest, 1.0 + crest, 1.0 - crest)
    return height * np.maximum(1.0 - t * t, 0.0)


def ground(base, d, width=WIDTH):
    """Height of the base: a step of 0.4 mm goes from toe to toe, a curve has 60 mm of radius."""
    if base == "stepped":
        return 0.4 * np.clip(0.5 - d / width, 0.0, 1.0)
    return -d * d / 120.0 if base == "curved" else 0.0 * d


def bead_map(rng, shape="dome", base="tilted", noise=1.0, *, pitch=PITCH, change=None):
    """The part somewhere on a map, with the zone of its path; `change` makes (z) of (d, x, y) besides."""
    x, y, turn = rng.uniform(-2, 2), rng.uniform(-2, 2), rng.uniform(-180, 180)
    gx, gy = grid(pitch)
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    u, v = c * (gx - x) + s * (gy - y), c * (gy - y) - s * (gx - x)
    d = off_path(u, v)
    z = cross_section(shape, d) + ground(base, d)
    if change is not None:
        z = change(z, d, u, v)
    slopes = np.tan(np.radians(rng.uniform(-2, 2, 2))) if base == "tilted" else (0.0, 0.0)
    z = z + slopes[0] * gx + slopes[1] * gy
    if noise:
        z = np.round((z + noise * NOISE * rng.standard_normal(z.shape)) / QUANTUM) * QUANTUM
    data = HeightMap(np.asarray(z, np.float32), dx=pitch, dy=pitch, x0=float(gx[0, 0]), y0=float(gy[0, 0]))
    return data, path_zone().model_copy(update={"x": x, "y": y, "rotation": turn})


def path_zone(across=9.0) -> PathZone:
    """Round the part from the middle of its near side, counter-clockwise."""
    x, y = HALF_X, HALF_Y
    plain = PathZone.through(np.array([(0.0, -y), (x, -y), (x, y), (-x, y), (-x, -y)]))
    nodes = tuple(n.model_copy(update={"corner": CORNER if k else 0.0}) for k, n in enumerate(plain.nodes))
    return plain.model_copy(update={"nodes": nodes, "closed": True, "across": across})


def path_on(data, zone) -> Path:
    """The path as the data gives it."""
    return PathKind().evaluate(StepContext(data, zone)).value


def along(data, zone, kind=None, **params) -> Along:
    """What a kind along the path measures."""
    kind = kind or BeadKind(**params)
    return kind.evaluate(StepContext(data, None, {"path": (path_on(data, zone),)})).value


def outcome(kind, found: Along):
    """What a characteristic makes of what was measured along a path."""
    return kind.evaluate(StepContext(HeightMap(np.zeros((2, 2))), None, {"of": (found,)}))


def taken(kind, found: Along):
    """The value of that."""
    return outcome(kind, found).value


def errors(rng, shape, base, noise) -> dict[str, float]:
    """By size, the mean along the path minus the truth; of area and volume as a share of it."""
    data, zone = bead_map(rng, shape, base, noise)
    found = along(data, zone, base=BASES[base])
    off = {name: float(np.nanmean(found.values(name))) for name in ("width", "height", "area", "offset")}
    off["width"] -= WIDTH
    off["height"] -= HEIGHT
    off["area"] = off["area"] / AREAS[shape] - 1.0
    off["volume"] = taken(ContinuityKind(take="volume"), found).value / (AREAS[shape] * LENGTH) - 1.0
    return off
