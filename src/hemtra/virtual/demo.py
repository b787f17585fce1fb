"""The demo: a station, a plan and a tray of parts whose truth is known."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Literal, TypeAlias

import numpy as np

from hemtra.core.evaluation.engine import Engine
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Characteristic, Follow, Plan, Step
from hemtra.core.plan.signals import Analogue, Digital
from hemtra.core.station.io_and_storage import IoBlock
from hemtra.core.station.mount import MountingPose, SensorMount
from hemtra.core.station.station import Station
from hemtra.core.station.travel import Travel, WheelEncoder
from hemtra.core.station.trigger_sources import Trigger
from hemtra.core.zones.zone import AnyZone, EllipseZone, PathZone, RectangleZone, RingZone
from hemtra.virtual.bead import BREAK
from hemtra.virtual.cover import BOSSES, HOLE_CLEAR, TOP_SEEN, Cover, make_cover
from hemtra.virtual.cover_kernels import BEAD_CORNER, BEAD_HALF_X, BEAD_HALF_Y, PLUG_EDGE
from hemtra.virtual.sensor import scan_part

STATION = Station(
    name="bench A",
    sensors=(SensorMount(model="Sim 130", stand_off=195.0),),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=2000, circumference=160.0), counts_per_profile=2, speed=250.0
    ),
    trigger=Trigger(distance=80.0, delay=50.0, length=140.0),
    io=IoBlock(host="127.0.0.1", port=5020, simulated=True, lost="continue"),
)
SIGNALS = (
    Digital(name="Reject gate", line=0, when="not_passed", delay=600.0, pulse=150.0),
    Digital(name="Part good", line=1, when="passes"),
    Digital(name="Check the bead", line=2, when="fails_18 or fails_19 or fails_20 or fails_21", unknown=False),
    Analogue(name="Hub height", line=0, balloon=6, low=7.85, high=8.15),
)
DOOR_STATION = Station(
    name="door bench",
    sensors=(
        SensorMount(
            model="Sim 130",
            stand_off=195.0,
            x=-55.0,
            hang=MountingPose(roll=0.4, pitch=0.15, yaw=-0.6, x=1.2, y=-0.8, z=0.35),
        ),
        SensorMount(
            model="Sim 130",
            stand_off=195.0,
            x=55.0,
            hang=MountingPose(roll=-0.7, pitch=-0.2, yaw=0.5, x=-0.9, y=1.1, z=-0.25),
        ),
    ),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=2000, circumference=160.0), counts_per_profile=2, speed=200.0
    ),
    trigger=Trigger(distance=80.0, delay=50.0, length=140.0),
)
"""Two sensors side by side that nobody has aligned yet, for the oven door frame."""
TAKEN = "2026-01-12T08:00:00+00:00"
"""When all demo scans say they were taken, so that they are the same every time."""
DATUM, FRAME = "plane-a", "frame-b"
SERIALS = "RPC-7 ######"
"""Pattern of a good part's marking: # is a digit."""
WITH_COVER = Follow(x="outline", y="outline", rotation="outline")
WITH_BOSSES = Follow(x=FRAME, y=FRAME, rotation=FRAME)
BOSS_NAMES = ("NE", "NW", "SW", "SE")


VIEW = (65.0, 69.0)
"""Half size along x and y of the demo station's scan at the height of the flange, mm."""
LARGEST_TILT = 2.0
"""Largest tilt of a tray part, degrees."""


@dataclass(frozen=True)
class DemoPart:
    """A part of the tray: straight and in place, or in any pose inside the view."""

    seed: int
    tag: Literal["good", "bad"]
    defects: Mapping[str, float | None]
    straight: bool = False

    @property
    def file(self) -> str:
        """Name of its scan file."""
        return f"cover-{self.seed:02d}.x3p"

    @property
    def cover(self) -> Cover:
        """The part itself."""
        cover = make_cover(self.seed, self.defects)
        straight = replace(cover.pose, x=0.0, y=0.0)
        return replace(cover, pose=straight if self.straight else self._pose(cover))

    def scan(self) -> Scan:
        """Its scan at the demo station."""
        return scan_part(self.cover, STATION, self.seed, taken=TAKEN, name=self.file)

    def _pose(self, cover: Cover) -> Frame:
        return random_pose(np.random.default_rng([self.seed, 77]), cover.size)


