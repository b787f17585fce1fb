"""The station document: which sensors are mounted where, how parts travel, and what starts a scan."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import ConfigDict, Field, ValidationError

from hemtra.core.errors import HemtraError
from hemtra.core.form_fields import Form
from hemtra.core.maps.heightmap import Grid
from hemtra.core.station.io_and_storage import Incoming, IoBlock, ScanRetention
from hemtra.core.station.mount import SensorMount
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.scale_uncertainty import ScaleUncertainty
from hemtra.core.station.travel import Conveyor, Travel
from hemtra.core.station.trigger import TriggerRules
from hemtra.core.station.trigger_sources import Trigger

SCHEMA = 6
MOST_SENSORS = 8
MOST_POINTS = 200_000_000
"""Points of one scan, a gigabyte: absurd lengths and distances are refused before memory is taken."""


class Station(Form):
    """A station with one sensor or several side by side."""

    schema_version: Annotated[int, Field(alias="schema", ge=1, le=SCHEMA)] = SCHEMA
    name: Annotated[str, Field(min_length=1, max_length=120)]
    sensors: Annotated[tuple[SensorMount, ...], Field(min_length=1, max_length=MOST_SENSORS)]
    travel: Travel
    trigger: Trigger = Trigger()
    line: Conveyor = Conveyor()
    scales: ScaleUncertainty = ScaleUncertainty()
    io: IoBlock = IoBlock()
    incoming: Incoming = Incoming()
    keeping: ScanRetention = ScanRetention()

    model_config = ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

    @property
    def sensor(self) -> SensorMount:
        """The first sensor."""
        return self.sensors[0]

    @property
    def length(self) -> float:
        """Length of a scan, mm; of one that lasts as long as its trigger, its expected length."""
        found = self.trigger.length_mm(self.travel)
        return self.trigger.length if found is None else found

    @property
    def profiles(self) -> int:
        """Profiles of one scan."""
        return self.travel.profiles_in(self.length)

    @property
    def belt(self) -> float:
        """z of the belt in mm."""
        return self.line.belt

    def snapshot(self) -> dict[str, object]:
        """Copy kept with a scan."""
        return self.model_dump(mode="json", by_alias=True)

    @property
    def lead(self) -> float:
        """Distance from the start of a scan to the part's front edge, mm; below zero it begins later."""
        upstream = self.trigger.distance if self.trigger.by == "eye" else 0.0
        return upstream - self.trigger.delay_mm(self.travel)

    def grid(self, models: Sequence[SensorModel]) -> tuple[Grid, int]:
        """The grid of its height maps and their columns: all views together at the height of the belt.

        The spacing is the finest of the sensors'. Raises `HemtraError` when that would make too large a map.
        """
        pairs = zip(self.sensors, models, strict=True)
        views = [(sensor.x, model.width_at(sensor.stand_off - self.belt), model) for sensor, model in pairs]
        dx = min(width / model.points for _, width, model in views)
        if len(views) == 1:
            middle, _, model = views[0]
            first, cols = middle - (model.points - 1) / 2 * dx, model.points
        else:
            first = min(x - width / 2 for x, width, _ in views) + dx / 2
            cols = math.floor((max(x + width / 2 for x, width, _ in views) - first) / dx)
        if cols * self.profiles > MOST_POINTS:
            raise HemtraError(
                f"A scan of {self.profiles} profiles with {cols} columns is too large; scan less at a time."
            )
        return Grid(first, -(self.profiles - 1) / 2 * self.travel.spacing, dx, self.travel.spacing), cols

    def part(self, path: str) -> Form:
        """A part of the station by its path, such as “travel.encoder” or “sensors.1.band”."""
        found: Any = self
        for step in path.split("."):
            found = found[int(step)] if step.isdecimal() else getattr(found, step)
        assert isinstance(found, Form)
        return found

    def with_part(self, path: str, **changes: Any) -> Station:
        """The station with fields of one of its parts changed. Raises `HemtraError` in words."""
        if path == "sensor" or path.startswith("sensor."):
            path = "sensors.0" + path.removeprefix("sensor")
        changed: Any = _changed(self.part(path), changes)
        outer, _, name = path.rpartition(".")
        while outer:
            holder: Any = self
            for step in outer.split("."):
                holder = holder[int(step)] if step.isdecimal() else getattr(holder, step)
            if name.isdecimal():
                at = int(name)
                changed = (*holder[:at], changed, *holder[at + 1 :])
            else:
                changed = holder.model_copy(update={name: changed})
            outer, _, name = outer.rpartition(".")
        return self.model_copy(update={name: changed})

    def trigger_rules(self) -> TriggerRules:
        """The trigger's rules counted in profiles."""
        return self.trigger.rules(self.travel)


