"""The plan document: what is measured, where, and against which limits."""

from __future__ import annotations

import hashlib
import math
from collections import Counter
from functools import cached_property
from typing import Annotated, Any, Literal, Self, TypeVar

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    JsonValue,
    StringConstraints,
    ValidationError,
    model_validator,
)

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import PlanError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.gauge_mark import GaugeMark
from hemtra.core.plan.limits import decimals_for
from hemtra.core.plan.master_part import MasterPart
from hemtra.core.plan.nominal import Nominal
from hemtra.core.plan.series import Over
from hemtra.core.plan.signals import MOST_SIGNALS, AnySignal
from hemtra.core.zones.zone import Zone

SHOWN = 3
"""Rows that a plan is shown with where it is printed."""
SCHEMA = 10
"""Version of the document's form; older ones are migrated when read, newer ones refused."""

Id = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,62}$")]
Name = Annotated[str, StringConstraints(min_length=1, max_length=120, strip_whitespace=True)]
Finite = Annotated[float, Field(allow_inf_nan=False)]
N = TypeVar("N", float, FloatArray)
Percent = Annotated[float, Field(gt=0.0, le=100.0)]


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    def __copy__(self) -> Self:
        """A copy, whose fields may be replaced: what was derived from them is not in it."""
        copy = super().__copy__()
        for name in vars(copy).keys() - type(self).model_fields.keys():
            del vars(copy)[name]
        return copy

    def edited(self, **changes: Any) -> Self:
        """A validated copy with some fields replaced. Raises `PlanError` when they do not hold."""
        fields = {name: getattr(self, name) for name in type(self).model_fields}
        try:
            return type(self)(**{**fields, **changes})
        except ValidationError as error:
            message = error.errors(include_url=False)[0]["msg"].removeprefix("Value error, ")
            raise PlanError(f"{message[:1].upper()}{message[1:]}.") from None


class Follow(_Document):
    """Anchor of a zone for each axis, by step id; None for none."""

    x: Id | None = None
    y: Id | None = None
    rotation: Id | None = None
    z: Id | None = None
    tilt: Id | None = None

    @cached_property
    def anchors(self) -> tuple[str, ...]:
        """The anchors, each once."""
        named = (self.x, self.y, self.rotation, self.z, self.tilt)
        return tuple(dict.fromkeys(i for i in named if i is not None))

    def without(self, anchor: str) -> Follow:
        """Not following that one any more."""
        return self.replaced(anchor, None)

    def replaced(self, anchor: str, other: str | None) -> Follow:
        """Following another one in its place."""
        fields = {name: getattr(self, name) for name in type(self).model_fields}
        return Follow(**{name: other if step_id == anchor else step_id for name, step_id in fields.items()})


class Home(_Document):
    """Pose of an anchor on the reference scan: mm and degrees, and the slopes of its plane."""

    x: Finite
    y: Finite
    z: Finite
    rotation: Finite
    slope_x: Finite = 0.0
    slope_y: Finite = 0.0


class Taught(_Document):
    """Taught geometry of a step: columns of numbers by name, or the reason why it failed."""

    columns: dict[str, tuple[Finite, ...]] = {}
    trouble: str = ""

    @cached_property
    def digest(self) -> str:
        """Digest of all of it, computed once, since it may hold thousands of numbers."""
        return hashlib.blake2b(self.model_dump_json().encode(), digest_size=16).hexdigest()


class Step(_Document):
    """A step: a feature or a quantity, of some kind.

    inputs: by the kind's input names, the ids of other steps. zone: in mm on the reference scan. home and
    taught follow from the rest of the plan and the reference scan; they are kept so that the plan stands
    without it.
    """

    id: Id
    name: Name
    kind: str
    params: dict[str, JsonValue] = {}
    inputs: dict[str, tuple[Id, ...]] = {}
    zone: Zone | None = None
    follow: Follow = Follow()
    home: Home | None = None
    taught: Taught | None = None

    @cached_property
    def needs(self) -> tuple[str, ...]:
        """Ids of the steps whose values it uses, as inputs or to follow them."""
        inputs = (i for ids in self.inputs.values() for i in ids)
        return tuple(dict.fromkeys((*inputs, *self.follow.anchors)))


class Correction(_Document):
    """A linear correction from sizes that are known: what was measured of each, and what it is."""

    measured: tuple[Finite, Finite]
    known: tuple[Finite, Finite]

    @model_validator(mode="after")
    def _sizes_differ(self) -> Self:
        if self.measured[0] == self.measured[1] or self.known[0] == self.known[1]:
            raise ValueError("a correction needs two sizes that differ")
        return self

    def applied(self, value: N) -> N:
        """A measured value, or many, corrected."""
        (a, b), (true_a, true_b) = self.measured, self.known
        return true_a + (value - a) * (true_b - true_a) / (b - a)


