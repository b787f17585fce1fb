"""Result of a gauge study for a row, as the plan keeps it."""

from __future__ import annotations

import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

Amount = Annotated[float, Field(ge=0.0, allow_inf_nan=False)]
Percent = Annotated[float, Field(gt=0.0, allow_inf_nan=False)]
Count = Annotated[int, Field(ge=1)]
Grade = Literal["good", "usable", "not capable", "no tolerance"]


class GaugeMark(BaseModel):
    """Repeatability and reproducibility of a row.

    deviation: standard deviation of the gauge, GRR, and mean of all readings, both in `unit`. categories: ndc.
    rule: name of the rule it is graded by; deviations: how many of them it compares with the tolerance; good,
    usable: percent of it up to which the gauge is that. made: day of the study. method: digest of how the row
    was measured in it.
    """

    deviation: Amount
    mean: Annotated[float, Field(allow_inf_nan=False)]
    unit: Annotated[str, StringConstraints(max_length=12)] = ""
    categories: Count
    rule: Annotated[str, StringConstraints(max_length=20)]
    deviations: Percent
    good: Percent
    usable: Percent
    parts: Count
    operators: Count
    trials: Count
    made: datetime.date
    method: str = ""

    model_config = ConfigDict(frozen=True, extra="forbid")

    def share(self, lower: float | None, upper: float | None) -> float | None:
        """Spread of the gauge in percent of the tolerance; None without a tolerance."""
        return share_of_tolerance(self.deviation, self.mean, lower, upper, self.deviations)

    def grade(self, lower: float | None, upper: float | None) -> Grade:
        """Capability of the gauge, in one word."""
        return graded(self.share(lower, upper), self.good, self.usable)

    @property
    def readings(self) -> str:
        """Size of the study: “10 parts × 3 operators × 3 trials”."""
        return f"{self.parts} parts × {self.operators} operators × {self.trials} trials"


def share_of_tolerance(
    deviation: float, mean: float, lower: float | None, upper: float | None, deviations: float
) -> float | None:
    """Percent of the tolerance that so many standard deviations of a gauge take; None without a tolerance.

    With one limit half as many are compared with the way from the mean of the readings to it, since limits on
    one side have no middle.
    """
    if lower is not None and upper is not None:
        room, many = upper - lower, deviations
    else:
        limit = upper if upper is not None else lower
        room, many = (0.0 if limit is None else abs(limit - mean)), deviations / 2.0
    return 100.0 * many * deviation / room if room > 0.0 else None


def graded(share: float | None, good: float, usable: float) -> Grade:
    """The grade of a gauge that takes so many percent of the tolerance."""
    if share is None:
        return "no tolerance"
    return "good" if share <= good else "usable" if share <= usable else "not capable"
