"""The station document: which sensor hangs where, how the part travels, and what starts a scan."""

from __future__ import annotations

from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from hemtra.core.errors import HemtraError
from hemtra.core.scan.heightmap import Grid
from hemtra.core.station.levelling import Levelling, Tilt
from hemtra.core.station.optics import CaptureBand, Positive, SensorModel
from hemtra.core.station.travel import Travel
from hemtra.core.station.trigger import Early, TriggerRules

SCHEMA = 2

NotNegative = Annotated[float, Field(ge=0, le=1e6, allow_inf_nan=False)]


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class SensorMount(_Document):
    """A sensor above the transport: its laser `stand_off` mm above z = 0."""

    model: str
    stand_off: Positive
    exposure: Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)] = 1.0
    """Relative to the nominal exposure of the model."""
    band: CaptureBand | None = None
    """What of the view is delivered; None for all of it."""
    roll: Tilt = 0.0
    pitch: Tilt = 0.0
    """How the sensor hangs, in degrees about y and x; nobody hangs one quite level."""
    levelling: Levelling = Levelling()
    """What was measured of that, and is taken out of every profile."""


class PartPresentEye(_Document):
    """The part-present eye, `distance` mm upstream of the laser, and what its trigger does."""

    distance: NotNegative = 0.0
    lead: NotNegative = 0.0
    """mm that a scan begins before the part's front reaches the laser."""
    early: Early = "ignore"
    waiting: Annotated[int, Field(ge=1, le=1000)] = 8
    time_limit: Annotated[float, Field(gt=0, le=86_400, allow_inf_nan=False)] | None = None
    """Seconds a scan may take."""
    part_spacing: Positive = 300.0
    """mm from the front of one part to the front of the next, as the line feeds them."""

    @model_validator(mode="after")
    def _lead_fits(self) -> Self:
        if self.lead > self.distance:
            raise ValueError(f"a lead of {self.lead:g} mm needs an eye at least as far upstream")
        return self


class Station(_Document):
    """A station with one sensor."""

    schema_version: Annotated[int, Field(alias="schema", ge=1, le=SCHEMA)] = SCHEMA
    name: Annotated[str, Field(min_length=1, max_length=120)]
    sensor: SensorMount
    travel: Travel
    eye: PartPresentEye = PartPresentEye()

    model_config = ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

    def grid(self, model: SensorModel, belt: float) -> tuple[Grid, int]:
        """The grid of its height maps and their columns: the view at the height of the belt, in mm."""
        width = model.width_at(self.sensor.stand_off - belt)
        dx, dy = width / model.points, self.travel.spacing
        first = -(model.points - 1) / 2 * dx
        return Grid(first, -(self.travel.profiles - 1) / 2 * dy, dx, dy), model.points

    def with_part(self, name: str, **changes: Any) -> Station:
        """The station with fields of its “sensor”, “travel” or “eye” changed. Raises `HemtraError` in words."""
        part = getattr(self, name)
        values = {field: getattr(part, field) for field in type(part).model_fields}
        try:
            changed = type(part)(**{**values, **changes})
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            what = str(first["loc"][0]).replace("_", " ") if first["loc"] else name
            message = first["msg"].removeprefix("Value error, ")
            raise HemtraError(f"The {what} cannot be that: {message}.") from None
        return self.model_copy(update={name: changed})

    def trigger_rules(self) -> TriggerRules:
        """The eye's rules counted in profiles."""
        spacing = self.travel.spacing
        return TriggerRules(
            delay=round((self.eye.distance - self.eye.lead) / spacing),
            length=self.travel.profiles,
            early=self.eye.early,
            waiting=self.eye.waiting,
            time_limit=self.eye.time_limit,
        )


def migrate(content: dict[str, Any]) -> dict[str, Any]:
    """The JSON of an older station in today's form; raises `KeyError` or `TypeError` where it is none."""
    if content.get("schema") == 1:
        spacing, profiles = content["travel"]["spacing"], content["travel"]["profiles"]
        encoder = {"by": "pulse", "mm_per_pulse": spacing}
        travel = {"encoder": encoder, "counts_per_profile": 1, "length": spacing * profiles}
        return {**content, "schema": 2, "travel": travel}
    return content