def random_pose(rng: np.random.Generator, size: tuple[float, float]) -> Frame:
    """Turned by any angle, anywhere that the view holds a cover of that size, tilted by up to 2°."""
    rotation, toward = rng.uniform(-180.0, 180.0), rng.uniform(0.0, 2 * np.pi)
    tilt = LARGEST_TILT * math.sqrt(rng.uniform())
    # a straight part's corners are rounded off by 12 mm; the rest turns
    reach = np.array([size[0] / 2 - 12.0, size[1] / 2 - 12.0])
    c, s = abs(math.cos(math.radians(rotation))), abs(math.sin(math.radians(rotation)))
    half = np.array([[c, s], [s, c]]) @ reach + 12.0
    x, y = rng.uniform(-1.0, 1.0, 2) * np.maximum(np.array(VIEW) - half, 0.0)
    return Frame(
        x=float(x),
        y=float(y),
        rotation=float(rotation),
        tilt_x=tilt * math.cos(toward),
        tilt_y=tilt * math.sin(toward),
    )


PARTS = (
    DemoPart(1, "good", {}, straight=True),
    DemoPart(2, "good", {}),
    DemoPart(3, "bad", {"boss-short": None}),
    DemoPart(4, "good", {}),
    DemoPart(5, "bad", {"hub-tilted": None}),
    DemoPart(6, "bad", {"pocket-shallow": None}),
    DemoPart(7, "good", {}),
    DemoPart(8, "bad", {"flange-warped": None}),
    DemoPart(9, "bad", {"bosses-uneven": None}),
    DemoPart(10, "bad", {"bore-off": None}),
    DemoPart(11, "bad", {"pitch-wide": None}),
    DemoPart(12, "bad", {"plug-proud": None}),
    DemoPart(13, "bad", {"flange-long": None}),
    DemoPart(14, "good", {"oil-film": 14.0}),
    DemoPart(15, "bad", {"bead-broken": None}),
    DemoPart(16, "bad", {"marking-missing": None}),
    DemoPart(17, "bad", {"hub-tilted": 0.7, "pocket-shallow": 0.2}),
    DemoPart(18, "bad", {"plug-missing": None}),
    DemoPart(19, "bad", {"bead-thin": None}),
    DemoPart(20, "bad", {"bore-wide": None}),
    DemoPart(21, "bad", {"bead-wandering": None}),
    DemoPart(22, "bad", {"rib-steep": None}),
    DemoPart(23, "bad", {"bead-fat": None}),
    DemoPart(24, "bad", {"bead-open": None}),
)
REFERENCE = PARTS[0]


@cache
def demo_plan() -> Plan:
    """The plan of the rain-pump cover, taught on the reference part."""
    return Engine(REFERENCE.scan().data).taught(drawn_plan())


def drawn_plan() -> Plan:
    """The plan of the rain-pump cover before anything is taught."""
    outline = Step(
        id="outline", name="Cover outline", kind="outline", zone=RectangleZone(x=0, y=0, width=126, height=86)
    )
    datum = _zoned(
        DATUM,
        "Plane A, flange",
        "plane",
        RectangleZone(x=0, y=0, width=100, height=60, cut=_features_of_the_flange()),
        trim=3,
        least_data=75,
    )
    groups = (
        _boss_heights(),
        _boss_places(),
        _hub(),
        _pocket(),
        _plug(),
        _flange(),
        _rib(),
        _bead(),
        _marking(),
    )
    glare = Step(id="glare", name="Glare", kind="glare")
    steps = [glare, outline, datum, *(step for group in groups for step in group[0])]
    sheet = sorted((row for group in groups for row in group[1]), key=lambda row: row.balloon)
    return Plan(
        name="rain-pump cover", steps=tuple(steps), sheet=tuple(sheet), prepared=glare.id, signals=SIGNALS
    )


def _features_of_the_flange() -> tuple[AnyZone, ...]:
    """Regions above or below the flange, with a margin, as it is cut out of the datum's zone."""
    bosses = [EllipseZone(x=x, y=y, width=13.4, height=13.4) for x, y in BOSSES]
    ribs = [RectangleZone(x=0, y=y, width=37.6, height=3.6) for y in (25.5, -25.5)]
    return (
        EllipseZone(x=0, y=0, width=39.6, height=39.6),
        RectangleZone(x=35, y=0, width=25.6, height=15.6),
        RectangleZone(x=-35, y=0, width=16.6, height=10.6),
        *bosses,
        *ribs,
    )


