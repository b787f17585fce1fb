"""Signals: what an output says of a part, from its verdict, a characteristic's, or an expression over both."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.expressions import parse_formula
from hemtra.core.plan.limits import CharacteristicResult, Verdict

MOST_SIGNALS = 64
LOWEST_MA, HIGHEST_MA, FAULT_MA = 3.8, 20.5, 3.6
"""Ends of what a 4-20 mA signal may say, and what says that nothing was measured (NAMUR NE 43)."""
FULL = {"4-20 mA": 20.0, "0-10 V": 10.0}
"""mA or V at which the counts of an output are full."""
Finite = Annotated[float, Field(allow_inf_nan=False)]
Text = Annotated[str, StringConstraints(min_length=1, max_length=120, strip_whitespace=True)]


class Signal(BaseModel):
    """An output. name: as on the wiring diagram. line: its number on the I/O module, from 0."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: Text
    line: Annotated[int, Field(ge=0, le=255)]


class Digital(Signal):
    """A line that is on or off.

    when: an expression over `passes`, `fails` and `missing` of the part, and over `passes_7`, `fails_7`,
    `missing_7` and `value_7` of balloon 7. unknown: what it is where that is unknown, because a value is
    missing. pulse: ms it stays on, 0 until the next part. delay: mm of travel after the part's trigger at which
    it switches.
    """

    kind: Literal["digital"] = "digital"
    when: Text = "not_passed"
    inverted: bool = False
    unknown: bool = True
    pulse: Annotated[float, Field(ge=0.0, le=60_000.0, allow_inf_nan=False)] = 0.0
    delay: Annotated[float, Field(ge=0.0, le=100_000.0, allow_inf_nan=False)] = 0.0

    @model_validator(mode="after")
    def _can_be_read(self) -> Self:
        try:
            names = parse_formula(self.when).names
        except HemtraError as error:
            raise ValueError(str(error)) from None
        wrong = next((name for name in sorted(names) if not _is_known(name)), None)
        if wrong is not None:
            raise ValueError(
                f"“{wrong}” is not a variable of a signal; its variables are {', '.join(OF_PART)}, and"
                f" {', '.join(f'{name}_7' for name in OF_ROW)} of balloon 7"
            )
        return self

    def state(self, verdict: Verdict, rows: Sequence[CharacteristicResult]) -> bool:
        """Whether it is on for a part."""
        try:
            found = parse_formula(self.when).value(facts(verdict, rows)) != 0.0
        except NotMeasured:
            found = self.unknown
        return found is not self.inverted


class Analogue(Signal):
    """A characteristic as a current or voltage, in counts of the I/O module.

    low, high: the values at the lower and upper end, clamped there. full: counts at 20 mA or 10 V. fault: mA
    or V that say NOT MEASURED; by itself 3.6 mA (NAMUR NE 43), or 0 V.
    """

    kind: Literal["analogue"] = "analogue"
    balloon: Balloon
    span: Literal["4-20 mA", "0-10 V"] = "4-20 mA"
    low: Finite = 0.0
    high: Finite = 1.0
    full: Annotated[int, Field(ge=100, le=65_535)] = 20_000
    fault: Annotated[float, Field(ge=0.0, le=24.0, allow_inf_nan=False)] | None = None

    @model_validator(mode="after")
    def _ends_differ(self) -> Self:
        if self.low == self.high:
            raise ValueError("an analogue signal needs two ends that differ")
        return self

    def level(self, rows: Sequence[CharacteristicResult]) -> float:
        """mA or V for a part."""
        row = next((r for r in rows if r.balloon == self.balloon), None)
        current = self.span == "4-20 mA"
        if row is None or row.value is None:
            usual = FAULT_MA if current else 0.0
            return usual if self.fault is None else self.fault
        share = (row.value - self.low) / (self.high - self.low)
        if current:
            return min(max(4.0 + 16.0 * share, LOWEST_MA), HIGHEST_MA)
        return min(max(10.0 * share, 0.0), 10.0)

    def counts(self, rows: Sequence[CharacteristicResult]) -> int:
        """Value written to the I/O module, 0 to 65535."""
        return min(max(round(self.level(rows) / FULL[self.span] * self.full), 0), 65_535)


AnySignal = Annotated[Digital | Analogue, Field(discriminator="kind")]
OF_PART = ("passes", "fails", "missing", "not_passed")
OF_ROW = ("passes", "fails", "missing", "value")
WORDS = {
    "passes": "the part passes",
    "fails": "the part fails",
    "missing": "the part is not measured",
    "not_passed": "the part does not pass",
}
WORDS_OF_ROW = {
    "passes": "{} passes",
    "fails": "{} fails",
    "missing": "{} is not measured",
    "value": "the value of {}",
}


def read_aloud(signal: Digital | Analogue) -> str:
    """Describe a signal and its timing, as one would read it aloud."""
    if isinstance(signal, Analogue):
        ends = f"{signal.low:g} to {signal.high:g}"
        return f"{signal.name}: the value of {signal.balloon}, {ends} as {signal.span.replace('-', ' to ')}"
    words = re.sub(r"[A-Za-z_]\w*", lambda found: _in_words(found.group()), signal.when)
    said = [f"{signal.name}: {'off' if signal.inverted else 'on'} when {words}"]
    if signal.delay:
        said.append(f"{signal.delay:g} mm after its trigger")
    said.append(f"for {signal.pulse:g} ms" if signal.pulse else "until the next part")
    return ", ".join(said)


def _in_words(name: str) -> str:
    what, balloon = _of_row(name)
    return WORDS.get(name, name) if balloon is None else WORDS_OF_ROW[what].format(balloon)


def _of_row(name: str) -> tuple[str, Balloon | None]:
    """Split a name into the question and its balloon; None where it names no balloon."""
    what, _, number = name.partition("_")
    if what not in OF_ROW:
        return what, None
    try:
        return what, Balloon.parse(number)
    except ValueError:
        return what, None


def invalid_signal_references(
    signals: Sequence[Digital | Analogue], balloons: Collection[int]
) -> tuple[str, ...]:
    """List the names that the sheet lacks, a sentence each; `balloons` are those it evaluates."""
    found = []
    for signal in signals:
        if isinstance(signal, Analogue):
            asked = {signal.balloon}
        else:
            named = (_of_row(name)[1] for name in parse_formula(signal.when).names)
            asked = {balloon for balloon in named if balloon is not None}
        gone = sorted(asked - set(balloons))
        if gone:
            which = ", ".join(map(str, gone))
            found.append(f"“{signal.name}” uses balloon {which}, which is missing or disabled.")
    return tuple(found)


def _is_known(name: str) -> bool:
    return name in OF_PART or _of_row(name)[1] is not None


def facts(verdict: Verdict, rows: Sequence[CharacteristicResult]) -> Mapping[str, float]:
    """Numbers available to expressions; values not measured are absent."""
    found = _of(verdict, "")
    found["not_passed"] = 1.0 - found["passes"]
    for row in rows:
        name = Balloon(row.balloon).name
        found |= _of(row.verdict, f"_{name}")
        if row.value is not None:
            found[f"value_{name}"] = row.value
    return found


def _of(verdict: Verdict, suffix: str) -> dict[str, float]:
    missing = verdict not in (Verdict.PASS, Verdict.FAIL)
    return {
        f"passes{suffix}": float(verdict is Verdict.PASS),
        f"fails{suffix}": float(verdict is Verdict.FAIL),
        f"missing{suffix}": float(missing),
    }