def _changed(part: Form, changes: dict[str, Any]) -> Form:
    values = {field: getattr(part, field) for field in type(part).model_fields}
    try:
        return type(part)(**{**values, **changes})
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        message = first["msg"].removeprefix("Value error, ")
        if not first["loc"]:
            raise HemtraError(f"{message[:1].upper()}{message[1:]}.") from None
        info = type(part).model_fields.get(str(first["loc"][0]))
        what = info.title if info is not None and info.title else str(first["loc"][0]).replace("_", " ")
        raise HemtraError(f"The {what} cannot be that: {message}.") from None


def migrate(content: dict[str, Any]) -> dict[str, Any]:
    """The JSON of an older station in today's form; raises `KeyError` or `TypeError` where it is none."""
    if content.get("schema") == 1:
        spacing, profiles = content["travel"]["spacing"], content["travel"]["profiles"]
        encoder = {"by": "pulse", "mm_per_pulse": spacing}
        travel = {"encoder": encoder, "counts_per_profile": 1, "length": spacing * profiles}
        content = {**content, "schema": 2, "travel": travel}
    if content.get("schema") == 2:
        content = _from_2(content)
    if content.get("schema") == 3:
        content = {**content, "schema": 4}  # the I/O module and what is kept came; nothing went
    if content.get("schema") == 4:
        content = {**content, "schema": 5}  # how well the scales are known came
    if content.get("schema") == 5:
        content = {**content, "schema": 6}
        if "io" in content:
            lost = content["io"].get("lost", "stop")
            content["io"] = {**content["io"], "lost": "continue" if lost == "go on" else lost}
    return content


def _from_2(content: dict[str, Any]) -> dict[str, Any]:
    """Migrate one sensor, roll and pitch of its mount, and a photo-eye to sensors, a line, and a trigger."""
    sensor, travel, eye = dict(content["sensor"]), dict(content["travel"]), dict(content.get("eye", {}))
    levelling, climb = sensor.pop("levelling", {}), sensor.pop("pitch", 0.0)
    sensor["exposure"] = {"time": sensor.get("exposure", 1.0)}
    sensor["hang"] = {"roll": sensor.pop("roll", 0.0)}
    sensor["band"] = {k: v for k, v in (sensor.get("band") or {}).items() if abs(v) < 1e6}
    sensor["calibration"] = {"z" if key == "raise_by" else key: value for key, value in levelling.items()}
    encoder = dict(travel["encoder"])
    encoder["counting"] = f"x{encoder.pop('edges', 1)}"
    distance = eye.get("distance", 0.0)
    trigger = {key: eye[key] for key in ("early", "waiting", "time_limit") if key in eye}
    trigger |= {
        "distance": distance,
        "delay": distance - eye.get("lead", 0.0),
        "length": travel.pop("length"),
    }
    line = {"climb": climb}
    if "part_spacing" in eye:
        line["part_spacing"] = eye["part_spacing"]
    return {
        "schema": 3,
        "name": content["name"],
        "sensors": [sensor],
        "travel": {**travel, "encoder": encoder},
        "trigger": trigger,
        "line": line,
    }
