"""The rain-pump cover: individual parts with natural variation and defects, and the truth about each."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import zxingcpp

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.geometry.elements import LEVEL, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.virtual import cover_kernels as k
from hemtra.virtual.bead import Bead, BeadDefect
from hemtra.virtual.cover_kernels import flange_points
from hemtra.virtual.shapes import cover_shape

BELT = -6.0
"""z of the transport belt in mm; the flange is 6 mm thick."""
BOSSES = ((42.0, 22.0), (-42.0, 22.0), (-42.0, -22.0), (42.0, -22.0))
"""Nominal centres in balloon order 1 to 4."""
AT_REST = Frame()
DATUM_HALF = (50.0, 30.0)
"""Half size of the flange area that is datum A, mm."""
SPECKS = 14
TOP_SEEN, HOLE_CLEAR = 10.0, 6.8
"""Diameters between which the drawing requires coplanar boss tops, mm."""


@dataclass(frozen=True)
class Cover:
    """An individual cover, in mm and degrees, at `pose` on the belt."""

    serial: str = "000000"
    boss_heights: tuple[float, float, float, float] = (4.0, 4.0, 4.0, 4.0)
    boss_pitch: float = 84.0
    hub_height: float = 8.0
    hub_tilt: float = 0.0
    hub_tilt_toward: float = 0.0
    bore_diameter: float = 20.0
    bore_at: tuple[float, float] = (0.0, 0.0)
    pocket_depth: float = 2.5
    plug_flush: float = 0.2
    bow: float = 0.0
    length: float = 120.0
    bead: Bead = field(default_factory=Bead)
    rib_draft: float = 30.0
    marked: bool = True
    specks: FloatArray = field(default_factory=lambda: np.empty((0, 4)), compare=False)
    pose: Frame = AT_REST

    @property
    def size(self) -> tuple[float, float]:
        """Along x and along travel, in mm."""
        return self.length, 80.0

    @property
    def marking(self) -> str:
        """Content of its Data Matrix."""
        return f"RPC-7 {self.serial}"

    @property
    def has_plug(self) -> bool:
        """Whether the plug sits in its slot."""
        return self.plug_flush > -k.SLOT_DEPTH

    def shape(self) -> np.record:
        """The parameters of its surface."""
        slope_x, slope_y = self._hub_slopes()
        return cover_shape(
            boss_heights=self.boss_heights,
            boss_x=self.boss_pitch / 2,
            boss_y=22.0,
            hub_height=self.hub_height,
            hub_slope_x=slope_x,
            hub_slope_y=slope_y,
            bore_diameter=self.bore_diameter,
            bore_x=self.bore_at[0],
            bore_y=self.bore_at[1],
            pocket_depth=self.pocket_depth,
            plug_flush=self.plug_flush,
            bow=self.bow,
            length=self.length,
            bead=self.bead.table(),
            rib_draft=math.tan(math.radians(self.rib_draft)),
            specks=self.specks,
            print_=_data_matrix(self.marking) if self.marked else np.zeros((1, 1), np.uint8),
        )

    def truth(self) -> dict[int, float | str]:
        """The true value of every balloon of the sheet, from the same parameters that draw the surface."""
        datum, flatness = self._datum()
        bosses = [
            Point(x, y, height + self._bow_over_ring(x, k.BOSS_RADIUS, k.HOLE_RADIUS))
            for height, (x, y) in zip(self.boss_heights, BOSSES, strict=True)
        ]
        hub = Point(0.0, 0.0, self.hub_height + self._bow_over_ring(0.0, k.HUB_RADIUS, self.bore_diameter / 2))
        values: dict[int, float | str] = {
            balloon: datum.distance(boss) for balloon, boss in enumerate(bosses, start=1)
        }
        values |= {
            5: self._coplanarity(bosses),
            6: datum.distance(hub),
            7: self._hub_plane().angle_to(datum),
            8: self.bore_diameter,
            9: 2 * math.hypot(*self.bore_at),
            10: self.boss_pitch,
            11: self.pocket_depth,
            12: self.plug_flush,
            13: k.SLOT_HALF_X - k.PLUG_HALF_X if self.has_plug else math.nan,
            14: k.PLUG_X if self.has_plug else math.nan,
            15: flatness,
            16: self.length,
            17: self.rib_draft,
            **self.bead.truth(),
            23: self.marking if self.marked else "",
            24: 1.0 if self.has_plug else 0.0,
        }
        return values

    def _coplanarity(self, bosses: list[Point]) -> float:
        """Coplanarity of the tops about the plane through their means, highest minus lowest."""
        plane, _ = _fit([(b.x, b.y, b.z) for b in bosses])
        turns = np.linspace(0.0, 2 * math.pi, 48, endpoint=False)
        ring = np.concatenate([radius * np.exp(1j * turns) for radius in (TOP_SEEN / 2, HOLE_CLEAR / 2)])
        middles = np.array(BOSSES)[:, :, None]
        x, y = middles[:, 0] + ring.real, middles[:, 1] + ring.imag
        z = np.array(self.boss_heights)[:, None] + self.bow * x * x / 3600.0
        return float(np.ptp((z - plane.height_at(x, y)) * plane.normal[2]))

    def _bow_over_ring(self, x: float, outer: float, inner: float) -> float:
        """Mean of the bow over a ring about x: the mean of x² over a ring adds (R² + r²) / 4."""
        return self.bow * (x * x + (outer**2 + inner**2) / 4) / 3600.0

    def _hub_plane(self) -> Plane:
        return Plane(0.0, 0.0, self.hub_height, *self._hub_slopes())

    def _hub_slopes(self) -> tuple[float, float]:
        """Rise of the hub's face along x and y, mm per mm."""
        slope, toward = math.tan(math.radians(self.hub_tilt)), math.radians(self.hub_tilt_toward)
        return slope * math.cos(toward), slope * math.sin(toward)

    def _datum(self) -> tuple[Plane, float]:
        """Datum A, the least-squares plane of the bare flange in its area, and how flat that is."""
        if self.bow == 0.0:
            return LEVEL, 0.0
        shape = replace(self, specks=np.empty((0, 4))).shape()
        xs, ys = (np.linspace(-half, half, round(4 * half) + 1) for half in DATUM_HALF)
        return _fit(flange_points(xs, ys, shape.cover))


