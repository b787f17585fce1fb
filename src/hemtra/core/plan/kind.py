"""Kind of a step. A kind is one class in one file of `core.features` or `core.characteristics`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar, TypeVar

from hemtra.core.coverage import Coverage
from hemtra.core.detection.unseen import zone_coverage
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import Form, setting
from hemtra.core.geometry.elements import LEVEL, Number, Plane, Point
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Evidence
from hemtra.core.plan.usual_limits import LimitRule, usual_limits
from hemtra.core.zones.window import Window, window
from hemtra.core.zones.zone import AnyZone

T = TypeVar("T")


@dataclass(frozen=True)
class Input:
    """Input of a step from another one."""

    type: type
    label: str
    help: str
    many: bool = False
    optional: bool = False


DATA: Mapping[str, Input] = {
    "data": Input(HeightMap, "data", "The prepared map to use; by default the scan itself.", optional=True)
}
"""Input that every step with a zone has: prepared data instead of the scan."""


@dataclass(frozen=True)
class Outcome:
    """Result of a step: its value, and facts worth reading beside it as (label, text).

    possible: bounds of the value where data is missing. coverage: what it rests on, where the
    kind looks at all of it by itself; otherwise that follows from its zone and inputs.
    """

    value: Any
    facts: tuple[tuple[str, str], ...] = ()
    note: str = ""
    possible: tuple[Any, ...] = ()
    coverage: Coverage | None = None


@dataclass(frozen=True)
class Absent:
    """A value that says that nothing is there, where that is known, with the sizes that nothing has.

    Kinds that evaluate sizes take it; for all others it is not measured, for its reason.
    """

    reason: str
    at: Point
    sizes: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Reading:
    """What a characteristic reads: a number and where its balloon points, or lanes of both.

    problems: where there is none, and why.
    """

    value: Any
    at: Any
    problems: tuple[tuple[Any, str], ...] = ()

    def number(self, unit: str) -> Number:
        """The number of a single reading. Raises `NotMeasured`."""
        for is_one, reason in self.problems:
            if is_one:
                raise NotMeasured(reason)
        return Number(float(self.value), unit, self.at)


@dataclass(frozen=True)
class StepContext:
    """Data of a step: the height map, its zone, and the values of its inputs.

    zone: where it is on this scan, its anchors followed. base: the surface its heights count from, that is what
    it follows in z and tilt; on_part: whether that goes up and down with the part. taught: what it was taught
    by the reference scan.
    """

    data: HeightMap
    zone: AnyZone | None = None
    inputs: Mapping[str, tuple[Any, ...]] = field(default_factory=dict)
    base: Plane = LEVEL
    taught: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    serial: str = ""
    """Serial number of the part, where known."""
    on_part: bool = True

    @property
    def tilt(self) -> Plane:
        """Through 0 mm in the middle of its zone, as tilted as what it follows; `LEVEL` where that is not."""
        if self.zone is None or not self.base.tilt:
            return LEVEL
        return Plane(self.zone.x, self.zone.y, 0.0, self.base.slope_x, self.base.slope_y)

    def one(self, name: str, expected: type[T]) -> T:
        """The value of a required input."""
        value = self.optional_input(name, expected)
        if value is None:
            raise NotMeasured(f"nothing is connected to its input “{name}”")
        return value

    def optional_input(self, name: str, expected: type[T]) -> T | None:
        """The value of an optional input."""
        values = self.inputs.get(name)
        if not values:
            return None
        return values[0] if isinstance(values[0], expected) else self.many(name, expected)[0]

    def absent(self, name: str) -> Absent | None:
        """`Nothing`, where a required input states that nothing is there."""
        values = self.inputs.get(name)
        return values[0] if values and isinstance(values[0], Absent) else None

    def many(self, name: str, expected: type[T]) -> tuple[T, ...]:
        """The values of an input that takes several."""
        values = self.inputs.get(name, ())
        for value in values:
            if isinstance(value, Absent):
                raise NotMeasured(value.reason)
            if not isinstance(value, expected):  # the graph is checked before; this is for callers of one kind
                raise TypeError(f"{name} needs {expected.__name__}, not {type(value).__name__}")
        return values

    def window(self, least_data: float = 0.0) -> Window:
        """The points of the zone, of which at least `least_data` percent must hold data.

        Raises `OffScan` when the zone has no point on the scan, `NotMeasured` when too little of it holds data.
        """
        if self.zone is None:
            raise NotMeasured("it has no zone; draw one on the part")
        view = window(self.zone, self.data)
        share = 100.0 * view.data_share(self.data)
        if share == 0.0 and self.zone.band is not None:
            raise NotMeasured(f"no data in the height band, {self.zone.band.words}")
        if share == 0.0:
            raise NotMeasured("there is no data in the zone")
        if share < least_data:
            raise NotMeasured(f"only {share:.0f} % of the zone has data; minimum {least_data:.0f} %")
        return view


class Kind(Form, ABC):
    """A kind of step; an instance holds its parameters.

    Subclasses say what they are in class variables, declare parameters as fields made by `setting`, and give
    `evaluate` and `explain`, both pure.
    """

    kind: ClassVar[str]
    title: ClassVar[str]
    glyph: ClassVar[str]
    output: ClassVar[type]
    unit: ClassVar[str] = ""
    needs_zone: ClassVar[bool] = False
    looks_at_data: ClassVar[bool] = False
    levelled: ClassVar[bool] = False
    """Whether it takes heights above the tilt of what its zone follows, so that a plane should be followed."""
    """Whether it reads the data of its inputs' zones again, without a zone of its own."""
    section_input: ClassVar[str] = ""
    """The input whose section it looks on; its zone is then a rectangle in x and z of that section."""
    teachable: ClassVar[bool] = False
    """Whether it takes something from the reference scan, by `teach`."""
    inputs: ClassVar[Mapping[str, Input]] = {}
    revision: ClassVar[int] = 1
    """Counts up when its values come to mean something else, so that records of both are not mixed."""
    least_coverage: ClassVar[float] = 0.0
    """Minimum coverage in percent for its value to pass, unless a row states another."""

    limits_from: ClassVar[LimitRule] = staticmethod(usual_limits)
    """Limits of a new row, from its value on a good part."""

    @abstractmethod
    def evaluate(self, given: StepContext) -> Outcome:
        """The value. Raises `NotMeasured` with the reason when there is none."""

    @abstractmethod
    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The evidence of an outcome of the same data, computed only when somebody looks."""

    def read(self, given: StepContext) -> Reading | None:
        """What it reads of inputs that may be lanes (`core.geometry.lanes`); None where it takes single ones.

        For kinds whose value is a few sums and roots of their inputs; `evaluate` then rests on it.
        """
        return None

    def teach(self, given: StepContext) -> Mapping[str, tuple[float, ...]]:
        """Teach a step of a `teachable` kind from the reference scan.

        Raises `NotMeasured` with the reason when there is nothing to teach.
        """
        return {}

    @property
    def value_unit(self) -> str:
        """The unit of its value as its parameters stand, for kinds that may give different quantities."""
        return self.unit

    @property
    def convergence(self) -> float:
        """Lowest power of the spacing with which the effect of spacing on the value shrinks.

        1 for what rests on the places of edges, or on sums that end in a kink, and 2 for what is interpolated
        on smooth surfaces.
        """
        return 1.0

    @property
    def adds_up(self) -> bool:
        """Whether it is a sum over so many places that the spacing shifts it by the same amount on every part.

        Then it lies off by that; where few places decide, it lies anywhere up to there.
        """
        return False

    @property
    def outward(self) -> bool:
        """Whether its value is that of the furthest of many points, which noise pushes outward."""
        return False

    @classmethod
    def coverage_required(cls, params: Mapping[str, Any]) -> float:
        """Minimum coverage in percent of what it looks at, for the value of a row that rests on it to pass.

        params: as a step has them, those at their defaults left out.
        """
        return cls.least_coverage

    @property
    def counts_spikes(self) -> bool:
        """Whether its outcome counts isolated points left out, too many of which let no value pass."""
        return False

    def coverage(self, given: StepContext) -> Coverage | None:
        """Own coverage, without that of its inputs; None where it reads no data."""
        if not self.needs_zone or self.teachable or given.zone is None:
            return None
        return zone_coverage(window(given.zone, given.data), given.data)

    def carried(self, move: Callable[[AnyZone], AnyZone]) -> dict[str, Any]:
        """Parameters that are places, moved with the zones when the plan is drawn on another scan."""
        return {}

    @classmethod
    def accepted(cls) -> Mapping[str, Input]:
        """Its inputs, and the prepared map when it reads data."""
        return {**DATA, **cls.inputs} if cls.needs_zone or cls.looks_at_data else cls.inputs

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Any, ...]]:
        """The shapes that inputs would have, by name, if their form were perfect; none where no form counts.

        `Plane` for planes and spots, `Line` for edges, `Circle` for rims, in the order of the inputs.
        """
        return {}

    @classmethod
    def is_characteristic(cls) -> bool:
        """Whether its value can be evaluated against limits."""
        return issubclass(cls.output, Number)


def least_data() -> Any:
    """The parameter of a feature that says how much of its zone must hold data for it to be trusted."""
    return setting(
        50.0,
        "min. data",
        "Share of the zone that must hold data; with less the feature is not measured.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
