"""A gauge study of all characteristics of a plan at once, worst first."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.gauge.agreement import Agreement, between, with_tags
from hemtra.core.gauge.linearity import Linearity, linearity
from hemtra.core.gauge.readings import Reading, Readings
from hemtra.core.gauge.repeatability import Method, Repeatability, repeatability
from hemtra.core.gauge.stability import Stability, stability
from hemtra.core.gauge.type_one import Rule, TypeOne, type_one
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.gauge_mark import graded, share_of_tolerance
from hemtra.core.plan.limits import CharacteristicResult

ONE_PART = Rule()


@dataclass(frozen=True)
class StudyRule:
    """Requirements for a gauge that measures several parts.

    deviations: of its spread that are compared with the tolerance. good, usable: percent of the tolerance up to
    which it is good, and up to which it may be used. one: what is asked where it measures one part of known
    size.
    """

    deviations: float = 6.0
    good: float = 10.0
    usable: float = 30.0
    one: Rule = ONE_PART


AIAG = StudyRule()
"""GRR as six standard deviations (AIAG MSA)."""
RULES: Mapping[str, StudyRule] = {
    "aiag": AIAG,
    # ISO 22514-7 and VDA 5: Q as twice U = 2 u
    "iso22514": StudyRule(deviations=4.0, good=15.0, usable=30.0),
}
"""Rules to choose from, by name."""


@dataclass(frozen=True)
class Presented:
    """A part as it was presented to the gauge once, and what the plan found on it.

    operator: who or what presented it, or how it lay. tag: whether it is known to be good.
    """

    part: str
    operator: str
    trial: int
    verdict: str = "not read"
    rows: tuple[CharacteristicResult, ...] = ()
    tag: bool | None = None
    error: str = ""
    """Reason why there are no rows."""


@dataclass(frozen=True)
class StudiedRow:
    """A characteristic in a study: one of `spread`, `size` and `chart` where it was evaluated, else the reason.

    share: percent of the tolerance that the gauge takes, None without one. mean: of all readings. width: of
    the tolerance, None with one limit. line: how its bias changes with size, where sizes of several parts are
    known.
    """

    balloon: Balloon
    name: str
    unit: str
    spread: Repeatability | None = None
    size: TypeOne | None = None
    chart: Stability | None = None
    line: Linearity | None = None
    rule: StudyRule = AIAG
    share: float | None = None
    mean: float | None = None
    width: float | None = None
    readings: Readings | None = None
    reason: str = ""

    @property
    def grade(self) -> str:
        """Capability of the gauge in one word; by its rule where there is a tolerance."""
        if self.chart is not None:
            return "stable" if self.chart.is_stable else "not stable"
        if self.size is not None:
            # spread alone would call a gauge good that is off by all of the tolerance
            is_capable = self.size.capable(self.rule.one)
            return "no tolerance" if is_capable is None else "good" if is_capable else "not capable"
        if self.spread is None:
            return "not evaluated"
        return graded(self.share, self.rule.good, self.rule.usable)

    @property
    def is_poor(self) -> bool:
        """Whether something must be done about it."""
        return self.grade in ("not capable", "not stable")


@dataclass(frozen=True)
class Study:
    """All rows, worst first, and how the verdicts of whole parts agree: with each other, and with the tags."""

    rows: tuple[StudiedRow, ...]
    verdicts: Agreement | None
    tags: Agreement | None
    parts: int
    operators: int
    trials: int


@dataclass(frozen=True)
class Asked:
    """Method of a study. over_time: one part on several occasions in order of time, in place of operators.

    references: known sizes by part and balloon; the part is empty where there is one.
    """

    method: Method = "anova"
    references: Mapping[tuple[str, Balloon], float] = field(default_factory=dict)
    rule: StudyRule = AIAG
    over_time: bool = False


def studied(plan: Plan, found: Sequence[Presented], asked: Asked | None = None) -> Study:
    """Evaluate a study: repeatability and reproducibility of two parts or more, else bias against references.

    Raises `HemtraError` where nothing was presented, or several parts are to be followed over time.
    """
    asked = asked or Asked()
    if not found:
        raise HemtraError("The study holds no scans.")
    parts = list(dict.fromkeys(one.part for one in found))
    if asked.over_time and len(parts) > 1:
        raise HemtraError(f"One part is followed over time; the study has {len(parts)}.")
    rows = [_row(plan, number, found, asked, parts) for number in _numbers(plan)]
    rows.sort(key=lambda row: (row.is_poor, -1.0 if row.share is None else row.share), reverse=True)
    operators = {one.operator for one in found}
    return Study(
        tuple(rows),
        _agreement(found),
        _with_tags(found),
        len(parts),
        len(operators),
        max(one.trial for one in found),
    )


def _numbers(plan: Plan) -> list[Balloon]:
    return [row.balloon for row in sorted(plan.sheet, key=lambda row: row.balloon) if not row.off]


def _row(
    plan: Plan,
    balloon: Balloon,
    found: Sequence[Presented],
    asked: Asked,
    parts: Sequence[str],
) -> StudiedRow:
    row = plan.characteristic(balloon)
    assert row is not None
    evaluated = [_evaluated(one, balloon) for one in found]
    unit = next((j.unit for j in evaluated if j is not None), row.unit)
    blank = StudiedRow(balloon, row.name, unit, rule=asked.rule, width=_tolerance(row))
    readings = _readings(found, evaluated, "value")
    if row.lower is None and row.upper is None:
        return replace(blank, reason="it has no limits: a text, or nothing is asked of it")
    known = {part: asked.references.get((part, balloon)) for part in parts}
    try:
        if asked.over_time:
            # occasions take the place of operators
            table = Readings.of(readings)
            return replace(blank, chart=stability(table.values[0]), readings=table)
        if len(parts) == 1:
            reference = known[parts[0]]
            if reference is None:
                reference = asked.references.get(("", balloon))
            return _against_reference(blank, row, readings, reference)
        of_each = [
            _of_several(
                replace(blank, name=row.name + end), row, _readings(found, evaluated, taken), asked, known
            )
            for taken, end in _taken(row, evaluated).items()
        ]
    except HemtraError as error:
        return replace(blank, reason=str(error))
    return max(of_each, key=lambda one: one.spread.gauge.deviation if one.spread is not None else 0.0)


def _taken(row: Characteristic, evaluated: Sequence[CharacteristicResult | None]) -> Mapping[str, str]:
    """Value of a row taken on each part, and the suffix of its name.

    Of one with many values on a part both ends are studied: which of them is the worse changes from one reading
    to the next, and that is no scatter of the gauge.
    """
    if any(one is None or one.least is None or one.greatest is None for one in evaluated):
        return {"value": ""}
    ends = {"least": ", min", "greatest": ", max"}
    asked = {"least": row.lower, "greatest": row.upper}
    return {name: end for name, end in ends.items() if asked[name] is not None}


def _readings(
    found: Sequence[Presented], evaluated: Sequence[CharacteristicResult | None], taken: str
) -> list[Reading]:
    return [
        Reading(
            one.part,
            one.operator,
            one.trial,
            None if value is None else getattr(value, taken),
            one.error or (value.reason if value is not None else ""),
        )
        for one, value in zip(found, evaluated, strict=True)
    ]


def _of_several(
    blank: StudiedRow,
    row: Characteristic,
    readings: Sequence[Reading],
    asked: Asked,
    known: Mapping[str, float | None],
) -> StudiedRow:
    """Several parts: repeatability, reproducibility, and linearity where their sizes are known."""
    table = Readings.of(readings)
    spread = repeatability(table, asked.method)
    mean = float(table.values.mean())
    share = _share(row, spread.gauge.deviation, mean, asked.rule)
    line = _line(readings, known)
    return replace(blank, spread=spread, line=line, share=share, mean=mean, readings=table)


def _line(readings: Sequence[Reading], known: Mapping[str, float | None]) -> Linearity | None:
    """Change of the bias over parts of known sizes; None with fewer than two."""
    pairs = [(size, one.value) for one in readings if (size := known[one.part]) is not None]
    if len({size for size, _ in pairs}) < 2:
        return None
    return linearity(*np.array(pairs, np.float64).T)


def _tolerance(row: Characteristic) -> float | None:
    """The width between its limits; None with one limit, or two alike, as those of a count are."""
    if row.lower is None or row.upper is None or row.upper <= row.lower:
        return None
    return row.upper - row.lower


def _share(row: Characteristic, deviation: float, mean: float, rule: StudyRule) -> float | None:
    """Spread of a gauge in percent of the tolerance."""
    return share_of_tolerance(deviation, mean, row.lower, row.upper, rule.deviations)


def _against_reference(
    blank: StudiedRow, row: Characteristic, readings: Sequence[Reading], reference: float | None
) -> StudiedRow:
    if reference is None:
        raise HemtraError("One part alone shows a bias only against a known size; give its reference.")
    values = np.array([math.nan if one.value is None else one.value for one in readings])
    rule = blank.rule
    size = type_one(values, reference, _tolerance(row), rule.one, resolution=10.0**-row.decimals)
    share = _share(row, size.deviation, size.mean, rule)
    table = Readings((readings[0].part,), ("",), values[None, None, :])
    return replace(blank, size=size, share=share, mean=size.mean, readings=table)


def _evaluated(one: Presented, balloon: Balloon) -> CharacteristicResult | None:
    return next((row for row in one.rows if row.balloon == balloon), None)


def _by_look(found: Sequence[Presented]) -> dict[tuple[str, int], dict[str, str]]:
    """Verdict of each part, by operator and trial."""
    looks: dict[tuple[str, int], dict[str, str]] = {}
    for one in found:
        looks.setdefault((one.operator, one.trial), {})[one.part] = one.verdict
    return looks


def _agreement(found: Sequence[Presented]) -> Agreement | None:
    looks = list(_by_look(found).values())
    parts = list(dict.fromkeys(one.part for one in found))
    if len(looks) < 2 or any(set(look) != set(parts) for look in looks):
        return None
    return between([[look[part] for part in parts] for look in looks])


def _with_tags(found: Sequence[Presented]) -> Agreement | None:
    known = [one for one in found if one.tag is not None]
    if not known:
        return None
    return with_tags([one.verdict for one in known], [bool(one.tag) for one in known])
