"""From what a step measured to the row of the sheet that it answers."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, TypeVar

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.plan.document import ByProfile, Characteristic
from hemtra.core.plan.limits import Judged, Verdict, judge
from hemtra.core.plan.series import Demand, Series, combined

N = TypeVar("N", float, FloatArray)
"""A number, or many."""
UNBOUND = "nothing is bound to it yet; select it and press N"
NO_MASTER = "the reference part gives no value to count from"


def because(name: str, reason: str) -> str:
    """Why something is not measured that needs what was not measured."""
    return reason if reason.startswith("because of") else f"because of “{name}”: {reason}"


def judged(row: Characteristic, value: Any, reason: str, unit: str = "") -> Judged:
    """A row with what its step gave: a `Number`, or the reason why there is none."""
    blank = _blank(row, unit or row.unit)
    if not isinstance(value, Number):
        return replace(blank, reason=reason or UNBOUND)
    blank = replace(blank, unit=value.unit, at=value.at, text=value.text)
    if row.from_master and row.master is None:
        return replace(blank, reason=NO_MASTER)
    number = counted(row, value.value)
    verdict, why = judge(number, row.lower, row.upper, row.decimals, row.uncertainty or 0.0)
    if value.text and verdict is Verdict.FAIL:
        why = f"reads “{value.text}”"
    # a number that is no number is not shown either
    shown = None if verdict is Verdict.NOT_MEASURED else number
    return replace(blank, value=shown, verdict=verdict, reason=why)


def judged_series(row: Characteristic, series: Series, unit: str, run: ByProfile | None = None) -> Judged:
    """A row with what its step gave on all profiles or instances."""
    blank = _blank(row, unit or row.unit)
    if row.from_master and row.master is None:
        return replace(blank, reason=NO_MASTER)
    least = 100.0 if run is None else run.least_measured
    demand = Demand(
        row.over or "each",
        row.lower,
        row.upper,
        row.decimals,
        row.uncertainty or 0.0,
        row.least_share,
        least,
    )
    found = combined(series, demand)
    at = None
    if found.value is not None:
        at = Point(*map(float, series.places[found.at]))
    text = f"{100 * found.share:.1f} %" if demand.over == "share" and found.value is not None else ""
    shown = None if found.verdict is Verdict.NOT_MEASURED else found.value
    return replace(blank, value=shown, verdict=found.verdict, reason=found.reason, at=at, text=text)


def counted(row: Characteristic, value: N) -> N:
    """A value, or many, as the row counts them: corrected, and from the master where it counts from that."""
    value = corrected(row, value)
    return value - (row.master or 0.0) if row.from_master else value


def corrected(row: Characteristic, value: N) -> N:
    """A value, or an array of them, with the linear correction of its row."""
    return value if row.correction is None else row.correction.applied(value)


def _blank(row: Characteristic, unit: str) -> Judged:
    return Judged(
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
