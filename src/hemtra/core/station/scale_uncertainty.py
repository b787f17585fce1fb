"""Uncertainty of a station's scales, from calibration and encoder resolution."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import Field, ValidationError

from hemtra.core.form_fields import Form, setting

Percentage = Annotated[float, Field(ge=0.0, le=10.0, allow_inf_nan=False)]


class ScaleUncertainty(Form):
    """Standard uncertainties in percent of a length; 0 where nobody has stated one."""

    x: Percentage = setting(
        0.0, "u of x scale", "Standard uncertainty of lengths along the laser line, as certified.", unit="%"
    )
    y: Percentage = setting(
        0.0, "u of y scale", "Of lengths along travel: the spread of the encoder resolution.", unit="%"
    )
    z: Percentage = setting(
        0.0, "u of z scale", "Of heights: certificate, or the artefact that corrected them.", unit="%"
    )

    @classmethod
    def of(cls, snapshot: Mapping[str, Any]) -> ScaleUncertainty:
        """Scale uncertainty stated by the station of a scan; all 0 where it states none that holds."""
        stated = snapshot.get("scales")
        try:
            return cls.model_validate(stated if isinstance(stated, Mapping) else {})
        except ValidationError:
            return cls()
