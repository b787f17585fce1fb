"""Differences between two plans in words: rows, limits, steps, zones, parameters, signals."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Characteristic, Follow, Plan, Step
from hemtra.core.plan.follow import AXES
from hemtra.core.plan.gauge_mark import GaugeMark
from hemtra.core.plan.master_part import MasterPart
from hemtra.core.plan.nominal import Nominal
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.signals import read_aloud
from hemtra.core.zones.zone import AnyZone, PathNode, PathZone, PolygonZone

NONE = "–"
"""Text for a missing value."""
OF_ROW = {
    "name": "name",
    "unit": "unit of its limits",
    "group": "group",
    "hidden": "hidden on the stage",
    "off": "switched off",
    "from_master": "difference from the reference",
    "over": "verdict over many values",
    "least_share": "minimum percentage in limits",
    "least_coverage": "minimum coverage",
    "most_spikes": "most isolated points",
    "master": "value of the reference",
    "note": "note",
}
"""Fields of a row that are compared as they are, and what they are called."""
OF_PLAN = {"name": "name", "not_proven": "NOT PROVEN counts as"}


@dataclass(frozen=True)
class Difference:
    """One difference. of, id: the row by its balloon, or the step; '' for the plan itself.

    before, after: in words, `NONE` where there is none.
    """

    of: Literal["row", "step", "plan"]
    id: str
    name: str
    what: str
    before: str
    after: str


def differences(before: Plan, after: Plan) -> tuple[Difference, ...]:
    """All that differs: of the plan, then row by row in the order of balloons, then step by step."""
    return (*_of_the_plan(before, after), *_of_the_rows(before, after), *_of_the_steps(before, after))


def _of_the_plan(before: Plan, after: Plan) -> Iterator[Difference]:
    for field, what in OF_PLAN.items():
        a, b = getattr(before, field), getattr(after, field)
        if a != b:
            yield Difference("plan", "", "plan", what, _plain(a), _plain(b))
    if before.prepared != after.prepared:
        a, b = (_step_name(plan, plan.prepared) for plan in (before, after))
        yield Difference("plan", "", "plan", "preparation", a, b)
    if before.by_profile != after.by_profile:
        a, b = (_profiles(plan) for plan in (before, after))
        yield Difference("plan", "", "plan", "inspects", a, b)
    for field, what, words in (
        ("master_part", "master part", _master),
        ("nominal", "nominal surface", _nominal),
    ):
        one, other = getattr(before, field), getattr(after, field)
        if one != other:
            yield Difference("plan", "", "plan", what, words(one), words(other))
    old, new = ({s.name: s for s in plan.signals} for plan in (before, after))
    for name in dict.fromkeys((*old, *new)):
        if old.get(name) != new.get(name):
            a, b = (NONE if s is None else read_aloud(s) for s in (old.get(name), new.get(name)))
            yield Difference("plan", "", f"signal {name}", "signal", a, b)


def _master(part: MasterPart | None) -> str:
    if part is None:
        return NONE
    shifts = "".join(f", at {shift:%H:%M}" for shift in part.shifts)
    values = sorted(part.values.items(), key=lambda pair: (len(pair[0]), pair[0]))
    read = ", ".join(f"{balloon}: {_number(value)}" for balloon, value in values)
    within = f"within {_number(part.share)} % of each tolerance of {read or 'nothing'}"
    return f"{part.serial}, every {_number(part.hours)} h{shifts}, {within}"


def _nominal(surface: Nominal | None) -> str:
    if surface is None:
        return NONE
    place = ", ".join(_number(getattr(surface, name)) for name in ("x", "y", "z"))
    turned = ", ".join(_number(getattr(surface, name)) for name in ("rotation", "tilt_x", "tilt_y"))
    by = f"{surface.name} ({surface.digest[:6]}) by {surface.placed}, off by {_number(surface.rms)} mm"
    return f"{by}, at {place} mm, turned {turned}°"


def _profiles(plan: Plan) -> str:
    way = plan.by_profile
    if way is None:
        return "parts as a whole"
    return (
        f"profile by profile, drawn at {_number(way.at)} mm, mean of {way.average},"
        f" {_number(way.least_measured)} % measured"
    )


def _of_the_rows(before: Plan, after: Plan) -> Iterator[Difference]:
    old, new = ({row.balloon: row for row in plan.sheet} for plan in (before, after))
    for balloon in sorted({*old, *new}):
        a, b = old.get(balloon), new.get(balloon)
        if a is None or b is None:
            row = a or b
            assert row is not None
            gone, came = (NONE if r is None else f"{r.name}, {r.tolerance}" for r in (a, b))
            yield Difference("row", str(balloon), row.name, "row", gone, came)
            continue
        for what, left, right in _of_a_row(before, a, after, b):
            yield Difference("row", str(balloon), b.name, what, left, right)
    order = [[row.balloon for row in plan.sheet] for plan in (before, after)]
    if set(order[0]) == set(order[1]) and order[0] != order[1]:
        yield Difference("plan", "", "sheet", "order", *(" ".join(map(str, one)) for one in order))


def _of_a_row(
    before: Plan, a: Characteristic, after: Plan, b: Characteristic
) -> Iterator[tuple[str, str, str]]:
    limits = ("nominal", "lower", "upper", "uncertainty", "covers")
    if any(getattr(a, name) != getattr(b, name) for name in limits):
        if a.tolerance == b.tolerance:
            yield "limits", _exact(a), _exact(b)
        else:
            yield "limits", a.tolerance, b.tolerance
    if a.step != b.step:
        yield "measures", _step_name(before, a.step), _step_name(after, b.step)
    if a.correction != b.correction:
        yield "two-point correction", _pairs(a), _pairs(b)
    for field, what in OF_ROW.items():
        left, right = getattr(a, field), getattr(b, field)
        if left != right:
            yield what, _plain(left), _plain(right)
    if a.budget != b.budget:
        yield "uncertainty worked out", _budget(a.budget), _budget(b.budget)
    if a.gauge != b.gauge:
        yield "gauge study", _gauge(a.gauge), _gauge(b.gauge)


def _of_the_steps(before: Plan, after: Plan) -> Iterator[Difference]:
    old, new = ({step.id: step for step in plan.steps} for plan in (before, after))
    for step_id in dict.fromkeys((*old, *new)):
        a, b = old.get(step_id), new.get(step_id)
        if a is None or b is None:
            step = a or b
            assert step is not None
            title = kind_named(step.kind).title
            gone, came = (NONE if s is None else title for s in (a, b))
            yield Difference("step", step_id, step.name, "step", gone, came)
            continue
        for what, left, right in _of_a_step(before, a, after, b):
            yield Difference("step", step_id, b.name, what, left, right)


def _of_a_step(before: Plan, a: Step, after: Plan, b: Step) -> Iterator[tuple[str, str, str]]:
    if a.name != b.name:
        yield "name", a.name, b.name
    if a.kind != b.kind:
        yield "kind", kind_named(a.kind).title, kind_named(b.kind).title
    if a.zone != b.zone:
        yield "zone", *_zones(a.zone, b.zone)
    if a.follow != b.follow:
        yield "follows", _follow(before, a.follow), _follow(after, b.follow)
    accepted = {**kind_named(a.kind).accepted(), **kind_named(b.kind).accepted()}
    for name in dict.fromkeys((*a.inputs, *b.inputs)):
        left, right = a.inputs.get(name, ()), b.inputs.get(name, ())
        if left != right:
            label = accepted[name].label if name in accepted else name
            yield label, _step_names(before, left), _step_names(after, right)
    if a.kind == b.kind:
        yield from _params(a, b)
    taught = (a.taught, b.taught)
    if taught[0] != taught[1] and a.zone == b.zone and a.params == b.params:
        yield "taught by the reference", "as it was", "anew"


def _params(a: Step, b: Step) -> Iterator[tuple[str, str, str]]:
    """Parameters with the labels of their fields; what has its default counts with that."""
    kind = kind_named(a.kind)
    left, right = kind.model_validate(a.params), kind.model_validate(b.params)
    for name, field in kind.model_fields.items():
        one, other = getattr(left, name), getattr(right, name)
        if one != other:
            extra: Any = field.json_schema_extra or {}
            choices = extra.get("choices", {})
            was, will = (choices.get(v, _plain(v)) if isinstance(v, str) else _plain(v) for v in (one, other))
            yield (field.title or name.replace("_", " ")), was, will


def _zones(one: AnyZone | None, other: AnyZone | None) -> tuple[str, str]:
    """Two zones that differ in words that do, down to the node or cut-out where they begin to."""
    said = _zone(one), _zone(other)
    if said[0] != said[1] or one is None or other is None:
        return said
    for name, what in (("cut", "cut-out"), ("add", "added area"), ("nodes", "node")):
        pairs = zip(getattr(one, name, ()), getattr(other, name, ()), strict=False)
        for number, (a, b) in enumerate(pairs, start=1):
            if a != b:
                words = (_node(a), _node(b)) if name == "nodes" else _zones(a, b)
                return f"{said[0]}, {what} {number}: {words[0]}", f"{said[1]}, {what} {number}: {words[1]}"
    return said


def _node(node: PathNode | tuple[float, float]) -> str:
    """Position in percent of the zone's width and height, and the setting there."""
    if isinstance(node, tuple):
        return f"{_number(100.0 * node[0])}, {_number(100.0 * node[1])} %"
    values = node.model_dump(exclude_defaults=True, exclude={"u", "v"})
    more = "".join(f", {name.replace('_', ' ')} {_plain(value)}" for name, value in values.items())
    return f"{_node((node.u, node.v))}{more}"