Group: TypeAlias = tuple[list[Step], list[Characteristic]]
"""Steps, and the rows of the sheet that come from them."""


def _boss_heights() -> Group:
    steps, sheet, tops = [], [], []
    for balloon, (name, (x, y)) in enumerate(zip(BOSS_NAMES, BOSSES, strict=True), start=1):
        stem = f"boss-{name.lower()}"
        top = RingZone(x=x, y=y, width=TOP_SEEN, height=TOP_SEEN, inner=HOLE_CLEAR / TOP_SEEN)
        spot = _zoned(f"{stem}-top", f"Boss {name} top", "spot", top)
        height = _step(stem, f"Boss {name} height", "height", point=(spot.id,), plane=(DATUM,))
        tops.append(spot.id)
        steps += [spot, height]
        sheet.append(_row(balloon, f"Boss {name}", height, nominal=4.0, lower=3.9, upper=4.1))
    coplanarity = _step("boss-coplanarity", "Boss coplanarity", "coplanarity", points=tuple(tops))
    return [*steps, coplanarity], [*sheet, _row(5, "Boss coplanarity", coplanarity, upper=0.08)]


def _boss_places() -> Group:
    rims = [
        _zoned(
            f"boss-{name.lower()}-rim",
            f"Boss {name} rim",
            "circle",
            RingZone(x=x, y=y, width=16, height=16, inner=0.55),
            wall="top",
        )
        for name, (x, y) in zip(BOSS_NAMES, BOSSES, strict=True)
    ]
    origin = _step("boss-centre", "Centre of the bosses", "mean-point", points=tuple(r.id for r in rims))
    axis = _step("boss-axis", "Axis of the bosses", "line-through", points=(rims[1].id, rims[0].id))
    frame = _step(
        FRAME, "Frame B of the bosses", "frame", origin=(origin.id,), towards=(axis.id,), plane=(DATUM,)
    )
    pitch = _step("boss-pitch", "Boss pitch", "distance", start=(rims[0].id,), end=(rims[1].id,))
    return [*rims, origin, axis, frame, pitch], [
        _row(10, "Boss pitch", pitch, nominal=84.0, lower=83.85, upper=84.15)
    ]


def _hub() -> Group:
    zone = RingZone(x=0, y=0, width=36, height=36, inner=0.62)
    top = _zoned("hub-top", "Hub top", "spot", zone)
    plane = _zoned("hub-plane", "Hub plane", "plane", zone)
    height = _step("hub-height", "Hub height", "height", point=(top.id,), plane=(DATUM,))
    tilt = _step("hub-tilt", "Hub tilt", "tilt", plane=(plane.id,), to=(DATUM,))
    ring = RingZone(x=0, y=0, width=26, height=26, inner=0.6)
    bore = _zoned("bore", "Bore rim", "circle", ring, change="rises", least_step=2, wall="top")
    diameter = _step("bore-diameter", "Bore diameter", "diameter", of=(bore.id,))
    place = _step("bore-position", "Bore position", "true-position", point=(bore.id,), frame=(FRAME,))
    rows = [
        _row(8, "Bore diameter", diameter, nominal=20.0, lower=19.9, upper=20.1),
        _row(9, "Bore position", place, upper=0.3),
        _row(6, "Hub height", height, nominal=8.0, lower=7.85, upper=8.15),
        _row(7, "Hub tilt", tilt, upper=0.5),
    ]
    return [top, height, plane, tilt, bore, diameter, place], rows


def _pocket() -> Group:
    beside = _zoned("pocket-rim", "Beside the pocket", "spot", EllipseZone(x=35, y=11.5, width=5, height=5))
    floor = _zoned("pocket-floor", "Pocket floor", "spot", RectangleZone(x=35, y=0.5, width=18, height=8))
    ends = {"upper": (beside.id,), "lower": (floor.id,), "plane": (DATUM,)}
    depth = _step("pocket-depth", "Pocket depth", "step", **ends)
    return [beside, floor, depth], [_row(11, "Pocket depth", depth, nominal=2.5, lower=2.45, upper=2.65)]


