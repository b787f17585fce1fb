"""From what a step measured to the row of the sheet that it answers."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from hemtra.core.arrays import FloatArray
from hemtra.core.coverage import Coverage
from hemtra.core.evaluation.known_to import Known
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.plan.document import ByProfile, Characteristic, Plan
from hemtra.core.plan.limits import CharacteristicResult, Verdict, evaluate
from hemtra.core.plan.series import Demand, Series, combined
from hemtra.core.text import percent
from hemtra.core.units import conversion

N = TypeVar("N", float, FloatArray)
"""A number, or many."""
UNBOUND = "no feature assigned; select the row and press N"
NO_BUDGET = "its uncertainty has not been worked out; choose Work out uncertainty"
NO_MASTER = "the reference part gives no value to count from"


def dependency_reason(name: str, reason: str) -> str:
    """Reason of a row whose input was not measured."""
    return reason if reason.startswith("because of") else f"because of “{name}”: {reason}"


@dataclass(frozen=True)
class Rests:
    """Coverage and bounds of a value, on demand.

    span: lowest and highest value that unseen data leaves possible, in the unit of the step. coverage: of what
    it answers for, where known. least_coverage: percent that its kind requires. known: how well the
    row is known on this part.
    """

    span: tuple[float, float] | None = None
    coverage: Coverage | None = None
    least_coverage: float = 0.0
    known: Known | None = None


def evaluated(
    row: Characteristic, value: Any, reason: str, unit: str = "", rests: Rests | None = None
) -> CharacteristicResult:
    """A row with what its step gave: a `Number`, or the reason why there is none.

    The value is converted to the unit of the row, which is that of the drawing.
    """
    blank = _blank(row, unit or row.unit)
    if not isinstance(value, Number):
        return replace(blank, reason=reason or UNBOUND)
    rests = rests or Rests()
    blank = replace(blank, unit=row.unit or value.unit, at=value.at, text=value.text, coverage=rests.coverage)
    if row.from_master and row.master is None:
        return replace(blank, reason=NO_MASTER)
    if conversion(value.unit, row.unit or value.unit) is None:
        return replace(blank, reason=_wrong_unit(value.unit, row.unit))
    number = counted(row, value.value, value.unit)
    span = None
    if rests.span is not None:
        low, high = sorted(counted(row, end, value.unit) for end in rests.span)
        span = (low, high)
        blank = replace(blank, low=low, high=high)
    if rests.known is not None:
        budget = rests.known.of(number).model_copy(update={"unseen": unseen_share(blank)})
        blank = replace(blank, u=budget.u, budget=budget)
    verdict, why = weighed(row, number, replace(rests, span=span))
    if value.text and verdict is Verdict.FAIL:
        why = f"reads “{value.text}”"
    # a number that is no number is not shown either
    shown = None if verdict is Verdict.NOT_MEASURED else number
    return replace(blank, value=shown, verdict=verdict, reason=why)


def weighed(row: Characteristic, number: float, rests: Rests) -> tuple[Verdict, str]:
    """The verdict on a number in the unit of the row, and why; `rests.span` is in that unit too.

    What fails by its value fails, however little it rests on; nothing else is evaluated from too little.
    """
    # missing data counts by its bounds, and not a second time
    expanded = row.expanded(None if rests.known is None else rests.known.of(number).u)
    if math.isnan(expanded):
        return Verdict.NOT_MEASURED, NO_BUDGET
    verdict, why = evaluate(number, row.lower, row.upper, row.decimals, expanded, rests.span)
    if verdict is not Verdict.FAIL and (doubt := _doubt(row, rests)):
        return Verdict.NOT_MEASURED, doubt
    return verdict, why


def _doubt(row: Characteristic, rests: Rests) -> str:
    """Reason why coverage is too low for a value to pass; empty where it is enough."""
    found = rests.coverage
    if found is None:
        return ""
    least = rests.least_coverage if row.least_coverage is None else row.least_coverage
    if 100.0 * found.known < least - 1e-9:
        longest = f"; the longest data gap is {found.gap:.1f} mm" if found.gap else ""
        return f"only {100.0 * found.known:.0f} % of it was seen; minimum {least:g} %{longest}"
    if 100.0 * found.spike_share > row.most_spikes:
        return (
            f"{found.spikes} isolated points, {100.0 * found.spike_share:.1f} % of all, were left out;"
            f" maximum {row.most_spikes:g} %"
        )
    return ""


def _wrong_unit(unit: str, asked: str) -> str:
    return f"its step measures in {unit or 'numbers'}, its limits are in {asked}; bind the row to another step"


def unseen_share(row: CharacteristicResult) -> float:
    """Standard uncertainty of what missing data leaves room for: anywhere between both ends alike."""
    return 0.0 if row.low is None or row.high is None else (row.high - row.low) / math.sqrt(12.0)


def evaluated_series(
    row: Characteristic,
    series: Series,
    unit: str,
    run: ByProfile | None = None,
    taken: str = "",
    known: Known | None = None,
) -> CharacteristicResult:
    """A row with what its step gave on all profiles or instances, counted in the unit of the row already.

    taken: the unit of the step, where the row is in another. known: how well the row is known on this part.
    """
    blank = _blank(row, row.unit or unit)
    if known is not None:
        # each of many is a value of its own, none of which is known better for what the others read
        budget = known.of(math.inf)
        blank = replace(blank, u=budget.u, budget=budget)
    expanded = row.expanded(blank.u)
    if math.isnan(expanded):
        return replace(blank, reason=NO_BUDGET)
    if row.from_master and row.master is None:
        return replace(blank, reason=NO_MASTER)
    if row.unit and conversion(taken or unit, row.unit) is None:
        return replace(blank, reason=_wrong_unit(taken or unit, row.unit))
    least = 100.0 if run is None else run.least_measured
    demand = Demand(
        row.over or "each",
        row.lower,
        row.upper,
        row.decimals,
        expanded,
        row.least_share,
        least,
    )
    found = combined(series, demand)
    at = None
    if found.value is not None:
        at = Point(*map(float, series.places[found.at]))
    text = percent(found.share, 1) if demand.over == "share" and found.value is not None else ""
    shown = None if found.verdict is Verdict.NOT_MEASURED else found.value
    return replace(
        blank,
        value=shown,
        verdict=found.verdict,
        reason=found.reason,
        at=at,
        text=text,
        least=found.least,
        greatest=found.greatest,
        coverage=series.coverage,
    )


def counted(row: Characteristic, value: N, unit: str = "") -> N:
    """A value in a unit, or many, as the row counts them: in its unit, corrected, from the master if asked."""
    value = corrected(row, value, unit)
    return value - (row.master or 0.0) if row.from_master else value


def corrected(row: Characteristic, value: N, unit: str = "") -> N:
    """A value, or an array of them, in the unit of its row and with its linear correction."""
    factor = conversion(unit, row.unit) if row.unit and unit else 1.0
    if factor not in (None, 1.0):
        value = value * factor
    return value if row.correction is None else row.correction.applied(value)


def _blank(row: Characteristic, unit: str) -> CharacteristicResult:
    return CharacteristicResult(
        balloon=row.balloon,
        name=row.name,
        step=row.step or "",
        value=None,
        unit=unit,
        nominal=row.nominal,
        lower=row.lower,
        upper=row.upper,
        decimals=row.decimals,
        verdict=Verdict.NOT_MEASURED,
        reason="",
        at=None,
    )


def in_balloon_order(plan: Plan) -> list[Characteristic]:
    """The rows that are evaluated."""
    return [row for row in sorted(plan.sheet, key=lambda c: c.balloon) if not row.off]
