"""Expected content of a code."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

from pydantic import model_validator

from hemtra.core.errors import NotMeasured
from hemtra.core.features.code import ReadCode
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register

LONGEST = 200

DIGITS = "0123456789"


@register
class ReadsAsKind(Kind):
    """Whether a code says what it should: 1 where it does, 0 where it does not."""

    kind: ClassVar = "code-reads"
    title: ClassVar = "Code reads as"
    glyph: ClassVar = "code"
    output: ClassVar = Number
    inputs: ClassVar = {"of": Input(ReadCode, "of", "The code.")}

    how: Literal["exact", "pattern", "serial"] = setting(
        "pattern",
        "compared",
        "Letter by letter; with * for any letters, ? for one and # for a digit; or with the part's serial,"
        " which stands where {serial} does, or is all of it.",
        choices={"exact": "exactly", "pattern": "by a pattern", "serial": "with the serial"},
    )
    expected: str = setting("*", "should read", "What the code should say.", max_length=LONGEST)

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if not self.expected:
            raise ValueError("say what the code should read; * takes anything")
        return self

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Number` of 1 or 0 that carries the text; facts: what it reads and what it should."""
        none = given.absent("of")
        if none is not None:
            return Outcome(Number(0.0, "", none.at, "no code"), note=none.reason)
        code = given.one("of", ReadCode)
        if len(code.text) > 10 * LONGEST:
            raise NotMeasured(f"the code holds {len(code.text)} letters, more than can be compared")
        expected = self._expected(given.serial)
        right = _matches(expected, code.text) if self.how == "pattern" else code.text == expected
        facts = (("reads", code.text), ("should read", expected))
        return Outcome(Number(1.0 if right else 0.0, "", code, code.text), facts)

    def _expected(self, serial: str) -> str:
        """Return the content expected on the part at hand."""
        if self.how != "serial":
            return self.expected
        if not serial:
            raise NotMeasured("the scan does not say which serial the part has")
        return self.expected.replace("{serial}", serial) if "{serial}" in self.expected else serial

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The code's own evidence shows it."""
        return Evidence()


def _matches(pattern: str, text: str) -> bool:
    """* stands for any letters, ? for one, # for a digit; everything else for itself.

    Only the last star is ever gone back to, so that no pattern takes longer than both lengths multiplied.
    """
    p = t = 0
    star, held = -1, 0
    while t < len(text):
        if p < len(pattern) and pattern[p] == "*":
            star, held = p, t
            p += 1
        elif p < len(pattern) and _fits(pattern[p], text[t]):
            p, t = p + 1, t + 1
        elif star >= 0:
            held += 1
            p, t = star + 1, held
        else:
            return False
    return all(sign == "*" for sign in pattern[p:])


def _fits(sign: str, letter: str) -> bool:
    return sign in ("?", letter) or (sign == "#" and letter in DIGITS)