def _plug() -> Group:
    top = _zoned("plug-top", "Plug top", "spot", RectangleZone(x=-35, y=0, width=10, height=5))
    beside = _zoned("plug-beside", "Beside the plug", "spot", RectangleZone(x=-35, y=7.2, width=12, height=2.4))
    flush = _step("plug-flush", "Plug flush", "step", upper=(top.id,), lower=(beside.id,), plane=(DATUM,))
    cut = _zoned("plug-cut", "Cut through the plug", "section", RectangleZone(x=-35, y=0, width=20, height=4))
    sides = [
        Step(
            id=f"plug-{name}",
            name=f"{title} of the plug's gap",
            kind="profile-edge",
            params={"by": "data", "change": change, "radius": PLUG_EDGE},
            inputs={"section": (cut.id,)},
            zone=RectangleZone(x=x, y=0, width=5, height=8),
        )
        for name, title, change, x in (
            ("left", "Left side", "rises", -7.2),
            ("right", "Right side", "falls", 7.2),
            ("slot", "Slot side", "rises", 7.2),
        )
    ]
    left, right, slot = (side.id for side in sides)
    gap = _step("plug-gap", "Plug gap", "gap", left=(right,), right=(slot,), plane=(DATUM,))
    middle = _step("plug-middle", "Middle of the plug", "mean-point", points=(left, right))
    place = _step("plug-place", "Plug place", "position", point=(middle.id,), frame=(FRAME,))
    seat = Step(
        id="plug-seat",
        name="Plug seat",
        kind="island",
        params={"level": 0.08, "least_area": 60.0, "none": "zero"},
        zone=RectangleZone(x=-35, y=0, width=14.6, height=8.6),
        follow=WITH_COVER.edited(z=DATUM, tilt=DATUM),
    )
    seats = _step("plug-seats", "Plug seats present", "count", of=(seat.id,))
    rows = [
        _row(12, "Plug flush", flush, nominal=0.2, lower=0.05, upper=0.35),
        _row(13, "Plug gap", gap, nominal=0.5, lower=0.3, upper=0.7),
        _row(14, "Plug place", place, nominal=-35.0, lower=-35.3, upper=-34.7),
        _row(24, "Plug seats present", seats, nominal=1.0, lower=1.0, upper=1.0),
    ]
    return [top, beside, flush, cut, *sides, gap, middle, place, seat, seats], rows


def _rib() -> Group:
    """The draft of both ribs, on the flanks that face the camera when the part lies as it is drawn."""
    steps: list[Step] = []
    for name, y in (("N", 25.5 - 0.69), ("S", -25.5 - 0.69)):
        stem = f"rib-{name.lower()}"
        flank = Step(
            id=f"{stem}-flank",
            name=f"Flank of rib {name}",
            kind="plane",
            # between top and toe of the flank, a point of the map away from both
            zone=RectangleZone(x=0, y=y, width=30, height=0.42),
            follow=WITH_BOSSES,
            # half occluded it is mostly its toe
            params={"least_data": 60},
        )
        tilt = _step(f"{stem}-tilt", f"Tilt of rib {name}", "tilt", plane=(flank.id,), to=(DATUM,))
        steps += [flank, tilt]
    mean = Step(
        id="rib-draft",
        name="Rib draft",
        kind="formula",
        params={"text": "90 - (a + b) / 2"},
        inputs={"numbers": (steps[1].id, steps[3].id)},
    )
    return [*steps, mean], [_row(17, "Rib draft", mean, nominal=30.0, lower=28.0, upper=32.0)]


