"""Small surfaces and plans whose truth can be derived by hand."""

from __future__ import annotations

import random

import numpy as np

from hemtra import Characteristic, HeightMap, Plan, Step
from hemtra.core.zones.zone import RectangleZone


def sloped(rows=60, cols=80, slope_x=0.0, slope_y=0.0, z0=0.0, dx=0.1, dy=0.2, noise=0.0, seed=0) -> HeightMap:
    """z = z0 + slope_x x + slope_y y about the middle of the map, in mm."""
    x0, y0 = -(cols - 1) / 2 * dx, -(rows - 1) / 2 * dy
    x, y = x0 + dx * np.arange(cols), y0 + dy * np.arange(rows)
    z = z0 + slope_x * x + slope_y * y[:, None]
    z = z + noise * np.random.default_rng(seed).standard_normal(z.shape)
    return HeightMap(z, dx=dx, dy=dy, x0=x0, y0=y0)


def edited(data: HeightMap, change) -> HeightMap:
    """A copy whose heights went through `change(z, x, y)`; x (1, cols) and y (rows, 1) in mm."""
    z = np.array(data.z, dtype=np.float64)
    change(z, data.x[None, :] + 0 * z, data.y[:, None] + 0 * z)
    g = data.grid
    return HeightMap(z, data.intensity, g.dx, g.dy, g.x0, g.y0)


def box(x=0.0, y=0.0, width=4.0, height=4.0, rotation=0.0) -> RectangleZone:
    return RectangleZone(x=x, y=y, width=width, height=height, rotation=rotation)


def step_plan(upper=(1.0, 0.0), lower=(-1.0, 0.0), **limits: float) -> Plan:
    """Two spots and the step between them as balloon 1."""
    steps = (
        Step(id="up", name="Up", kind="spot", zone=box(*upper, 1, 1)),
        Step(id="down", name="Down", kind="spot", zone=box(*lower, 1, 1)),
        Step(id="rise", name="Rise", kind="step", inputs={"upper": ("up",), "lower": ("down",)}),
    )
    row = Characteristic(balloon=1, name="Rise", step="rise", **(limits or {"lower": -1.0, "upper": 1.0}))
    return Plan(name="steps", steps=steps, sheet=(row,))


def levels(**row) -> Plan:
    """The step between two spots of a level surface, 0 ±0.1 unless told."""
    plan = step_plan()
    limits = {"nominal": 0.0, "lower": -0.1, "upper": 0.1, **row}
    return plan.with_characteristic(plan.sheet[0].edited(**limits))


def mutated(raw: bytes, rng: random.Random) -> bytes:
    """With a few bytes changed, a piece cut out, or one put in."""
    found = bytearray(raw)
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(max(len(found), 1))
        match rng.randrange(5):
            case 0 | 1:
                found[at : at + 1] = bytes([rng.randrange(256)])
            case 2:
                del found[at : at + rng.randint(1, 64)]
            case 3:
                found[at:at] = rng.randbytes(rng.randint(1, 32))
            case 4:
                found[at:at] = found[at : at + rng.randint(1, 400)] * rng.randint(1, 3)
    return bytes(found)
