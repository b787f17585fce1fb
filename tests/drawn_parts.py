"""Two made-up parts with the lists of their drawings, whose rows name no direction and no place.

For each row of a list: its unit, and which options with which values and middles of what is measured are right.
"""

from __future__ import annotations

import numpy as np

from hemtra import HeightMap

PITCH = 0.1
X, Y = np.meshgrid(-48 + PITCH * np.arange(961), -33 + PITCH * np.arange(661))
BELT = -8.0


def _plate(width: float, length: float) -> np.ndarray:
    return np.where((np.abs(X) < width / 2) & (np.abs(Y) < length / 2), 0.0, BELT)


def _disc(z: np.ndarray, x: float, y: float, diameter: float, height: float) -> np.ndarray:
    return np.where(np.hypot(X - x, Y - y) < diameter / 2, height, z)


def _block(z: np.ndarray, x: float, y: float, width: float, length: float, height: float) -> np.ndarray:
    return np.where((np.abs(X - x) < width / 2) & (np.abs(Y - y) < length / 2), height, z)


def _scanned(z: np.ndarray, seed: int) -> HeightMap:
    z = z + np.random.default_rng(seed).normal(0.0, 0.003, z.shape)
    return HeightMap(z, dx=PITCH, dy=PITCH, x0=-48, y0=-33)


def bracket() -> HeightMap:
    """A plate of 80 x 50 mm with two holes, a pad, a tall block and a pocket."""
    z = _plate(80, 50)
    z = _block(z, -24, 12, 20, 12, 3.0)
    z = _block(z, 26, 14, 8, 14, 7.5)
    z = _block(z, 22, -12, 24, 14, -1.5)
    for x in (-30, 0):
        z = _disc(z, x, -14, 6.0, BELT)
    return _scanned(z, 1)


def lid() -> HeightMap:
    """A plate of 90 x 60 mm with a large and four small studs, and one large hole."""
    z = _plate(90, 60)
    for x in (-36, 36):
        for y in (-22, 22):
            z = _disc(z, x, y, 7.0, 2.2)
    z = _disc(z, -14, 0, 16.0, 5.0)
    z = _disc(z, 16, 0, 22.0, BELT)
    return _scanned(z, 2)


BRACKET = """balloon,name,nominal,lower,upper,unit
1,Overall length,80,79.7,80.3,mm
2,Overall width,50,49.7,50.3,mm
3,Pad height,3,2.9,3.1,mm
4,Block height,7.5,7.4,7.6,mm
5,Pocket depth,1.5,1.4,1.6,mm
6,Hole pitch,30,29.9,30.1,mm
7,Hole diameter,6,5.8,6.2,mm
8,Pad flatness,,,0.05,mm
9,Base flatness,,,0.05,mm
10,Pocket tilt,,,0.3,°
"""
BRACKET_TRUTH = {
    1: ("distance", (0, 0)),
    2: ("distance", (0, 0)),
    3: ("height step flush", (-24, 12)),
    4: ("height step flush", (26, 14)),
    5: ("step flush", (22, -12)),
    6: ("distance", (-15, -14)),
    7: ("diameter", None),
    8: ("flatness", (-24, 12)),
    9: ("flatness", (0, 0)),
    10: ("tilt", (22, -12)),
}
LID = """Nr;Benennung;Soll;Abmass +;Abmass -;Einheit
11;Stud coplanarity;;0,08;;mm
12;Hub height;5,0;0,1;-0,1;mm
13;Hub diameter;16,0;0,2;-0,2;mm
14;Bore diameter;22,0;0,2;-0,2;mm
15;Bore position;;0,5;;mm
16;Length;90;0,3;-0,3;mm
17;Width;60;0,3;-0,3;mm
18;Stud spacing;72;0,2;-0,2;mm
19;Stud spacing across;44;0,2;-0,2;mm
20;Stud height;2,2;0,1;-0,1;mm
"""
LID_COLUMNS = {"balloon": 0, "name": 1, "nominal": 2, "plus": 3, "minus": 4, "unit": 5}
LID_TRUTH = {
    11: ("coplanarity", (0, 0)),
    12: ("height step flush", (-14, 0)),
    13: ("diameter", (-14, 0)),
    14: ("diameter", (16, 0)),
    15: ("true-position", (16, 0)),
    16: ("distance", (0, 0)),
    17: ("distance", (0, 0)),
    18: ("distance", None),
    19: ("distance", None),
    20: ("height step flush", None),
}