def _bead() -> Group:
    """The bead all round, from the middle of its near side on, counter-clockwise."""
    x, y, corner = BEAD_HALF_X, BEAD_HALF_Y, BEAD_CORNER
    places = np.array([(0.0, -y), (x, -y), (x, y), (-x, y), (-x, -y)])
    plain = PathZone.through(places)
    nodes = tuple(n.model_copy(update={"corner": corner if k else 0.0}) for k, n in enumerate(plain.nodes))
    path = Step(
        id="bead-path",
        name="Path of the bead",
        kind="path",
        zone=plain.model_copy(update={"nodes": nodes, "closed": True, "across": 9.0}),
        follow=WITH_BOSSES.edited(z=DATUM, tilt=DATUM),
    )
    bead = _step("bead", "Bead", "bead", path=(path.id,)).edited(params={"spacing": 0.4, "inner": 2.7})
    sizes = [
        _step(f"bead-{what}", f"Bead {what}", "along", of=(bead.id,)).edited(
            params={"what": what, "missing": BREAK}
        )
        for what in ("width", "height", "offset")
    ]
    rest = [
        _step(f"bead-{take}", f"Bead {take}", "continuity", of=(bead.id,)).edited(params={"take": take})
        for take in ("break", "volume")
    ]
    rows = [
        _row(18, "Bead width", sizes[0], nominal=3.0, lower=2.5, upper=3.5),
        _row(19, "Bead height", sizes[1], nominal=1.6, lower=1.3, upper=1.9),
        _row(20, "Bead offset", sizes[2], nominal=0.0, lower=-0.6, upper=0.6),
        _row(21, "Longest bead break", rest[0], upper=BREAK),
        _row(22, "Bead volume", rest[1], nominal=1050.0, lower=890.0, upper=1210.0),
    ]
    return [path, bead, *sizes, *rest], rows


def _marking() -> Group:
    code = _zoned(
        "marking", "Marking", "code", RectangleZone(x=-27, y=-18, width=12, height=12), symbology="data-matrix"
    )
    reads = Step(
        id="marking-reads",
        name="Marking reads",
        kind="code-reads",
        params={"expected": SERIALS},
        inputs={"of": (code.id,)},
    )
    return [code, reads], [_row(23, "Marking content", reads, lower=1.0)]


def _flange() -> Group:
    zones = {
        "N": RectangleZone(x=0, y=28.8, width=66, height=3.2),
        "S": RectangleZone(x=0, y=-28.8, width=66, height=3.2),
        "E": RectangleZone(x=49.7, y=0, width=2.0, height=28),
        "W": RectangleZone(x=-49.7, y=0, width=2.0, height=28),
    }
    surfaces = [
        _zoned(f"flange-{side.lower()}", f"Flange {side}", "plane", zone, trim=5)
        for side, zone in zones.items()
    ]
    ends = [
        _zoned(
            f"flange-end-{side.lower()}",
            f"Flange end {side}",
            "edge",
            RectangleZone(x=x, y=0, width=6, height=40),
            change=change,
            least_step=2,
            wall="top",
        )
        for side, x, change in (("E", 60, "falls"), ("W", -60, "rises"))
    ]
    flatness = _step("flange-flatness", "Flange flatness", "flatness", surfaces=tuple(s.id for s in surfaces))
    length = _step("flange-length", "Flange length", "distance", start=(ends[0].id,), end=(ends[1].id,))
    rows = [
        _row(15, "Flange flatness", flatness, upper=0.15),
        _row(16, "Flange length", length, nominal=120.0, lower=119.7, upper=120.3),
    ]
    return [*surfaces, flatness, *ends, length], rows


def truth(parts: tuple[DemoPart, ...] = PARTS) -> dict[str, dict[str, Any]]:
    """Truth by scan file: tag, failing balloons of the demo plan, and true values."""
    sheet, found = drawn_plan().sheet, {}
    for part in parts:
        values = part.cover.truth()
        fails = [c.balloon for c in sheet if not _within(c, values[c.balloon])]
        found[part.file] = {
            "tag": part.tag,
            "fails": fails,
            "stretches": {str(b): runs for b, runs in part.cover.bead.stretches().items()},
            "values": {
                str(balloon): None if isinstance(value, float) and math.isnan(value) else value
                for balloon, value in values.items()
            },
        }
    return found


def _within(row: Characteristic, value: float | str) -> bool:
    if isinstance(value, str):
        # a marking is right or missing
        return bool(value)
    return (row.lower is None or value >= row.lower) and (row.upper is None or value <= row.upper)


def _zoned(step_id: str, name: str, kind: str, zone: AnyZone, **params: Any) -> Step:
    """A feature whose zone moves with the cover's outline."""
    return Step(id=step_id, name=name, kind=kind, params=params, zone=zone, follow=WITH_COVER)


def _step(step_id: str, name: str, kind: str, **inputs: tuple[str, ...]) -> Step:
    return Step(id=step_id, name=name, kind=kind, inputs=inputs)


def _row(balloon: int, name: str, step: Step, **limits: float) -> Characteristic:
    return Characteristic(balloon=balloon, name=name, step=step.id, **limits)
