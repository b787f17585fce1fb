"""The nominal surface of a plan: what the drawing's model has at every place of the reference scan."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from hemtra.core.maps.heightmap import HeightMap

Finite = Annotated[float, Field(allow_inf_nan=False)]
Placement = Literal["outline", "best fit", "points"]


@dataclass(frozen=True, eq=False)
class Surface:
    """Heights of a nominal surface. They belong to its digest, so two of them need not be compared."""

    data: HeightMap

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Surface) or other is None

    __hash__ = None  # type: ignore[assignment]


class Nominal(BaseModel):
    """A mesh as it was placed on the reference scan.

    name: of its file. placed: how. x, y, z in mm and rotation, tilt_x, tilt_y in degrees: where its origin came
    to lie, and how it is turned. rms: mm by which the reference scan lies off it, over all that both show.
    digest: of its heights. surface: these themselves, where they are at hand; plans of a line do without.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)

    name: Annotated[str, StringConstraints(max_length=255)]
    placed: Placement
    x: Finite
    y: Finite
    z: Finite
    rotation: Finite
    tilt_x: Finite
    tilt_y: Finite
    rms: Annotated[float, Field(ge=0.0, allow_inf_nan=False)]
    digest: str
    surface: Surface | None = Field(default=None, exclude=True, repr=False)

    @property
    def data(self) -> HeightMap | None:
        """The heights, on the grid of the reference scan; None where they are not at hand."""
        return None if self.surface is None else self.surface.data

    def with_data(self, data: HeightMap) -> Nominal:
        """With heights that are its own; without any where they are another's."""
        return self.model_copy(update={"surface": Surface(data) if digest_of(data) == self.digest else None})


def digest_of(data: HeightMap) -> str:
    """Digest of the heights of a map and its grid."""
    found = hashlib.blake2b(repr((data.grid, data.shape)).encode(), digest_size=16)
    found.update(np.ascontiguousarray(data.z).tobytes())
    return found.hexdigest()


def nominal_of(name: str, placed: Placement, pose: dict[str, Any], rms: float, data: HeightMap) -> Nominal:
    """A nominal surface with its heights."""
    return Nominal(name=name, placed=placed, rms=rms, digest=digest_of(data), surface=Surface(data), **pose)
