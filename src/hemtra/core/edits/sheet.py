"""Edits of the sheet: the order of its rows, their numbers, groups, and nominals."""

from __future__ import annotations

from collections.abc import Mapping

from hemtra.core.errors import PlanError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Plan


def moved_row(plan: Plan, balloon: int, by: int) -> Plan:
    """The plan with a row so many places later in the sheet, or earlier below zero."""
    rows = list(plan.sheet)
    at = _place(plan, balloon)
    row = rows.pop(at)
    rows.insert(min(max(at + by, 0), len(rows)), row)
    return plan.edited(sheet=tuple(rows))


def renumbered(plan: Plan) -> Plan:
    """The plan with balloons 1, 2, 3 … in the order of the sheet."""
    return plan.edited(sheet=tuple(row.edited(balloon=Balloon(k)) for k, row in enumerate(plan.sheet, start=1)))


def with_balloon(plan: Plan, balloon: int, number: Balloon) -> Plan:
    """The plan with another number for a row. Raises `PlanError` when that is taken or is no balloon."""
    row = plan.sheet[_place(plan, balloon)]
    if number != balloon and plan.characteristic(number) is not None:
        raise PlanError(f"Balloon {number} is taken; renumber that one first.")
    return plan.with_characteristic(row.edited(balloon=number), balloon)


def in_groups(plan: Plan) -> tuple[tuple[str, tuple[Characteristic, ...]], ...]:
    """The rows of the sheet by group, groups in the order of their first rows."""
    groups: dict[str, list[Characteristic]] = {}
    for row in plan.sheet:
        groups.setdefault(row.group, []).append(row)
    return tuple((name, tuple(rows)) for name, rows in groups.items())


def found_rows(plan: Plan, text: str, grades: Mapping[Balloon, str] | None = None) -> frozenset[int]:
    """The balloons of rows whose number, name or group holds every word of a text, or whose grade is the text.

    grades: by balloon, what its gauge is good for.
    """
    words, grades = text.casefold().split(), grades or {}
    wanted = " ".join(words)
    return frozenset(
        row.balloon
        for row in plan.sheet
        if wanted == grades.get(row.balloon)
        or all(word in f"{row.balloon} {row.name} {row.group}".casefold() for word in words)
    )


def with_nominal(plan: Plan, balloon: int, value: float) -> Plan:
    """The plan with a measured value as nominal of a row, rounded as it is shown; its limits move along."""
    row = plan.sheet[_place(plan, balloon)]
    nominal = round(value, row.decimals)
    if row.nominal is None:
        return plan.with_characteristic(row.edited(nominal=nominal))
    shift = nominal - row.nominal
    ends = {name: None if end is None else round(end + shift, 9) for name, end in _limits(row).items()}
    return plan.with_characteristic(row.edited(nominal=nominal, **ends))


def counted_from_master(plan: Plan, balloon: int, wanted: bool) -> Plan:
    """The plan with a row evaluated by its difference from the reference part, or by its value again.

    The width of its limits stays: about zero, or about what the reference part measures.
    """
    row = plan.sheet[_place(plan, balloon)]
    if row.from_master == wanted:
        return plan
    centre = row.nominal if row.nominal is not None else 0.0
    # back again only what was measured meanwhile is known to count from
    shift = -centre if wanted else (row.master or 0.0)
    ends = {name: None if end is None else round(end + shift, 9) for name, end in _limits(row).items()}
    nominal = 0.0 if wanted else (None if row.master is None else round(row.master, row.decimals))
    return plan.with_characteristic(row.edited(from_master=wanted, master=None, nominal=nominal, **ends))


def _limits(row: Characteristic) -> dict[str, float | None]:
    return {"lower": row.lower, "upper": row.upper}


def _place(plan: Plan, balloon: int) -> int:
    return next(k for k, row in enumerate(plan.sheet) if row.balloon == balloon)
