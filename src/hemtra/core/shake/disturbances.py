"""Disturbances of a scan of an unchanged part: each makes a worse copy.

Amounts rise from hardly anything to more than a line should ever see. A new disturbance is one more function
with its line in `DISTURBANCES`.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.noise import noise_of
from hemtra.core.shake.turning import turned

SPOT_HEIGHT = 0.15
"""Height of a spot of dirt, mm."""
SPIKE = 2.0
"""Largest height of a spike, mm."""
RIPPLE_LENGTH = 25.0
"""Travel over which the speed oscillates once, mm."""


@dataclass(frozen=True)
class Disturbance:
    """amounts: in `unit`, the smallest first. copied: makes a copy of a map, worse by an amount; None where
    the part has to be simulated anew.

    must_fail: whether what it shows is another part, which must not pass.
    """

    title: str
    unit: str
    amounts: tuple[float, ...]
    copied: Callable[[HeightMap, float, np.random.Generator], HeightMap] | None
    must_fail: bool = False


def _with(data: HeightMap, z: FloatArray) -> HeightMap:
    """The map with other heights."""
    g = data.grid
    return HeightMap(np.asarray(z, np.float32), data.intensity, g.dx, g.dy, g.x0, g.y0)


def _places(data: HeightMap) -> tuple[FloatArray, FloatArray]:
    """x (1, cols) and y (rows, 1) in mm from the middle of a map."""
    x, y = data.x - (data.x[0] + data.x[-1]) / 2, data.y - (data.y[0] + data.y[-1]) / 2
    return x[None, :], y[:, None]


def _on_part(data: HeightMap, rng: np.random.Generator) -> tuple[float, float]:
    """A random place in mm from the middle that holds data, above the lowest of it."""
    x, y = _places(data)
    ground = np.nanmin(data.z) + 1.0 if not np.isnan(data.z).all() else 0.0
    rows, cols = np.nonzero(data.z > ground)
    if not rows.size:
        return 0.0, 0.0
    k = rng.integers(rows.size)
    return float(x[0, cols[k]]), float(y[rows[k], 0])


def _moved(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    g, turn = data.grid, rng.uniform(0.0, 2.0 * math.pi)
    x0, y0 = g.x0 + amount * math.cos(turn), g.y0 + amount * math.sin(turn)
    return HeightMap(data.z, data.intensity, g.dx, g.dy, x0, y0)


def _turned(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    return turned(data, amount * float(rng.choice((-1.0, 1.0))))


def _tilted(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    x, y = _places(data)
    turn, climb = rng.uniform(0.0, 2.0 * math.pi), math.tan(math.radians(amount))
    return _with(data, data.z + climb * (x * math.cos(turn) + y * math.sin(turn)))


def _mirrored(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    g = data.grid
    grey = None if data.intensity is None else np.ascontiguousarray(data.intensity[:, ::-1])
    return HeightMap(np.ascontiguousarray(data.z[:, ::-1]), grey, g.dx, g.dy, g.x0, g.y0)


def _noised(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    # noise adds as squares: what is missing to so many times as much
    level = noise_of(data).level * math.sqrt(amount * amount - 1.0)
    return _with(data, data.z + level * rng.standard_normal(data.shape, np.float32))


def _dropouts(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    return _without(data, rng.random(data.shape, np.float32) < amount / 100.0)


def _shadow(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    x, y = _places(data)
    (at_x, at_y), turn = _on_part(data, rng), rng.uniform(0.0, math.pi)
    off = (x - at_x) * math.cos(turn) + (y - at_y) * math.sin(turn)
    return _without(data, np.abs(off) < amount / 2)


def _corner(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    """Object that reaches over the edge of the view, in distances from one of its corners along both sides."""
    x, y = _places(data)
    side_x, side_y = rng.choice((-1.0, 1.0), 2)
    return _without(data, (side_x * x > x[0, -1] - amount) & (side_y * y > y[-1, 0] - amount))


def _spikes(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    hit = rng.random(data.shape, np.float32) < amount / 100.0
    return _with(data, data.z + np.where(hit, rng.uniform(-SPIKE, SPIKE, data.shape), 0.0))


def _dirt(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    """Make a spot of the given radius, round at its edge."""
    x, y = _places(data)
    at_x, at_y = _on_part(data, rng)
    away = np.hypot(x - at_x, y - at_y) / amount
    return _with(data, data.z + SPOT_HEIGHT * np.sqrt(np.maximum(1.0 - away**2, 0.0)))


def _ripple(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    """Rows that lie up to so far from where the encoder says."""
    g, phase = data.grid, rng.uniform(0.0, 2.0 * math.pi)
    way = g.dy * np.arange(data.shape[0])
    true = way + amount * np.sin(2.0 * math.pi * way / RIPPLE_LENGTH + phase)
    rows = np.clip(np.round(true / g.dy).astype(int), 0, data.shape[0] - 1)
    grey = None if data.intensity is None else data.intensity[rows]
    return HeightMap(data.z[rows], grey, g.dx, g.dy, g.x0, g.y0)


def _brighter(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    if data.intensity is None:
        return data
    g, grey = data.grid, np.clip(np.round(data.intensity * amount), 0, 255).astype(np.uint8)
    return HeightMap(data.z, grey, g.dx, g.dy, g.x0, g.y0)


def _coarser(data: HeightMap, amount: float, rng: np.random.Generator) -> HeightMap:
    every = int(amount)
    i, j = rng.integers(0, every, 2)
    g = data.grid
    grey = None if data.intensity is None else np.ascontiguousarray(data.intensity[i::every, j::every])
    z = np.ascontiguousarray(data.z[i::every, j::every])
    return HeightMap(z, grey, every * g.dx, every * g.dy, g.x0 + j * g.dx, g.y0 + i * g.dy)


def _without(data: HeightMap, gone: BoolArray) -> HeightMap:
    return _with(data, np.where(gone, np.float32(np.nan), data.z))


DISTURBANCES: dict[str, Disturbance] = {
    "moved": Disturbance("moved", "mm", (1.0, 5.0, 20.0, 100.0), _moved),
    "turned": Disturbance("turned", "°", (1.0, 7.0, 45.0, 90.0, 173.0), _turned),
    "tilted": Disturbance("tilted", "°", (0.5, 1.0, 2.0, 3.0), _tilted),
    "mirrored": Disturbance("mirrored", "", (1.0,), _mirrored, must_fail=True),
    "noise": Disturbance("noise", "times", (1.5, 2.0, 4.0, 8.0), _noised),
    "dropouts": Disturbance("dropouts", "%", (1.0, 3.0, 10.0, 30.0), _dropouts),
    "shadow": Disturbance("shadow", "mm", (0.3, 1.0, 3.0, 8.0), _shadow),
    "corner": Disturbance("corner out of view", "mm", (5.0, 10.0, 20.0, 40.0), _corner),
    "spikes": Disturbance("spikes", "%", (0.01, 0.1, 0.3, 1.0), _spikes),
    "dirt": Disturbance("spot of dirt, radius", "mm", (0.2, 0.5, 1.0, 2.0), _dirt),
    "ripple": Disturbance("speed ripple", "mm", (0.05, 0.1, 0.2, 0.5), _ripple),
    "darker": Disturbance("darker", "times", (0.8, 0.6, 0.4, 0.25), _brighter),
    "brighter": Disturbance("brighter", "times", (1.2, 1.5, 2.0, 3.0), _brighter),
    "coarser": Disturbance("coarser spacing", "times", (2.0, 3.0), _coarser),
    "simulated": Disturbance("simulated anew, tilted by", "°", (0.0, 1.0, 2.0, 3.0), None),
}
