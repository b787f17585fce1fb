"""Limits and the verdicts they lead to."""

from __future__ import annotations

import math
import sys
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from enum import StrEnum

from hemtra.core.coverage import Coverage
from hemtra.core.geometry.elements import Point
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import Budget

SLACK = 4 * sys.float_info.epsilon
"""Share of a number that binary digits cannot distinguish from the decimal that was typed."""


class Verdict(StrEnum):
    """Verdict of a characteristic and of a part."""

    PASS = "PASS"
    FAIL = "FAIL"
    NOT_MEASURED = "NOT MEASURED"
    NOT_PROVEN = "NOT PROVEN"
    """Within its uncertainty of a limit."""


@dataclass(frozen=True)
class CharacteristicResult:
    """A characteristic of one part. value, nominal, lower and upper in `unit`, None where there is none."""

    balloon: Balloon
    name: str
    step: str
    value: float | None
    unit: str
    nominal: float | None
    lower: float | None
    upper: float | None
    decimals: int
    verdict: Verdict
    reason: str
    at: Point | None
    text: str = ""
    """Text that was read, where it is no number."""
    low: float | None = None
    high: float | None = None
    """Bounds of the value where data is missing, None where there are none."""
    coverage: Coverage | None = None
    """Coverage, where it was requested."""
    least: float | None = None
    greatest: float | None = None
    """Summary of many values of one characteristic on one part."""
    u: float | None = None
    """Its standard uncertainty, where that was worked out for the plan."""
    budget: Budget | None = None
    """Budget of its uncertainty."""


@dataclass(frozen=True)
class Thresholds:
    """Decision limits: FAIL outside `fail_below` and `fail_above`; PASS between the others.

    Limits and uncertainty are decimals as they were typed, and so are their sums. None where there is no limit.
    """

    fail_below: float | None
    pass_from: float | None
    pass_to: float | None
    fail_above: float | None


def thresholds(lower: float | None, upper: float | None, uncertainty: float = 0.0) -> Thresholds:
    """The thresholds of limits widened and narrowed by an expanded uncertainty (ISO 14253-1)."""
    u = Decimal(repr(float(uncertainty)))
    low, high = (None if limit is None else Decimal(repr(float(limit))) for limit in (lower, upper))
    return Thresholds(
        None if low is None else float(low - u),
        None if low is None else float(low + u),
        None if high is None else float(high - u),
        None if high is None else float(high + u),
    )


def over(value: float, limit: float) -> bool:
    """Whether a value lies above a limit by more than the last binary digits of either, which nobody typed."""
    return value - limit > SLACK * max(abs(value), abs(limit))


def evaluate(
    value: float,
    lower: float | None,
    upper: float | None,
    decimals: int,
    uncertainty: float = 0.0,
    span: tuple[float, float] | None = None,
) -> tuple[Verdict, str]:
    """The verdict of a value and, unless it passes, the reason. A value on a limit passes.

    With an expanded uncertainty a value must lie inside the limits by that much to pass, and outside by more
    than that to fail; between, neither is proven (ISO 14253-1). span: the values that unseen data leaves
    possible; it passes or fails only where all of them do.
    """
    if not math.isfinite(value):
        return Verdict.NOT_MEASURED, "the measurement gave no finite number"
    if lower is None and upper is None:
        return Verdict.NOT_MEASURED, "it has no limits"
    at = thresholds(lower, upper, uncertainty)
    ends = (value, value) if span is None else (min(span[0], value), max(span[1], value))
    # all that is possible lies on the wrong side of a limit, or the value does not leave its place
    if at.fail_below is not None and over(at.fail_below, ends[1]):
        return Verdict.FAIL, _beyond(value, "below", lower, decimals)
    if at.fail_above is not None and over(ends[0], at.fail_above):
        return Verdict.FAIL, _beyond(value, "above", upper, decimals)

    below, above = (
        at.pass_from is not None and over(at.pass_from, ends[0]),
        at.pass_to is not None and over(ends[1], at.pass_to),
    )
    if not below and not above:
        return Verdict.PASS, ""
    if ends[0] < ends[1]:
        message = f"between {ends[0]:.{decimals}f} and {ends[1]:.{decimals}f}, as part of it was not seen"
        return Verdict.NOT_MEASURED, message
    limit = lower if below else upper
    assert limit is not None
    return (
        Verdict.NOT_PROVEN,
        f"{value:.{decimals}f} lies within ±{uncertainty:g} of the limit {limit:.{decimals}f}",
    )


def _beyond(value: float, word: str, limit: float | None, decimals: int) -> str:
    """Format with enough digits to show the difference, so that no reason reads “4.10, above 4.10”."""
    assert limit is not None
    while decimals < 12 and f"{value:.{decimals}f}" == f"{limit:.{decimals}f}":
        decimals += 1
    return f"{value:.{decimals}f}, {word} {limit:.{decimals}f}"


def part_verdict(verdicts: Iterable[Verdict], not_proven: Verdict = Verdict.NOT_MEASURED) -> Verdict:
    """FAIL if anything fails; otherwise NOT MEASURED if anything is, or if there is nothing to evaluate.

    not_proven: what NOT PROVEN counts as.
    """
    found = {not_proven if v is Verdict.NOT_PROVEN else v for v in verdicts}
    if Verdict.FAIL in found:
        return Verdict.FAIL
    return Verdict.PASS if found == {Verdict.PASS} else Verdict.NOT_MEASURED


def reason_of(rows: Iterable[CharacteristicResult]) -> str:
    """Reason why a part does not pass: “12 Plug flush 0.52, above 0.35”; empty where it does."""
    bad = (row for row in rows if row.verdict is not Verdict.PASS)
    return "; ".join(f"{row.balloon} {row.name} {row.reason}".strip() for row in bad)


def format_limits(lower: float | None, upper: float | None, decimals: int) -> str:
    """Lower and upper limit as on a drawing."""
    ends = ["" if limit is None else f"{limit:.{decimals}f}" for limit in (lower, upper)]
    if not ends[0]:
        return f"≤ {ends[1]}" if ends[1] else "no limits"
    return f"{ends[0]} … {ends[1]}" if ends[1] else f"≥ {ends[0]}"


def format_value(evaluated: CharacteristicResult, decimals: int | None = None) -> str:
    """The value with its unit, or a dash; the degree sign stands close to its number."""
    if evaluated.value is None:
        return "–"
    if evaluated.text:
        return evaluated.text  # what was read, not how right it is
    places = evaluated.decimals if decimals is None else decimals
    value = round(evaluated.value, places) + 0.0  # which makes a negative zero a zero
    return f"{value:.{places}f}{'' if evaluated.unit == '°' else ' '}{evaluated.unit}".strip()


def decimals_for(lower: float | None, upper: float | None, nominal: float | None) -> int:
    """Digits after the point that show a twentieth of the tolerance, 2 to 4."""
    if lower is not None and upper is not None:
        width = upper - lower
    else:
        edge = upper if upper is not None else lower
        width = abs((edge or 0.0) - (nominal or 0.0))
    if not math.isfinite(width) or width <= 0:
        return 3
    return min(4, max(2, math.ceil(-math.log10(width / 20) - 1e-9)))
