"""Records of made-up lots: parts whose values are given, evaluated by small plans."""

from __future__ import annotations

from hemtra import Characteristic, Plan, Step
from hemtra.core.evaluation.rows import evaluated
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.plan.limits import part_verdict, reason_of
from hemtra.storage.records.store import Lot, PartRecord
from makers import box

BEGAN = 1_768_204_800.0
MINUTE, DAY = 60.0, 86_400.0


def two_rows(lower=0.1, upper=0.3, name="Rise") -> Plan:
    """A plan with a rise as balloon 1 and its height as balloon 2."""
    steps = (
        Step(id="up", name="Up", kind="spot", zone=box(1.0, 0.0, 1, 1)),
        Step(id="down", name="Down", kind="spot", zone=box(-1.0, 0.0, 1, 1)),
        Step(id="rise", name="Rise", kind="step", inputs={"upper": ("up",), "lower": ("down",)}),
        Step(id="back", name="Back", kind="step", inputs={"upper": ("down",), "lower": ("up",)}),
    )
    rows = (
        Characteristic(balloon=1, name=name, step="rise", lower=lower, upper=upper),
        Characteristic(balloon=2, name="Back", step="back", lower=-0.5, upper=0.5),
    )
    return Plan(name="steps", steps=steps, sheet=rows)


def rows_of(plan: Plan, values, text="", unit="mm"):
    """The sheet with a value a balloon, None where it was not measured; text: what was read instead."""
    return tuple(
        evaluated(row, None, "no data there", unit)
        if values.get(row.balloon) is None
        else evaluated(row, Number(values[row.balloon], unit, Point(0.0, 0.0, 0.0), text), "", unit)
        for row in plan.sheet
    )


def part(number, plan, values, *, at=BEGAN, **more) -> PartRecord:
    """A part of which each balloon has a value."""
    rows = rows_of(plan, values, more.pop("text", ""), more.pop("unit", "mm"))
    verdict = part_verdict(row.verdict for row in rows)
    plain = {"serial": f"S{number:05d}", "triggered": at, "scanned": at, "judged": at, "recorded": at}
    return PartRecord(
        number=number, verdict=verdict, reason=reason_of(rows), rows=rows, elapsed_ms=1.0, **(plain | more)
    )


def made_lot(records, name, values, plan=None, *, started=BEGAN, first=1, lot=None) -> Lot:
    """A lot of parts a minute apart; values: of balloon 1, with 0 for balloon 2."""
    plan = plan or two_rows()
    if lot is None:
        lot = records.add_lot(Lot(0, name, plan.name, started, started + DAY))
    revision = records.revision(plan)
    parts = [
        part(first + k, plan, {1: value, 2: 0.0}, at=started + (first + k) * MINUTE)
        for k, value in enumerate(values)
    ]
    records.add_all(lot, parts, revision)
    return lot
