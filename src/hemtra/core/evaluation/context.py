"""Context of a step on one map: placed zone, inputs, and the fingerprints of both."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any, TypeAlias

from hemtra.core.evaluation.results import StepResult
from hemtra.core.geometry.elements import LEVEL, Plane
from hemtra.core.kept import Derived
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Follow, Home, Step
from hemtra.core.plan.follow import base, followed, followed_on_profile
from hemtra.core.plan.graph import STEPS
from hemtra.core.plan.kind import Kind, StepContext
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone

Homes: TypeAlias = Mapping[str, Home]


def drawn_here(step: Step) -> Step:
    """A step as it is on the reference scan itself."""
    follow = Follow(z=step.follow.z, tilt=step.follow.tilt)
    return step.model_copy(update={"follow": follow, "home": None, "taught": None})


def with_ancestors(wanted: set[str], steps: Mapping[str, tuple[Step, Kind]]) -> set[str]:
    """These steps and all they need."""
    found: set[str] = set()
    waiting = list(wanted)
    while waiting:
        step_id = waiting.pop()
        if step_id not in found:
            found.add(step_id)
            waiting += steps[step_id][0].needs
    return found


def placed(step: Step, homes: Homes, results: Mapping[str, StepResult]) -> tuple[AnyZone | None, Plane]:
    """Place a step's zone on this map, with its height origin. Raises `NotMeasured`."""
    if step.zone is None or not step.follow.anchors:
        return step.zone, LEVEL
    if kind_named(step.kind).section_input and step.inputs.get(kind_named(step.kind).section_input):
        values = {i: results[i].value for i in step.follow.anchors}
        return followed_on_profile(step.zone, step.follow, homes, values), LEVEL
    values = {i: results[i].value for i in step.follow.anchors}
    zone = followed(step.zone, step.follow, homes, values)
    return zone, base(step.follow, homes, values, (zone.x, zone.y))


def context_of(
    data: HeightMap,
    serial: str,
    step: Step,
    placed_at: tuple[AnyZone | None, Plane],
    results: Mapping[str, StepResult],
) -> StepContext:
    """Gather a step's context. placed_at: its zone on the map, and its height origin."""
    inputs = {name: tuple(results[i].value for i in ids) for name, ids in step.inputs.items()}
    prepared = inputs.pop("data", ())
    columns = step.taught.columns if step.taught is not None else {}
    zone, ground = placed_at
    on_part = step.follow.z is not None
    return StepContext(prepared[0] if prepared else data, zone, inputs, ground, columns, serial, on_part)


def _own(step: Step) -> str:
    """What of a step decides its value on any map."""
    lesson = None if step.taught is None else step.taught.digest
    return json.dumps([step.kind, step.params, lesson], sort_keys=True)


_OWN = Derived(_own, STEPS)


def fingerprint(step: Step, zone: AnyZone | None, ground: Plane, results: Mapping[str, StepResult]) -> str:
    """Fingerprint of everything that decides a step's value on a given height map, without its id and name."""
    where = None if zone is None else zone.model_dump_json()
    heights: list[Any] | None = None
    if ground is not LEVEL:
        heights = [*(getattr(ground, name) for name in ground.__slots__), step.follow.z is not None]
    inputs = {name: [results[i].fingerprint for i in ids] for name, ids in step.inputs.items()}
    text = _OWN(step) + json.dumps([where, heights, inputs], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def column_fingerprint(step: Step, average: int, homes: Homes, marks: Mapping[str, str]) -> str:
    """Fingerprint of everything that decides a step's values on all profiles of a given map."""
    where = None if step.zone is None else step.zone.model_dump(mode="json")
    follow = {i: [marks[i], homes[i].model_dump() if i in homes else None] for i in step.follow.anchors}
    axes = step.follow.model_dump() if follow else None
    inputs = {name: [marks[i] for i in ids] for name, ids in step.inputs.items()}
    text = _OWN(step) + json.dumps([where, axes, follow, inputs, average], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
