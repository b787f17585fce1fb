"""Rows that prove less than their name says."""

from __future__ import annotations

from collections.abc import Iterator

from hemtra.core.plan.document import Characteristic, Plan

WEAK = {
    ("flatness", "points", "near"): "takes points near the plane only, which does not prove form.",
    ("coplanarity", "of", "levels"): "takes the levels of its spots only, which does not prove coplanarity.",
}
"""By kind, parameter and value: what such a row proves less."""


def unproven(plan: Plan) -> Iterator[tuple[Characteristic, str]]:
    """The rows of a plan that leave points out which their characteristic asks for, and why."""
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        if row.step is None or row.off:
            continue
        step = plan.step(row.step)
        for (kind, name, value), why in WEAK.items():
            if step.kind == kind and step.params.get(name) == value:
                yield row, why
