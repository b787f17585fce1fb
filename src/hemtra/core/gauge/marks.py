"""Results of gauge studies kept in the plan, and doubts about them."""

from __future__ import annotations

import datetime
from collections.abc import Iterator

from hemtra.core.evaluation.known_to import method
from hemtra.core.gauge.study import StudiedRow, Study
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.gauge_mark import GaugeMark

VALID_FOR = datetime.timedelta(days=365)
"""Validity of a study; after that the gauge is studied again."""
OUTDATED = "outdated"
"""Grade of a row that is measured otherwise since its study."""
MOST_CATEGORIES = 999
"""Categories beyond which more say nothing."""


def with_marks(plan: Plan, study: Study, rule: str, made: datetime.date) -> Plan:
    """The plan with what a study found; rows that it could not evaluate keep what they had.

    rule: its name.
    """
    found = {row.balloon: row for row in study.rows if row.spread is not None}
    rows = (
        row.model_copy(update={"gauge": _mark(found[row.balloon], study, rule, made, method(plan, row))})
        if row.balloon in found
        else row
        for row in plan.sheet
    )
    return plan.model_copy(update={"sheet": tuple(rows)})


def _mark(row: StudiedRow, study: Study, rule: str, made: datetime.date, digest: str) -> GaugeMark:
    assert row.spread is not None
    assert row.mean is not None
    return GaugeMark(
        deviation=row.spread.gauge.deviation,
        mean=row.mean,
        unit=row.unit,
        categories=min(row.spread.categories, MOST_CATEGORIES),
        rule=rule,
        deviations=row.rule.deviations,
        good=row.rule.good,
        usable=row.rule.usable,
        parts=study.parts,
        operators=study.operators,
        trials=study.trials,
        made=made,
        method=digest,
    )


def grades(plan: Plan) -> dict[Balloon, str]:
    """Capability of each studied row with a tolerance, or “outdated”."""
    found: dict[Balloon, str] = {}
    for row in plan.sheet:
        if row.gauge is not None and row.gauge.share(row.lower, row.upper) is not None:
            is_same = row.gauge.method == method(plan, row)
            found[row.balloon] = row.gauge.grade(row.lower, row.upper) if is_same else OUTDATED
    return found


def gauge_in_words(row: Characteristic, grade: str) -> str:
    """Describe the gauge of a row in a sentence; empty without a study."""
    mark = row.gauge
    if mark is None or not grade:
        return ""
    share = mark.share(row.lower, row.upper)
    takes = "" if share is None else f", takes {share:.1f} % of the tolerance"
    return f"Gauge: {grade}{takes} ({mark.readings}, {mark.made})."


def doubtful(plan: Plan, today: datetime.date) -> Iterator[tuple[Characteristic, str]]:
    """The rows of a plan whose gauge study is missing, old or failed, and why; in the order of their balloons.

    A plan without any study has no rows of that kind: nobody has begun.
    """
    if all(row.gauge is None for row in plan.sheet):
        return
    found = grades(plan)
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        if row.off or row.step is None:
            continue
        why = _doubt(row, found.get(row.balloon, ""), today)
        if why:
            yield row, why


def _doubt(row: Characteristic, grade: str, today: datetime.date) -> str:
    mark = row.gauge
    if mark is None:
        return "it has no gauge study."
    if grade == OUTDATED:
        return f"its gauge study of {mark.made} was made before the row was measured as it is now."
    if today - mark.made > VALID_FOR:
        return f"its gauge study of {mark.made} is older than a year."
    if grade == "not capable":
        share = mark.share(row.lower, row.upper)
        return f"its gauge takes {share:.0f} % of the tolerance: not capable ({mark.rule}, {mark.made})."
    return ""
