"""Patterns: one feature, with what is measured of it, repeated in a circle or a grid."""

from __future__ import annotations

import math
from collections.abc import Callable

from hemtra.core.errors import PlanError
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.graph import effective, ordered
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone

MOST = 500
"""Largest number of copies."""

Move = Callable[[AnyZone], AnyZone]


def circular(count: int, x: float, y: float, span: float = 360.0) -> list[Move]:
    """Moves of a zone about a centre in mm to `count` places in all, over a span in degrees.

    A full turn divides evenly; a smaller span has a place at either end. Raises `PlanError`.
    """
    _check(count)
    whole = math.isclose(abs(span), 360.0)
    step = math.radians(span / (count if whole else max(count - 1, 1)))
    return [_turn(x, y, k * step) for k in range(1, count)]


def grid(columns: int, rows: int, dx: float, dy: float) -> list[Move]:
    """Moves of a zone to columns × rows places in all, dx and dy in mm apart. Raises `PlanError`."""
    _check(columns * rows if min(columns, rows) > 0 else 0)
    return [_shift(i * dx, j * dy) for j in range(rows) for i in range(columns) if i or j]


def repeated(plan: Plan, step_id: str, moves: list[Move]) -> Plan:
    """The plan with copies of a step, and of all that is made of it alone, for each move.

    What uses it beside planes only is copied too, as a height above a datum that stays shared; what compares
    several features is not. Rows come along with balloons of their own. Raises `PlanError`.
    """
    if plan.step(step_id).zone is None:
        raise PlanError("Only what has a zone can be repeated.")
    wired = effective(plan)
    order = [step.id for step, _ in ordered(plan)]
    copied = {step_id}
    datums = {s.id for s in plan.steps if issubclass(kind_named(s.kind).output, (Plane, HeightMap))}
    for other in order:
        uses = {i for ids in wired[other].inputs.values() for i in ids}
        if uses & copied and uses <= copied | datums:
            copied.add(other)
    for number, move in enumerate(moves, start=2):
        plan = _copy(plan, [i for i in order if i in copied], step_id, move, number)
    return plan


def _copy(plan: Plan, ids: list[str], moved: str, move: Move, number: int) -> Plan:
    names: dict[str, str] = {}
    for step_id in ids:
        step = plan.step(step_id)
        inputs = {name: tuple(names.get(i, i) for i in sources) for name, sources in step.inputs.items()}
        zone = move(step.zone) if step.id == moved and step.zone is not None else step.zone
        names[step_id] = plan.free_id(step_id)
        copy = Step(
            id=names[step_id],
            name=f"{step.name} {number}",
            kind=step.kind,
            params=step.params,
            inputs=inputs,
            zone=zone,
            follow=step.follow,
        )
        plan = plan.edited(steps=(*plan.steps, copy))
    rows: list[Characteristic] = []
    for row in plan.sheet:
        if row.step in names:
            balloon = plan.free_balloon() + len(rows)
            rows.append(row.edited(balloon=balloon, name=f"{row.name} {number}", step=names[row.step]))
    return plan.edited(sheet=(*plan.sheet, *rows))


def _check(count: int) -> None:
    if not 2 <= count <= MOST:
        raise PlanError(f"A pattern has 2 to {MOST} places, not {count}.")


def _turn(x: float, y: float, angle: float) -> Move:
    c, s = math.cos(angle), math.sin(angle)

    def move(zone: AnyZone) -> AnyZone:
        u, v = zone.x - x, zone.y - y
        changes = {
            "x": round(x + c * u - s * v, 4),
            "y": round(y + s * u + c * v, 4),
            "rotation": (zone.rotation + math.degrees(angle) + 180.0) % 360.0 - 180.0,
        }
        return zone.model_copy(update=changes)

    return move


def _shift(dx: float, dy: float) -> Move:
    return lambda zone: zone.model_copy(update={"x": round(zone.x + dx, 4), "y": round(zone.y + dy, 4)})