def _zone(zone: AnyZone | None) -> str:
    if zone is None:
        return NONE
    x, y, width, height = map(_number, (zone.x, zone.y, zone.width, zone.height))
    said = f"{zone.shape} at {x}, {y} mm, {width} × {height} mm"
    if zone.rotation:
        said += f", turned {_number(zone.rotation)}°"
    if isinstance(zone, (PolygonZone, PathZone)):
        said += f", {len(zone.nodes)} nodes"
    for count, what in ((len(zone.cut), "cut-out"), (len(zone.add), "added area")):
        if count:
            said += f", {count} {what}{'s' if count > 1 else ''}"
    return said if zone.band is None else f"{said}, heights {zone.band.words}"


def _follow(plan: Plan, follow: Follow) -> str:
    anchors = {axis: getattr(follow, axis) for axis in AXES}
    by_anchor: dict[str, list[str]] = {}
    for axis, anchor in anchors.items():
        if anchor is not None:
            by_anchor.setdefault(anchor, []).append("turn" if axis == "rotation" else axis)
    said = (f"{_step_name(plan, anchor)} ({', '.join(axes)})" for anchor, axes in by_anchor.items())
    return "; ".join(said) or NONE


def _step_name(plan: Plan, step_id: str | None) -> str:
    if step_id is None:
        return NONE
    return next((step.name for step in plan.steps if step.id == step_id), step_id)


