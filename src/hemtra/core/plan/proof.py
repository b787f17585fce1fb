"""Rows that prove less than their name says."""

from __future__ import annotations

from collections.abc import Iterator

from hemtra.core.geometry.elements import Plane
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.registry import kind_named
from hemtra.core.text import percent

WEAK = {
    ("flatness", "points", "near"): "takes points near the plane only, which does not prove form.",
    ("coplanarity", "of", "levels"): "takes the levels of its spots only, which does not prove coplanarity.",
}
"""Weaknesses of such a row as proof, by kind, parameter and value."""


def unproven(plan: Plan) -> Iterator[tuple[Characteristic, str]]:
    """The rows of a plan that leave out, or miss, points which their characteristic requires, and why."""
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        if not row.off:
            yield from ((row, why) for why in weaknesses(plan, row))


def weaknesses(plan: Plan, row: Characteristic) -> tuple[str, ...]:
    """Why a row leaves out, or misses, points which its characteristic requires; nothing where it does not."""
    if row.step is None:
        return ()
    step = plan.step(row.step)
    weak = [
        why for (kind, name, value), why in WEAK.items() if (step.kind, step.params.get(name)) == (kind, value)
    ]
    return (*weak, *_straight_up(plan, step))


def _straight_up(plan: Plan, step: Step) -> Iterator[str]:
    """Of what a step takes above a plane, the extreme points that are found without regard to it."""
    inputs = [plan.step(i) for ids in step.inputs.values() for i in ids]
    planes = [one for one in inputs if issubclass(kind_named(one.kind).output, Plane)]
    for point in inputs:
        kind = kind_named(point.kind).model_validate(point.params)
        if planes and kind.levelled and kind.counts_spikes and not point.inputs and point.follow.tilt is None:
            yield (
                f"“{point.name}” finds its extreme as seen from the sensor, which on a tilted part is another;"
                f" let it follow the tilt of “{planes[0].name}”."
            )


TENTH = 0.1
"""Share of the tolerance that an expanded uncertainty should not exceed."""


def hardly_known(plan: Plan) -> Iterator[tuple[Characteristic, str]]:
    """The rows of a plan whose uncertainty takes more than a tenth of the tolerance to either side, and why."""
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        if row.off or row.budget is None or not row.room:
            continue
        share = USUAL_COVERAGE * row.budget.u / row.room
        if share > TENTH:
            largest = Budget.TITLES[next(iter(row.budget.shares))]
            known = f"its uncertainty, {row.budget.expanded}, is {percent(share)} of the tolerance"
            yield row, f"{known}; most of it is {largest}."
