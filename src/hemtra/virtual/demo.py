"""The demo: a station, a plan and a tray of parts whose truth is known."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.scan.scan import Scan
from hemtra.core.scan.zones import EllipseZone, RectangleZone
from hemtra.core.station.mount import Hang, SensorMount
from hemtra.core.station.starts import Trigger
from hemtra.core.station.station import Station
from hemtra.core.station.travel import Travel, WheelEncoder
from hemtra.virtual.cover import BOSSES, Cover, make_cover
from hemtra.virtual.sensor import scan_part

STATION = Station(
    name="bench A",
    sensors=(SensorMount(model="Sim 130", stand_off=195.0),),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=2000, circumference=160.0), counts_per_profile=2, speed=250.0
    ),
    trigger=Trigger(distance=80.0, delay=50.0, length=140.0),
)
DOOR_STATION = Station(
    name="door bench",
    sensors=(
        SensorMount(
            model="Sim 130",
            stand_off=195.0,
            x=-55.0,
            hang=Hang(roll=0.4, pitch=0.15, yaw=-0.6, x=1.2, y=-0.8, z=0.35),
        ),
        SensorMount(
            model="Sim 130",
            stand_off=195.0,
            x=55.0,
            hang=Hang(roll=-0.7, pitch=-0.2, yaw=0.5, x=-0.9, y=1.1, z=-0.25),
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
BOSS_NAMES = ("NE", "NW", "SW", "SE")


@dataclass(frozen=True)
class DemoPart:
    """One part of the tray."""

    seed: int
    tag: Literal["good", "bad"]
    defects: Mapping[str, float | None]

    @property
    def file(self) -> str:
        """Name of its scan file."""
        return f"cover-{self.seed:02d}.x3p"

    @property
    def cover(self) -> Cover:
        """The part itself."""
        return make_cover(self.seed, self.defects)

    def scan(self) -> Scan:
        """Its scan at the demo station."""
        return scan_part(self.cover, STATION, self.seed, taken=TAKEN, name=self.file)


PARTS = (
    DemoPart(1, "good", {}),
    DemoPart(2, "good", {}),
    DemoPart(3, "bad", {"boss-short": None}),
    DemoPart(4, "good", {}),
    DemoPart(5, "bad", {"hub-tilted": None}),
    DemoPart(6, "bad", {"pocket-shallow": None}),
    DemoPart(7, "good", {}),
    DemoPart(8, "bad", {"flange-warped": None}),
)
REFERENCE = PARTS[0]


def demo_plan() -> Plan:
    """The plan of the rain-pump cover: balloons 1-4, 6, 7, 11 and 15."""
    datum = Step(
        id="plane-a",
        name="Plane A, flange",
        kind="plane",
        params={"use": "band", "band_from": 6, "band_to": 82, "trim": 3, "least_data": 75},
        zone=RectangleZone(x=0, y=0, width=100, height=60),
    )
    steps, sheet = [datum], []
    for balloon, (name, (x, y)) in enumerate(zip(BOSS_NAMES, BOSSES, strict=True), start=1):
        stem = f"boss-{name.lower()}"
        spot = Step(
            id=f"{stem}-top",
            name=f"Boss {name} top",
            kind="spot",
            zone=EllipseZone(x=x, y=y, width=10, height=10),
        )
        height = _step(stem, f"Boss {name} height", "height", point=(spot.id,), plane=(datum.id,))
        steps += [spot, height]
        sheet.append(_row(balloon, f"Boss {name}", height, nominal=4.0, lower=3.9, upper=4.1))
    hub_zone = EllipseZone(x=0, y=0, width=36, height=36)
    flange_zones = {
        "N": RectangleZone(x=0, y=28.8, width=66, height=3.2),
        "S": RectangleZone(x=0, y=-28.8, width=66, height=3.2),
        "E": RectangleZone(x=49.7, y=0, width=2.0, height=28),
        "W": RectangleZone(x=-49.7, y=0, width=2.0, height=28),
    }
    surfaces = [
        Step(id=f"flange-{side.lower()}", name=f"Flange {side}", kind="plane", params={"trim": 5}, zone=zone)
        for side, zone in flange_zones.items()
    ]
    hub_top = Step(id="hub-top", name="Hub top", kind="spot", zone=hub_zone)
    hub_plane = Step(
        id="hub-plane", name="Hub plane", kind="plane", params={"use": "highest", "share": 60}, zone=hub_zone
    )
    beside = Step(
        id="pocket-rim",
        name="Beside the pocket",
        kind="spot",
        zone=EllipseZone(x=35, y=11.5, width=5, height=5),
    )
    floor = Step(
        id="pocket-floor",
        name="Pocket floor",
        kind="spot",
        zone=RectangleZone(x=35, y=0.5, width=18, height=8),
    )
    hub_height = _step("hub-height", "Hub height", "height", point=("hub-top",), plane=(datum.id,))
    hub_tilt = _step("hub-tilt", "Hub tilt", "tilt", plane=("hub-plane",), to=(datum.id,))
    depth = _step(
        "pocket-depth",
        "Pocket depth",
        "step",
        upper=("pocket-rim",),
        lower=("pocket-floor",),
        plane=(datum.id,),
    )
    flatness = _step("flange-flatness", "Flange flatness", "flatness", surfaces=tuple(s.id for s in surfaces))
    steps += [hub_top, hub_height, hub_plane, hub_tilt, beside, floor, depth, *surfaces, flatness]
    sheet += [
        _row(6, "Hub height", hub_height, nominal=8.0, lower=7.85, upper=8.15),
        _row(7, "Hub tilt", hub_tilt, upper=0.5),
        _row(11, "Pocket depth", depth, nominal=2.5, lower=2.45, upper=2.65),
        _row(15, "Flange flatness", flatness, upper=0.15),
    ]
    return Plan(name="rain-pump cover", steps=tuple(steps), sheet=tuple(sheet))


def truth(parts: tuple[DemoPart, ...] = PARTS) -> dict[str, dict[str, Any]]:
    """By scan file: its tag, the balloons of the demo plan that it truly fails, and its true values."""
    sheet, found = demo_plan().sheet, {}
    for part in parts:
        values = part.cover.truth()
        fails = [c.balloon for c in sheet if not _within(c, values[c.balloon])]
        found[part.file] = {
            "tag": part.tag,
            "fails": fails,
            "values": {str(balloon): value for balloon, value in values.items()},
        }
    return found


def _within(row: Characteristic, value: float | str) -> bool:
    value = float(value)
    return (row.lower is None or value >= row.lower) and (row.upper is None or value <= row.upper)


def _step(step_id: str, name: str, kind: str, **inputs: tuple[str, ...]) -> Step:
    return Step(id=step_id, name=name, kind=kind, inputs=inputs)


def _row(balloon: int, name: str, step: Step, **limits: float) -> Characteristic:
    return Characteristic(balloon=balloon, name=name, step=step.id, **limits)