def _step_names(plan: Plan, ids: tuple[str, ...]) -> str:
    return ", ".join(_step_name(plan, step_id) for step_id in ids) or NONE


def _exact(row: Characteristic) -> str:
    """Limits that read alike, with all their digits."""
    named = (("nominal", row.nominal), ("lower", row.lower), ("upper", row.upper), ("U", row.uncertainty))
    return ", ".join(f"{name} {value!r}" for name, value in named if value is not None)


def _pairs(row: Characteristic) -> str:
    if row.correction is None:
        return NONE
    pairs = zip(row.correction.measured, row.correction.known, strict=True)
    return ", ".join(f"{_number(measured)} is {_number(known)}" for measured, known in pairs)


def _plain(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if value is None or value == "":
        return NONE
    if isinstance(value, float):
        return _number(value)
    return str(value) if not isinstance(value, (list, tuple)) else f"{len(value)} values"


def _number(value: float) -> str:
    """With as many digits as distinguish it from another that somebody typed."""
    return f"{value:.12g}"


def _budget(budget: Budget | None) -> str:
    if budget is None:
        return NONE
    shares = ", ".join(
        f"{budget.TITLES[name]} {_number(100.0 * share)} %" for name, share in budget.shares.items()
    )
    return f"u = {_number(budget.u)} {budget.unit}: {shares or 'nothing'}"


def _gauge(mark: GaugeMark | None) -> str:
    if mark is None:
        return NONE
    return f"{mark.made}, {mark.readings}, standard deviation {_number(mark.deviation)} {mark.unit}".rstrip()
