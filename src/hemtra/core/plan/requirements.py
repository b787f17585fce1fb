"""Requirement lists: what a drawing requires as rows of text, to start a sheet from."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from hemtra.core.errors import HemtraError, PlanError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.text import plain as shown
from hemtra.core.units import conversion

FIELDS = {
    "balloon": "balloon",
    "name": "name",
    "nominal": "nominal",
    "lower": "lower limit",
    "upper": "upper limit",
    "plus": "upper deviation",
    "minus": "lower deviation",
    "tolerance": "tolerance as text",
    "unit": "unit",
}
"""Fields a column may hold, with their titles."""
COLUMNS = ("balloon", "name", "nominal", "lower", "upper", "unit")
"""Names of the columns of a list that needs no asking."""
_NAMES = {
    "balloon": "no nr number item pos position char id feature ref # characteristic-no balloon-no",
    "name": "characteristic description feature-name designation requirement dimension-name",
    "nominal": "nom nominal-value target target-value size value dimension",
    "lower": "lower-limit min minimum lsl lower-spec from",
    "upper": "upper-limit max maximum usl upper-spec to",
    "plus": "+ +tol tol+ upper-tol upper-tolerance tol-upper plus-tolerance tol-plus upper-deviation +dev",
    "minus": "- -tol tol- lower-tol lower-tolerance tol-lower minus-tolerance tol-minus lower-deviation -dev",
    "tolerance": "tol limits tolerances",
    "unit": "units uom unit-of-measure",
}
"""Other names that columns go by, a hyphen for a space."""
MOST_ROWS = 5000
SAID = 40
"""Letters of a cell that a message repeats."""
SHOWN = 4
"""Rows of a list that are shown while the meaning of its columns is requested."""
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?([eE][+-]?\d+)?")

Columns = Mapping[str, int]
"""Column index of each field."""


class UnknownColumns(PlanError):
    """A list whose columns do not say what they hold."""


@dataclass(frozen=True)
class RequirementTable:
    """A list as it is written: its first line, all others with their numbers, and what parts its columns."""

    header: tuple[str, ...]
    lines: tuple[tuple[int, tuple[str, ...]], ...]
    parted: str

    @property
    def signature(self) -> str:
        """The same for lists with the same columns, to remember what these hold."""
        return "\t".join(cell.lower() for cell in self.header)

    def sample(self, column: int) -> str:
        """The first cells of a column that hold anything."""
        cells = (cells[column] for _, cells in self.lines if column < len(cells) and cells[column])
        return ", ".join(shown(cell, SAID) for cell, _ in zip(cells, range(SHOWN), strict=False))


def read_table(text: str) -> RequirementTable:
    """The cells of a list, parted by commas, semicolons or tabs. Raises `PlanError` that names the line."""
    text = text.lstrip("\ufeff")
    first = text.splitlines()[:1]
    if not first or not first[0].strip():
        raise PlanError("The list is empty; its first line names the columns: " + ", ".join(COLUMNS) + ".")
    parted = next((mark for mark in "\t;," if mark in first[0]), ",")
    reader = csv.reader(io.StringIO(text), delimiter=parted)
    header = tuple(cell.strip() for cell in next(_lines(reader)))
    lines: list[tuple[int, tuple[str, ...]]] = []
    for line, cells in enumerate(_lines(reader), start=2):
        if not any(cell.strip() for cell in cells):
            continue
        if len(lines) >= MOST_ROWS:
            raise PlanError(f"The list has more than {MOST_ROWS} rows.")
        if len(cells) != len(header):
            hint = "; decimal commas need semicolons between the columns" if parted == "," else ""
            raise PlanError(f"Line {line} has {len(cells)} columns and the first line {len(header)}{hint}.")
        lines.append((line, tuple(cell.strip() for cell in cells)))
    return RequirementTable(header, tuple(lines), parted)


def guessed_columns(table: RequirementTable) -> dict[str, int]:
    """Guess the fields of columns from their names; our own names go before others."""
    names = [re.sub(r"[\s_]+", "-", cell.lower().strip(". ")) for cell in table.header]
    found: dict[str, int] = {}
    for field in FIELDS:
        if field in names:
            found[field] = names.index(field)
    for field, others in _NAMES.items():
        if field not in found:
            taken = set(found.values())
            known = others.split()
            at = next((k for k, name in enumerate(names) if name in known and k not in taken), None)
            if at is not None:
                found[field] = at
    return found


def lacking(columns: Columns) -> str:
    """Reason why a list cannot be read by these columns; '' where it can."""
    for needed in ("balloon", "name"):
        if needed not in columns:
            return needed
    return "" if {"lower", "upper", "plus", "minus", "tolerance"} & set(columns) else "lower"


def parse_requirements(text: str) -> tuple[Characteristic, ...]:
    """The rows of a list whose first line says what its columns hold.

    Raises `UnknownColumns` where it does not, other `PlanError`s that name the line.
    """
    table = read_table(text)
    return rows_of(table, guessed_columns(table))


def rows_of(table: RequirementTable, columns: Columns) -> tuple[Characteristic, ...]:
    """The rows of a list by what its columns hold.

    Numbers may have decimal commas. A limit with a sign is a deviation from the nominal. Raises as
    `parse_requirements` does.
    """
    lacks = lacking(columns)
    if lacks:
        said = ", ".join(COLUMNS)
        raise UnknownColumns(f"The list has no column “{lacks}”; its first line should name {said}.")
    found = [
        _row({field: cells[at] for field, at in columns.items()}, f"Line {line}") for line, cells in table.lines
    ]
    return without_doubles(found)


def without_doubles(found: Sequence[Characteristic]) -> tuple[Characteristic, ...]:
    """The rows, where no two have one balloon. Raises `PlanError`."""
    counts = Counter(row.balloon for row in found)
    twice = next((balloon for balloon, count in counts.items() if count > 1), None)
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
    step = plan.step(new.step)
    unit = kind_named(step.kind).model_validate(step.params).value_unit
    if waiting.unit and conversion(unit, waiting.unit) is None:
        measures = f"in {unit}" if unit else "a number without unit"
        raise PlanError(
            f"Balloon {balloon} has limits in {waiting.unit}, and what was clicked is measured {measures}."
            " Click something that is measured in such a unit, or correct the unit of the row."
        )
    sheet = tuple(c for c in plan.sheet if c.balloon != made)
    return plan.edited(sheet=sheet).with_characteristic(waiting.edited(step=new.step))


def _row(cells: dict[str, str], place: str) -> Characteristic:
    """A row; place: its position in the list, for messages."""
    try:
        balloon = Balloon.parse(cells["balloon"])
    except ValueError:
        raise PlanError(f"{place}: “{shown(cells['balloon'], SAID)}” is no balloon number.") from None
    nominal = _number(cells.get("nominal", ""), place)
    around = _around_negative(cells, nominal, place)
    limits = {"lower": _limit(cells, "lower", "minus", None if around else nominal, place)}
    limits["upper"] = _limit(cells, "upper", "plus", None if around else nominal, place)
    text = cells.get("tolerance", "")
    if text and limits == {"lower": None, "upper": None}:
        try:
            asked = parse_tolerance(text.replace("−", "-"), nominal)
        except HemtraError:
            raise PlanError(f"{place}: “{shown(text, SAID)}” is not a tolerance.") from None
        nominal, limits = asked.nominal, {"lower": asked.lower, "upper": asked.upper}
    try:
        return Characteristic(
            balloon=balloon, name=cells["name"], nominal=nominal, unit=cells.get("unit", ""), **limits
        )
    except ValueError as error:
        words = str(error).splitlines()
        reason = next((w.strip().removeprefix("Value error, ") for w in words if "balloon" in w), "")
        raise PlanError(f"{place}: {reason.split(' [')[0] or 'its name or limits do not hold'}.") from None


def _around_negative(cells: dict[str, str], nominal: float | None, place: str) -> bool:
    """Whether limits with a sign lie about a nominal below zero, and so are no deviations from it.

    An upper limit alone may be either; as a deviation it is the stricter of the two. One above zero that has no
    sign is none, and so is then the lower one: both deviations would have theirs.
    """
    lower, upper = (_number(cells.get(name, ""), place) for name in ("lower", "upper"))
    if nominal is None or nominal >= 0.0 or lower is None or lower > nominal:
        return False
    return upper is None or (nominal <= upper and not cells["upper"].startswith("+"))


def _limit(
    cells: dict[str, str], limit: str, deviation: str, nominal: float | None, place: str
) -> float | None:
    """A limit as it stands in its column, or by its deviation; with a sign either is one from the nominal."""
    text = cells.get(limit, "")
    value = _number(text, place)
    if value is not None and (text[0] not in "+-−" or nominal is None):
        return value
    if value is None:
        text = cells.get(deviation, "")
        value = _number(text, place)
        if value is None:
            return None
        if nominal is None and deviation == "plus" and not cells.get("minus", "") and value >= 0.0:
            # a tolerance of form has no nominal; it counts from zero
            return value
        if nominal is None:
            raise PlanError(f"{place}: a deviation needs the nominal it counts from.")
        if deviation == "minus" and text[0] not in "+-−":
            # a column of lower deviations is often written without the sign they have
            value = -value
    return float(Decimal(repr(nominal)) + Decimal(repr(value)))


def _number(text: str, place: str) -> float | None:
    if not text:
        return None
    plain = text.replace("−", "-")
    if not _NUMBER.fullmatch(plain):
        raise PlanError(f"{place}: “{shown(text, SAID)}” is not a number.")
    return float(plain.replace(",", "."))
