"""Requirement lists: what a drawing asks for as rows of text, to start a sheet from."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from decimal import Decimal

from hemtra.core.errors import PlanError
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.text import plain as shown
from hemtra.core.units import conversion

COLUMNS = ("balloon", "name", "nominal", "lower", "upper", "unit")
MOST_ROWS = 5000
SAID = 40
"""Letters of a cell that a message repeats."""
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?([eE][+-]?\d+)?")


def parse_requirements(text: str) -> tuple[Characteristic, ...]:
    """The rows of a list whose first line names balloon, name, nominal, lower, upper and unit.

    Columns are parted by commas, semicolons or tabs; with the latter two, numbers may have decimal commas. A
    limit with a sign is a deviation from the nominal. Raises `PlanError` that names the line.
    """
    first = text.lstrip("\ufeff").splitlines()[:1]
    if not first or not first[0].strip():
        raise PlanError("The list is empty; its first line names the columns: " + ", ".join(COLUMNS) + ".")
    parted = next((mark for mark in "\t;," if mark in first[0]), ",")
    reader = csv.reader(io.StringIO(text.lstrip("\ufeff")), delimiter=parted)
    header = [cell.strip().lower() for cell in next(_lines(reader))]
    missing = [name for name in ("balloon", "name") if name not in header]
    if missing or not {"lower", "upper"} & set(header):
        raise PlanError(
            f"The list has no column “{missing[0] if missing else 'lower'}”; its first line should name "
            + ", ".join(COLUMNS)
            + "."
        )
    found: list[Characteristic] = []
    for line, cells in enumerate(_lines(reader), start=2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(found) >= MOST_ROWS:
            raise PlanError(f"The list has more than {MOST_ROWS} rows.")
        if len(cells) != len(header):
            hint = "; decimal commas need semicolons between the columns" if parted == "," else ""
            raise PlanError(f"Line {line} has {len(cells)} columns and the first line {len(header)}{hint}.")
        found.append(_row(dict(zip(header, (cell.strip() for cell in cells), strict=True)), line))
    balloons = [row.balloon for row in found]
    twice = next((b for b in balloons if balloons.count(b) > 1), None)
    if twice is not None:
        raise PlanError(f"The list has balloon {twice} twice.")
    return tuple(found)


def _lines(reader: Iterator[list[str]]) -> Iterator[list[str]]:
    try:
        yield from reader
    except csv.Error as error:
        raise PlanError(f"The list cannot be read as a table: {error}.") from None


def with_requirements(plan: Plan, rows: tuple[Characteristic, ...]) -> Plan:
    """The plan with the rows of a list; a balloon it has already takes name and limits and stays bound."""
    asked = {row.balloon: row for row in rows}
    kept = []
    for row in plan.sheet:
        new = asked.pop(row.balloon, None)
        kept.append(row if new is None else new.edited(step=row.step))
    return plan.edited(sheet=(*kept, *asked.values()))


def bound(plan: Plan, balloon: int, made: int) -> Plan:
    """The plan with a row that waited bound to the quantity of a new row, which goes.

    The row keeps the unit of its drawing, to which values are converted. Raises `PlanError` where they
    cannot be.
    """
    waiting, new = plan.characteristic(balloon), plan.characteristic(made)
    if waiting is None or new is None:
        raise PlanError(f"There is no balloon {balloon} that waits to be bound.")
    assert new.step is not None
    unit = kind_named(plan.step(new.step).kind).unit
    if waiting.unit and conversion(unit, waiting.unit) is None:
        measures = f"in {unit}" if unit else "a number without unit"
        raise PlanError(
            f"Balloon {balloon} has limits in {waiting.unit}, and what was clicked is measured {measures}."
            " Click something that is measured in such a unit, or correct the unit of the row."
        )
    sheet = tuple(c for c in plan.sheet if c.balloon != made)
    return plan.edited(sheet=sheet).with_characteristic(waiting.edited(step=new.step))


def _row(cells: dict[str, str], line: int) -> Characteristic:
    balloon = cells["balloon"]
    if not balloon.isdigit():
        raise PlanError(f"Line {line}: “{shown(balloon, SAID)}” is no balloon number.")
    nominal = _number(cells.get("nominal", ""), line)
    limits = {}
    for name in ("lower", "upper"):
        text = cells.get(name, "")
        value = _number(text, line)
        if value is not None and text[0] in "+-−" and nominal is not None:
            value = float(Decimal(repr(nominal)) + Decimal(repr(value)))
        limits[name] = value
    try:
        return Characteristic(
            balloon=int(balloon), name=cells["name"], nominal=nominal, unit=cells.get("unit", ""), **limits
        )
    except ValueError as error:
        words = str(error).splitlines()
        reason = next((w.strip().removeprefix("Value error, ") for w in words if "balloon" in w), "")
        raise PlanError(f"Line {line}: {reason.split(' [')[0] or 'its name or limits do not hold'}.") from None


def _number(text: str, line: int) -> float | None:
    if not text:
        return None
    plain = text.replace("−", "-")
    if not _NUMBER.fullmatch(plain):
        raise PlanError(f"Line {line}: “{shown(text, SAID)}” is not a number.")
    return float(plain.replace(",", "."))
