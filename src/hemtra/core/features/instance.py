"""Instance: one of the several places where an outline was found."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from hemtra.core.errors import NotMeasured
from hemtra.core.features.outline import FoundOutline
from hemtra.core.form_fields import setting
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.text import percent


@register
class InstanceKind(Kind):
    """The n-th instance of an outline, to be followed by itself."""

    kind: ClassVar = "instance"
    title: ClassVar = "Instance"
    glyph: ClassVar = "instance"
    output: ClassVar = FoundOutline
    inputs: ClassVar = {"outline": Input(FoundOutline, "of", "The outline that was found several times.")}

    number: int = setting(1, "number", "Which one, in the outline's own order; 1 is the first.", ge=1, le=100)

    def evaluate(self, given: StepContext) -> Outcome:
        """A `FoundOutline` without others."""
        first = given.one("outline", FoundOutline)
        found = (first, *first.others)
        if self.number > len(found):
            raise NotMeasured(f"the outline was found {len(found)} times only, not {self.number}")
        one = replace(found[self.number - 1], others=())
        return Outcome(one, (("match", percent(one.share, 1)),))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The outline's own evidence shows it."""
        return Evidence()