class Characteristic(_Document):
    """A row of the sheet: the quantity of a step, with its balloon and limits.

    step: None while the row waits to be bound to one. unit: of its limits, as the drawing has it; that of its
    step where it is empty. group: heading it
    stands under. hidden: kept off the stage. off: not evaluated. from_master: its value is the difference
    from `master`, what the reference part measures, which follows from the plan and the reference scan.
    uncertainty: expanded, in its unit; then a value passes only where it surely conforms (ISO 14253-1).
    covers: coverage factor k with which each part is evaluated by its own U = k u, in place of `uncertainty`.
    budget: what its standard uncertainty is made of on the reference scan, where that was worked out.
    gauge: what the latest gauge study found.
    over: how the values of all profiles, or of all instances of an outline, make one verdict; None for the
    first instance, and for each profile. least_share: percent of them that must lie within, for “share”.
    least_coverage: percent of its zone, edge or path that must be known for it to pass; None for what its kind
    requires. most_spikes: percent of the points that may be isolated ones left out. note: what a reader of the
    plan should know of it, as that it measures differently since a version.
    """

    balloon: Balloon
    name: Name
    step: Id | None = None
    unit: Annotated[str, StringConstraints(max_length=12)] = ""
    nominal: Finite | None = None
    lower: Finite | None = None
    upper: Finite | None = None
    group: Annotated[str, StringConstraints(max_length=60, strip_whitespace=True)] = ""
    hidden: bool = False
    off: bool = False
    from_master: bool = False
    master: Finite | None = None
    correction: Correction | None = None
    uncertainty: Annotated[float, Field(gt=0, allow_inf_nan=False)] | None = None
    covers: Annotated[float, Field(gt=0, le=10.0, allow_inf_nan=False)] | None = None
    budget: Budget | None = None
    gauge: GaugeMark | None = None
    over: Over | None = None
    least_share: Percent = 95.0
    least_coverage: Annotated[float, Field(ge=0.0, le=100.0)] | None = None
    most_spikes: Annotated[float, Field(ge=0.0, le=100.0)] = 0.5
    note: Annotated[str, StringConstraints(max_length=400)] = ""

    @model_validator(mode="after")
    def _limits_make_sense(self) -> Self:
        if self.lower is None and self.upper is None:
            raise ValueError(f"balloon {self.balloon} needs a lower or an upper limit")
        if self.lower is not None and self.upper is not None and self.lower > self.upper:
            raise ValueError(
                f"balloon {self.balloon} has its lower limit {self.lower:g} above its upper {self.upper:g}"
            )
        return self

    @property
    def decimals(self) -> int:
        """Digits after the point to show its value with."""
        return decimals_for(self.lower, self.upper, self.nominal)

    def expanded(self, u: float | None) -> float:
        """Uncertainty used for a decision at standard uncertainty u; NaN where required but unknown."""
        if self.covers is None:
            return self.uncertainty or 0.0
        return math.nan if u is None else self.covers * u

    @property
    def room(self) -> float:
        """Width of what passes; for a one-sided limit what lies between it and the nominal, or zero."""
        if self.lower is not None and self.upper is not None:
            return self.upper - self.lower
        limit = self.upper if self.upper is not None else self.lower
        return abs((limit or 0.0) - (self.nominal or 0.0))

    @property
    def tolerance(self) -> str:
        """Nominal and limits as on a drawing: 4.00 ±0.10, 2.50 +0.15 −0.05, ≤ 0.15 U 0.01."""
        return self.written(self.decimals)

    def written(self, places: int) -> str:
        """The same with so many decimals."""
        expanded = "" if self.uncertainty is None else f" U {self.uncertainty:g}"
        return self._limits_text(places) + (expanded if self.covers is None else f" U {self.covers:g}u")

    def _limits_text(self, places: int) -> str:
        n = self.nominal
        if self.lower is None or self.upper is None or n is None:
            if self.lower is not None and self.upper is not None:
                return f"{self.lower:.{places}f} … {self.upper:.{places}f}"
            return f"≥ {self.lower:.{places}f}" if self.upper is None else f"≤ {self.upper:.{places}f}"
        plus, minus = self.upper - n, n - self.lower
        if math.isclose(plus, minus, abs_tol=10.0 ** -(places + 2)):
            return f"{n:.{places}f} ±{plus:.{places}f}"
        return f"{n:.{places}f} {_signed(plus, places)} {_signed(-minus, places)}"


class ByProfile(_Document):
    """Settings of a plan that takes a scan as a profile sequence, and evaluates it profile by profile.

    at: place in mm along travel of the profile that zones are drawn on, on the reference scan. average: how
    many neighbouring profiles make one. least_measured: percent of the profiles on which a characteristic must
    be measured.
    """

    at: Finite = 0.0
    average: Annotated[int, Field(ge=1, le=1000)] = 1
    least_measured: Percent = 95.0


