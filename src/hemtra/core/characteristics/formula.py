"""Formula over other quantities."""

from __future__ import annotations

import string
from typing import ClassVar, Self

from pydantic import model_validator

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number
from hemtra.core.marks import Evidence
from hemtra.core.plan.expressions import LONGEST, parse_formula
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register


@register
class FormulaKind(Kind):
    """A number calculated from others, which are called a, b, c … in the order they are connected."""

    kind: ClassVar = "formula"
    title: ClassVar = "Formula"
    glyph: ClassVar = "formula"
    output: ClassVar = Number
    inputs: ClassVar = {
        "numbers": Input(Number, "of", "The quantities it calculates with: a, b, c … in this order.", many=True)
    }

    text: str = setting(
        "a",
        "formula",
        "As (a + b) / 2, max(a, b) - c or a if b > 1 else c; angles in degrees.",
        max_length=LONGEST,
    )
    result: str = setting("", "in", "Unit of what comes out; empty takes that of the first.", max_length=12)

    @model_validator(mode="after")
    def _can_be_read(self) -> Self:
        try:
            parse_formula(self.text)
        except HemtraError as error:
            raise ValueError(str(error)) from None
        return self

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Number`; facts: the numbers it came from. A note says where units do not go together."""
        numbers = given.many("numbers", Number)
        if not numbers:
            raise NotMeasured("nothing is connected that the formula could calculate with")
        formula = parse_formula(self.text)
        named = dict(zip(string.ascii_lowercase, numbers, strict=False))
        value = formula.value({name: number.value for name, number in named.items()})
        used = [named[name] for name in sorted(formula.names) if name in named] or [numbers[0]]
        units = {number.unit for number in used if number.unit}
        note = "" if len(units) < 2 else f"mixes {' and '.join(sorted(units))}"
        facts = tuple((name, f"{number.value:.4f} {number.unit}".strip()) for name, number in named.items())
        return Outcome(Number(value, self.result or used[0].unit, used[0].at), facts, note)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Nothing: the inputs explain themselves."""
        return Evidence()
