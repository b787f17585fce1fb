"""Result of evaluating a plan: an outcome per step, and an evaluated row per characteristic."""

from __future__ import annotations

import html
import importlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from hemtra.core.coverage import Coverage
from hemtra.core.errors import HemtraError
from hemtra.core.geometry.elements import LEVEL, Number, Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Step
from hemtra.core.plan.kind import Outcome
from hemtra.core.plan.limits import CharacteristicResult, Verdict, format_limits, format_value
from hemtra.core.plan.series import Series
from hemtra.core.zones.zone import AnyZone

SHOWN = 3
"""Characteristics that do not pass which a result is shown with."""
IN_FRAME = ("balloon", "name", "value", "unit", "nominal", "lower", "upper", "verdict", "reason", "text", "u")
"""Columns of a frame."""
COLUMNS = ("", "characteristic", "value", "limits", "verdict", "reason")


def _cells(row: CharacteristicResult) -> tuple[str, ...]:
    limits = format_limits(row.lower, row.upper, row.decimals)
    return str(row.balloon), row.name, format_value(row), limits, str(row.verdict), row.reason


def _line(row: CharacteristicResult) -> str:
    return f"{row.balloon} {row.name} {format_value(row)}: {row.verdict}, {row.reason}"


@dataclass(frozen=True)
class StepResult:
    """Result of a step: its outcome, or the reason why there is none."""

    step: Step
    outcome: Outcome | None
    reason: str
    elapsed_ms: float
    fingerprint: str
    off_scan: bool = False
    because_of: str = ""
    """Id of the step that this one could not do without."""
    zone: AnyZone | None = None
    """Zone of a step on this scan, moved with its anchors; None where unknown."""
    base: Plane = LEVEL
    """The surface its heights count from."""

    @property
    def value(self) -> Any:
        """The value, None when not measured."""
        return None if self.outcome is None else self.outcome.value

    @property
    def span(self) -> tuple[float, float] | None:
        """Lowest and highest number that unseen data leaves possible, None where it leaves no room."""
        if self.outcome is None or not isinstance(self.value, Number):
            return None
        possible = [v.value for v in self.outcome.possible if isinstance(v, Number)]
        return (min(*possible, self.value.value), max(*possible, self.value.value)) if possible else None


@dataclass(frozen=True, repr=False)
class Result:
    """One part, measured and evaluated."""

    verdict: Verdict
    characteristics: tuple[CharacteristicResult, ...]
    """Rows in balloon order."""
    steps: Mapping[str, StepResult]
    elapsed_ms: float
    computed: int
    """Steps evaluated afresh; the others were known already."""
    series: Mapping[int, Series] = field(default_factory=dict)
    """Values of all profiles or instances behind a verdict, by balloon."""
    coverage: Mapping[int, Coverage] = field(default_factory=dict)
    """Coverage of a value, by balloon; only where `Engine.covered` was asked."""

    def __repr__(self) -> str:
        rows, bad = (
            self.characteristics,
            [row for row in self.characteristics if row.verdict is not Verdict.PASS],
        )
        head = f"Result({self.verdict}, {len(rows) - len(bad)} of {len(rows)} characteristics pass)"
        more = [f"  and {len(bad) - SHOWN} more"] if len(bad) > SHOWN else []
        return "\n".join([head, *(f"  {_line(row)}" for row in bad[:SHOWN]), *more])

    def _repr_html_(self) -> str:
        """A table, for notebooks."""
        cells = "".join(
            "<tr>" + "".join(f"<td>{html.escape(cell)}</td>" for cell in _cells(row)) + "</tr>"
            for row in self.characteristics
        )
        head = "".join(f"<th>{name}</th>" for name in COLUMNS)
        return (
            f"<p><b>{self.verdict}</b></p><table><thead><tr>{head}</tr></thead><tbody>{cells}</tbody></table>"
        )

    def to_frame(self) -> Any:
        """The characteristics as a pandas frame, a row each; numbers are numbers. Needs pandas."""
        try:
            pandas: Any = importlib.import_module("pandas")
        except ImportError:
            raise HemtraError("A frame needs the package pandas: pip install pandas.") from None
        rows = [
            {name: getattr(row, name) for name in IN_FRAME}
            | {"balloon": str(row.balloon), "verdict": str(row.verdict)}
            for row in self.characteristics
        ]
        return pandas.DataFrame(rows, columns=list(IN_FRAME))

    def without_maps(self) -> Result:
        """The same without the prepared height maps of its steps, which are as large as the scan."""
        slim = {
            i: replace(found, outcome=None) if isinstance(found.value, HeightMap) else found
            for i, found in self.steps.items()
        }
        return replace(self, steps=slim)

    def rows_only(self) -> Result:
        """Its rows and the steps that its faults name: a twentieth of all, to send elsewhere."""
        slim = {i: replace(found, outcome=None) for i, found in self.steps.items() if found.off_scan}
        return replace(self, steps=slim, series={})

    @property
    def faults(self) -> tuple[str, ...]:
        """Signs that plan and scan do not belong together, one sentence each."""
        return tuple(
            f"“{r.step.name}”: {r.reason}." for r in self.steps.values() if r.off_scan and not r.because_of
        )