def _short_boss(cover: Cover, size: float) -> Cover:
    return replace(cover, boss_heights=(4.0 - size, *cover.boss_heights[1:]))


def _uneven_bosses(cover: Cover, size: float) -> Cover:
    """Two bosses across from each other higher, the other two lower."""
    a, b, c, d = cover.boss_heights
    return replace(cover, boss_heights=(a + size, b - size, c + size, d - size))


def _speck(x: float, y: float, reflectance: float) -> Callable[[Cover, float], Cover]:
    """A place of some diameter that is darker or shinier than it should be."""
    return lambda cover, size: replace(cover, specks=np.vstack([cover.specks, [x, y, size / 2, reflectance]]))


def _flawed(make: Callable[[float], BeadDefect]) -> Callable[[Cover, float], Cover]:
    return lambda cover, size: replace(cover, bead=cover.bead.with_flaw(make(size)))


def _posed(axis: str) -> Callable[[Cover, float], Cover]:
    return lambda cover, size: replace(cover, pose=replace(cover.pose, **{axis: size}))


@dataclass(frozen=True)
class Defect:
    """Defect of a part: how a size in `unit` changes it, and its default size."""

    apply: Callable[[Cover, float], Cover]
    size: float
    unit: str


DEFECTS: Mapping[str, Defect] = {
    "boss-short": Defect(_short_boss, 0.3, "mm"),
    "bosses-uneven": Defect(_uneven_bosses, 0.06, "mm"),
    "pitch-wide": Defect(lambda c, size: replace(c, boss_pitch=c.boss_pitch + size), 0.3, "mm"),
    "flange-long": Defect(lambda c, size: replace(c, length=c.length + size), 0.5, "mm"),
    "hub-tilted": Defect(lambda c, size: replace(c, hub_tilt=size), 0.9, "°"),
    "pocket-shallow": Defect(lambda c, size: replace(c, pocket_depth=2.5 - size), 0.3, "mm"),
    "bore-off": Defect(lambda c, size: replace(c, bore_at=(c.bore_at[0] + size, c.bore_at[1])), 0.25, "mm"),
    "bore-wide": Defect(lambda c, size: replace(c, bore_diameter=c.bore_diameter + size), 0.25, "mm"),
    "plug-proud": Defect(lambda c, size: replace(c, plug_flush=c.plug_flush + size), 0.3, "mm"),
    "plug-missing": Defect(lambda c, _: replace(c, plug_flush=-k.SLOT_DEPTH), 1.0, ""),
    "rib-steep": Defect(lambda c, size: replace(c, rib_draft=c.rib_draft - size), 5.0, "°"),
    "marking-missing": Defect(lambda c, _: replace(c, marked=False), 1.0, ""),
    "flange-warped": Defect(lambda c, size: replace(c, bow=size), 0.26, "mm"),
    "bead-broken": Defect(_flawed(lambda size: BeadDefect(130.0, size, broken=True)), 4.0, "mm"),
    "bead-thin": Defect(_flawed(lambda size: BeadDefect(200.0, 30.0, width=-size)), 0.9, "mm"),
    "bead-fat": Defect(_flawed(lambda size: BeadDefect(60.0, 26.0, width=size, height=size / 2)), 0.9, "mm"),
    "bead-wandering": Defect(_flawed(lambda size: BeadDefect(250.0, 36.0, offset=size)), 1.0, "mm"),
    "bead-open": Defect(_flawed(lambda size: BeadDefect(0.0, size, broken=True)), 5.0, "mm"),
    "oil-film": Defect(_speck(-12.0, 20.5, 0.03), 30.0, "mm"),
    "shiny-hub": Defect(_speck(0.0, 0.0, 5.0), 40.0, "mm"),
    "shifted-x": Defect(_posed("x"), 3.0, "mm"),
    "shifted-y": Defect(_posed("y"), 3.0, "mm"),
    "rotated": Defect(_posed("rotation"), 9.0, "°"),
    "tilted": Defect(_posed("tilt_x"), 1.0, "°"),
}
LARGEST_DEFECT = 400.0


