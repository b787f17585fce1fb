"""A plan built in Python, step by step, without ids by hand."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from typing import Any, TypeAlias

from pydantic import ValidationError

from hemtra.core.errors import PlanError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.geometry.elements import Number
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Follow, Plan, Step
from hemtra.core.plan.kind import DATA, Kind
from hemtra.core.plan.registry import kind_named, kinds
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.zones.zone import AnyZone


@dataclass(frozen=True)
class Feature:
    """A step of a plan that is being built, for the steps that use or follow it."""

    id: str
    name: str


Features: TypeAlias = Feature | Iterable[Feature]


class PlanDraft:
    """Every kind of step is a method, with underscores for hyphens: `draft.plane(…)`, `draft.true_position(…)`.

    The method of a feature returns it, so that others can use or follow it. That of a characteristic adds a row
    to the sheet under the next balloon and returns the draft, so that they can follow one another:

        draft = hemtra.plan("cover")
        flange = draft.plane("Flange", RectangleZone(x=0, y=0, width=100, height=60), trim=3)
        top = draft.spot("Hub top", RingZone(x=0, y=0, width=36, height=36, inner=0.6), on=flange)
        draft.height("Hub height", "8.00 ±0.05", point=top, plane=flange)
        plan = draft.taught(reference)
    """

    def __init__(self, name: str) -> None:
        self._name = name
        self._steps: list[Step] = []
        self._rows: list[Characteristic] = []
        self._prepared: str | None = None

    def __repr__(self) -> str:
        return f"PlanDraft({self._name!r}, {len(self._steps)} steps, {len(self._rows)} characteristics)"

    def __dir__(self) -> Iterable[str]:
        return [*super().__dir__(), *(name.replace("-", "_") for name in kinds())]

    def __getattr__(self, name: str) -> Callable[..., Any]:
        kind = name.replace("_", "-")
        if name.startswith("_") or kind not in kinds():
            near = difflib.get_close_matches(kind, kinds(), 1)
            hint = f"; did you mean {near[0].replace('-', '_')}?" if near else ""
            raise AttributeError(f"“{name}” is not a kind of step{hint}")
        return partial(self._characteristic if _is_number(kind_named(kind)) else self.step, kind)

    def step(
        self,
        kind: str,
        name: str,
        zone: AnyZone | None = None,
        *,
        follow: Feature | None = None,
        on: Feature | None = None,
        **given: Any,
    ) -> Feature:
        """Add a feature, or any other step, and return it.

        zone: in mm on the reference scan. follow: an anchor that the zone follows in x, y and rotation. on: a
        plane that it follows in z and tilt. given: inputs, each a feature or several, and parameters of the
        kind by their names. Raises `PlanError` in words.
        """
        made = kind_named(kind)
        allowed = {**made.inputs, **DATA}
        inputs = {key: _ids(key, value) for key, value in given.items() if key in allowed}
        params = {key: value for key, value in given.items() if key not in allowed}
        unknown = [key for key in params if key not in made.model_fields]
        if unknown:
            known = ", ".join(sorted({*allowed, *made.model_fields}))
            raise PlanError(f"{kind} takes no “{unknown[0]}”; it takes {known}")
        missing = [key for key, one in made.inputs.items() if not one.optional and key not in inputs]
        if missing:
            raise PlanError(f"{kind} “{name}” needs {' and '.join(missing)}")
        if made.needs_zone and zone is None:
            raise PlanError(f"{kind} “{name}” needs a zone")
        try:
            params = made.model_validate(params).model_dump(mode="json", include=set(params))
            anchors = {axis: follow.id for axis in ("x", "y", "rotation") if follow is not None}
            anchors |= {axis: on.id for axis in ("z", "tilt") if on is not None}
            step = Step(
                id=self._id(name),
                name=name,
                kind=kind,
                params=params,
                inputs=inputs,
                zone=zone,
                follow=Follow(**anchors),
            )
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            where = ".".join(map(str, first["loc"]))
            raise PlanError(f"{kind} “{name}”: {where}: {first['msg']}") from None
        self._steps.append(step)
        return Feature(step.id, name)

    def characteristic(
        self, of: Feature, name: str, tolerance: str = "", *, balloon: int | str | None = None, **row: Any
    ) -> PlanDraft:
        """Add a row of the sheet for a step that measures.

        tolerance: as on a drawing, “4.00 ±0.10”, “≤ 0.15”, “2.5 +0.15 −0.05”. balloon: the next number where
        none is given. row: fields of `Characteristic`, such as lower, upper, nominal, unit or group. Raises
        `HemtraError` in words.
        """
        if tolerance:
            read = parse_tolerance(tolerance, row.get("nominal"))
            limits = {"nominal": read.nominal, "lower": read.lower, "upper": read.upper}
            row = {**limits, "uncertainty": read.uncertainty, "covers": read.covers, **row}
        number = Balloon.parse(str(balloon)) if balloon is not None else self._next_balloon()
        try:
            self._rows.append(Characteristic(balloon=number, name=name, step=of.id, **row))
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            raise PlanError(str(first["msg"]).removeprefix("Value error, ")) from None
        return self

    def prepare(self, kind: str, name: str = "", **given: Any) -> PlanDraft:
        """Add a preparation to the end of the chain that all data goes through."""
        if self._prepared is not None:
            given.setdefault("data", Feature(self._prepared, ""))
        self._prepared = self.step(kind, name or kind_named(kind).title, **given).id
        return self

    def finished(self) -> Plan:
        """The plan, before anything is taught. Raises `PlanError` where it does not hold."""
        try:
            return Plan(
                name=self._name, steps=tuple(self._steps), sheet=tuple(self._rows), prepared=self._prepared
            )
        except ValidationError as error:
            message = error.errors(include_url=False)[0]["msg"]
            raise PlanError(str(message).removeprefix("Value error, ")) from None

    def taught(self, reference: HeightMap) -> Plan:
        """The plan with what its steps are taught by a reference: contours, and where its anchors lie."""
        return Engine(getattr(reference, "data", reference)).taught(self.finished())

    def _characteristic(
        self, kind: str, name: str, tolerance: str = "", zone: AnyZone | None = None, **given: Any
    ) -> PlanDraft:
        made = kind_named(kind)
        own = {*made.inputs, *DATA, *made.model_fields, "follow", "on"}
        row = {key: value for key, value in given.items() if key not in own}
        unknown = [key for key in row if key not in {*Characteristic.model_fields}]
        if unknown:
            raise PlanError(f"{kind} takes no “{unknown[0]}”; it takes {', '.join(sorted(own))}")
        of = self.step(kind, name, zone, **{key: value for key, value in given.items() if key in own})
        try:
            return self.characteristic(of, name, tolerance, **row)
        except Exception:
            self._steps.pop()  # a draft that was refused a row is as it was
            raise

    def _id(self, name: str) -> str:
        stem = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:40] or "step"
        used = {step.id for step in self._steps}
        return next(one for one in _numbered(stem) if one not in used)

    def _next_balloon(self) -> Balloon:
        used = [int(m[0]) for row in self._rows if (m := re.match(r"\d+", str(row.balloon)))]
        return Balloon.parse(str(max(used, default=0) + 1))


def _is_number(kind: type[Kind]) -> bool:
    return issubclass(kind.output, Number)


def _ids(key: str, given: Features) -> tuple[str, ...]:
    found = (given,) if isinstance(given, Feature) else tuple(given)
    if not all(isinstance(one, Feature) for one in found):
        raise PlanError(f"“{key}” takes features of this draft, as its methods return them")
    return tuple(one.id for one in found)


def _numbered(stem: str) -> Iterable[str]:
    yield stem
    k = 2
    while True:
        yield f"{stem}-{k}"
        k += 1
