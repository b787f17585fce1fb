"""Judging values that are on record by another plan, where both measure the same."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from hemtra.core.features.along_path import AlongPath
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.limits import Judged, Verdict, judge, part_verdict
from hemtra.core.plan.registry import kind_named


def judged_by_values(then: Plan, now: Plan, rows: Sequence[Judged]) -> tuple[Judged, ...] | None:
    """The rows that one plan has judged as another judges them; None where values alone cannot tell.

    They can where the steps are the same and rows differ in names and limits only. A row that makes one value
    of many must be quite the same, since other limits might have picked another value.
    """
    if (then.steps, then.prepared, then.by_profile) != (now.steps, now.prepared, now.by_profile):
        return None
    known = {row.balloon: row for row in rows}
    found = []
    for row in sorted(now.sheet, key=lambda row: row.balloon):
        if row.off:
            continue
        before, value = then.characteristic(row.balloon), known.get(row.balloon)
        if before is None or value is None or not _same_value(before, row):
            return None
        if _same_limits(before, row):
            found.append(replace(value, name=row.name))
        elif _of_many(now, row):
            return None
        else:
            found.append(_judged(row, value))
    return tuple(found)


def verdict_of(plan: Plan, rows: Sequence[Judged]) -> Verdict:
    """Of a part, as the plan counts what is not proven."""
    return part_verdict((row.verdict for row in rows), Verdict(plan.not_proven.upper()))


def _same_value(before: Characteristic, now: Characteristic) -> bool:
    names = ("step", "from_master", "master", "correction")
    return all(getattr(before, name) == getattr(now, name) for name in names)


def _same_limits(before: Characteristic, now: Characteristic) -> bool:
    names = ("lower", "upper", "nominal", "uncertainty", "over", "least_share")
    return all(getattr(before, name) == getattr(now, name) for name in names)


def _of_many(plan: Plan, row: Characteristic) -> bool:
    """Whether a row's value may be one of many."""
    if plan.by_profile is not None or row.over is not None:
        return True
    steps = [] if row.step is None else [step for column in ancestry(plan, row.step) for step in column]
    repeated = any(step.params.get("count", 1) != 1 for step in steps if step.kind == "outline")
    return repeated or any(issubclass(kind_named(step.kind), AlongPath) for step in steps)


def _judged(row: Characteristic, value: Judged) -> Judged:
    told = replace(
        value, name=row.name, nominal=row.nominal, lower=row.lower, upper=row.upper, decimals=row.decimals
    )
    if value.value is None:
        return told
    verdict, reason = judge(value.value, row.lower, row.upper, row.decimals, row.uncertainty or 0.0)
    if value.text and verdict is Verdict.FAIL:
        reason = f"reads “{value.text}”"
    return replace(told, verdict=verdict, reason=reason)