def make_cover(seed: int, defects: Mapping[str, float | None] | None = None) -> Cover:
    """A cover with the variation of good production, then the defects named, with their sizes or usual ones.

    Raises `HemtraError` for a defect that does not exist or a size that makes no sense.
    """
    rng = np.random.default_rng(seed)

    def vary(nominal: float, sigma: float) -> float:
        return float(nominal + sigma * np.clip(rng.standard_normal(), -2.5, 2.5))

    cover = Cover(
        serial=f"{seed:06d}",
        boss_heights=(vary(4.0, 0.015), vary(4.0, 0.015), vary(4.0, 0.015), vary(4.0, 0.015)),
        boss_pitch=vary(84.0, 0.02),
        hub_height=vary(8.0, 0.025),
        hub_tilt=abs(vary(0.0, 0.06)),
        hub_tilt_toward=float(rng.uniform(0, 360)),
        bore_diameter=vary(20.0, 0.015),
        bore_at=(vary(0.0, 0.02), vary(0.0, 0.02)),
        pocket_depth=vary(2.53, 0.015),
        plug_flush=vary(0.2, 0.03),
        bow=vary(0.03, 0.01),
        length=vary(120.0, 0.04),
        bead=Bead(vary(3.0, 0.06), vary(1.6, 0.04), waves=seed),
        specks=_specks(rng),
        pose=Frame(
            x=float(rng.uniform(-0.4, 0.4)),
            y=float(rng.uniform(-0.4, 0.4)),
            tilt_x=float(rng.uniform(-0.12, 0.12)),
            tilt_y=float(rng.uniform(-0.12, 0.12)),
        ),
        rib_draft=vary(30.0, 0.3),
    )
    for name, size in (defects or {}).items():
        if name not in DEFECTS:
            raise HemtraError(f"There is no defect “{name}”; there are {', '.join(DEFECTS)}.")
        size = DEFECTS[name].size if size is None else size
        if not math.isfinite(size) or abs(size) > LARGEST_DEFECT:
            raise HemtraError(f"The size {size} of the defect “{name}” makes no sense.")
        cover = DEFECTS[name].apply(cover, size)
    return cover


def parse_defect(text: str) -> tuple[str, float | None]:
    """A defect as written on a command line: NAME or NAME=SIZE. Raises `HemtraError`."""
    name, _, size = text.partition("=")
    try:
        return name, float(size) if size else None
    except ValueError:
        raise HemtraError(f"“{size}” is not a size; write the defect as {name}=0.3.") from None


def _specks(rng: np.random.Generator) -> FloatArray:
    """Small dark and shiny places, half of each."""
    place = rng.uniform([-58.0, -38.0], [58.0, 38.0], (SPECKS, 2))
    radius = rng.uniform(0.25, 0.7, SPECKS)
    reflectance = np.where(np.arange(SPECKS) % 2 == 0, 0.02, 6.0)
    return np.column_stack([place, radius, reflectance])


def _data_matrix(text: str) -> ByteArray:
    barcode = zxingcpp.create_barcode(text, zxingcpp.BarcodeFormat.DataMatrix, forceSquare=True)
    image = np.array(barcode.to_image(scale=1, add_quiet_zones=False))
    return np.ascontiguousarray(image < 128, dtype=np.uint8)


def _fit(points: list[tuple[float, float, float]] | FloatArray) -> tuple[Plane, float]:
    """The least-squares plane of points, and the range of perpendicular deviations from it."""
    middle = np.mean(points, axis=0)
    u, v, w = (np.array(points) - middle).T
    slopes, *_ = np.linalg.lstsq(np.column_stack([u, v]), w, rcond=None)
    x, y, z = (float(m) for m in middle)
    plane = Plane(x, y, z, float(slopes[0]), float(slopes[1]))
    left = (w - slopes[0] * u - slopes[1] * v) * plane.normal[2]
    return plane, float(np.ptp(left))