class Plan(_Document):
    """An inspection plan."""

    schema_version: Annotated[int, Field(alias="schema", ge=1, le=SCHEMA)] = SCHEMA
    name: Name = "untitled"
    steps: tuple[Step, ...] = ()
    sheet: tuple[Characteristic, ...] = ()
    not_proven: Literal["not measured", "pass", "fail"] = "not measured"
    """Part verdict when its worst characteristic is NOT PROVEN."""
    prepared: Id | None = None
    """The step whose map is measured on, where a step is not connected otherwise; None for the scan itself."""
    by_profile: ByProfile | None = None
    """Settings of a profile sequence; None where a scan is one height map."""
    master_part: MasterPart | None = None
    """A part that a line wants to see every so often; None where it does not."""
    signals: Annotated[tuple[AnySignal, ...], Field(max_length=MOST_SIGNALS)] = ()
    """Outputs for each part."""
    nominal: Nominal | None = None
    """The surface of the drawing's model, placed on the reference scan."""

    model_config = ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

    @model_validator(mode="after")
    def _ids_are_unique(self) -> Self:
        used = {
            "step id": Counter(s.id for s in self.steps),
            "balloon": Counter(str(c.balloon) for c in self.sheet),
            "digital line": Counter(str(s.line) for s in self.signals if s.kind == "digital"),
            "analogue line": Counter(str(s.line) for s in self.signals if s.kind == "analogue"),
        }
        for what, counts in used.items():
            twice = [key for key, count in counts.items() if count > 1]
            if twice:
                raise ValueError(f"{what} {', '.join(twice)} is used twice")
        return self

    def __repr__(self) -> str:
        rows = [f"  {row.balloon} {row.name}, {row.tolerance}" for row in self.sheet[:SHOWN]]
        more = [f"  and {len(self.sheet) - SHOWN} more"] if len(self.sheet) > SHOWN else []
        head = f"Plan({self.name!r}, {len(self.steps)} steps, {len(self.sheet)} characteristics)"
        return "\n".join([head, *rows, *more])

    def step(self, step_id: str) -> Step:
        """The step of that id. Raises `KeyError`."""
        for step in self.steps:
            if step.id == step_id:
                return step
        raise KeyError(step_id)

    def characteristic(self, balloon: int) -> Characteristic | None:
        """The row of the sheet with that balloon."""
        return next((c for c in self.sheet if c.balloon == balloon), None)

    def with_step(self, changed: Step) -> Plan:
        """The plan with the step of the same id replaced."""
        return self.edited(steps=tuple(changed if s.id == changed.id else s for s in self.steps))

    def with_characteristic(self, changed: Characteristic, balloon: int | None = None) -> Plan:
        """The plan with the row of `balloon` (or of the same balloon) replaced."""
        old = changed.balloon if balloon is None else balloon
        return self.edited(sheet=tuple(changed if c.balloon == old else c for c in self.sheet))

    def without_characteristic(self, balloon: int) -> Plan:
        """The plan without a row, and without the steps that only served it."""
        sheet = tuple(c for c in self.sheet if c.balloon != balloon)
        gone = [c.step for c in self.sheet if c.balloon == balloon and c.step is not None]
        steps = self.steps
        while gone:
            step_id = gone.pop()
            needed = {c.step for c in sheet} | {i for s in steps for i in s.needs}
            if step_id in needed:
                continue
            removed = [s for s in steps if s.id == step_id]
            steps = tuple(s for s in steps if s.id != step_id)
            gone += [i for s in removed for i in s.needs]
        return self.edited(sheet=sheet, steps=steps)

    def duplicated(self, balloon: int) -> Plan:
        """The plan with a copy of a row, with the next balloon and features of its own; planes stay shared.

        Raises `KeyError` when there is no such row.
        """
        row = next(c for c in self.sheet if c.balloon == balloon)
        plan, number = self, self.free_balloon()
        if row.step is None:
            return self.edited(sheet=(*self.sheet, row.edited(balloon=number)))
        step = self.step(row.step)
        inputs = dict(step.inputs)
        for name, sources in step.inputs.items():
            own = []
            for source in (self.step(i) for i in sources):
                shared = sum(source.id in s.needs for s in self.steps) > 1
                if source.zone is None or shared:
                    own.append(source.id)
                    continue
                copy = source.edited(id=plan.free_id(source.id), name=f"{source.name} {number}", home=None)
                plan = plan.edited(steps=(*plan.steps, copy))
                own.append(copy.id)
            inputs[name] = tuple(own)
        again = step.edited(id=plan.free_id(step.id), name=f"{step.name} {number}", inputs=inputs)
        new = row.edited(balloon=number, step=again.id)
        return plan.edited(steps=(*plan.steps, again), sheet=(*plan.sheet, new))

    def free_balloon(self) -> Balloon:
        """The lowest plain number above all others."""
        return Balloon(max((c.balloon.number for c in self.sheet), default=0) + 1)

    def free_id(self, stem: str) -> str:
        """A step id that starts with `stem` and is not taken."""
        taken = {s.id for s in self.steps}
        stem = (
            "".join(ch if ch.isascii() and ch.isalnum() else "-" for ch in stem.lower()).strip("-")[:50]
            or "step"
        )
        return next(
            i for n in range(len(taken) + 1) if (i := stem if n == 0 else f"{stem}-{n + 1}") not in taken
        )


def _signed(value: float, places: int) -> str:
    return f"{'+' if value >= 0 else '−'}{abs(value):.{places}f}"
