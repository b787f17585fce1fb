"""The station document: which sensor hangs where, and how the part travels."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.scan.heightmap import Grid
from hemtra.core.station.optics import Positive, SensorModel

SCHEMA = 1


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class SensorMount(_Document):
    """A sensor above the transport: its laser `stand_off` mm above z = 0."""

    model: str
    stand_off: Positive
    exposure: Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)] = 1.0
    """Relative to the nominal exposure of the model."""


class Travel(_Document):
    """How profiles follow each other: `profiles` of them, `spacing` mm apart, symmetric about y = 0."""

    spacing: Positive
    profiles: Annotated[int, Field(ge=2, le=100_000)]


class Station(_Document):
    """A station with one sensor."""

    schema_version: Annotated[int, Field(alias="schema", ge=1, le=SCHEMA)] = SCHEMA
    name: Annotated[str, Field(min_length=1, max_length=120)]
    sensor: SensorMount
    travel: Travel

    model_config = ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

    def grid(self, model: SensorModel, belt: float) -> tuple[Grid, int]:
        """The grid of its height maps and their columns: the view at the height of the belt, in mm."""
        width = model.width_at(self.sensor.stand_off - belt)
        dx, dy = width / model.points, self.travel.spacing
        first = -(model.points - 1) / 2 * dx
        return Grid(first, -(self.travel.profiles - 1) / 2 * dy, dx, dy), model.points
