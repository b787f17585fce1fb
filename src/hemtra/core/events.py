"""Events of a running line: each has an id, its fields, and a sentence.

Records, logs and signals carry kind and fields; words are made from them where a person reads, by `sentence`
alone. What it looks up are the patterns of `CATALOGUE`, so that another language is another catalogue of
`gettext`'s, and no sentence is ever taken apart again.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from gettext import gettext
from types import MappingProxyType

Value = str | int | float
CATALOGUE: Mapping[str, str] = MappingProxyType(
    {
        "belt not clear": "The line was cut off before; what may lie between the eye and a gate is rejected.",
        "differs": "{balloon} {name} gives {now} now, on record is {then}.",
        "editing locked": "Editing was locked with a PIN.",
        "editing unlocked": "Editing was unlocked.",
        "ends evened": (
            "This plan measures each profile by itself: let surfaces end at the nearest column (Station, page"
            " Travel), or its minimum and maximum widen."
        ),
        "error": "it could not be evaluated ({fault}); keep its scan and report this",
        "gone": "{balloon} {name} is not evaluated now.",
        "link": "The I/O module answers.",
        "link lost": "The I/O module does not answer; check its power, cable and address.",
        "master failed": "Master part {serial} failed: {why}.",
        "master for shift": "A shift began at {shift}; present master part {serial}.",
        "master missing": "Master part {serial} was never seen to pass; present it.",
        "master overdue": "Master part {serial} passed {hours} h ago; present it.",
        "master to come": "Master part {serial} passed in the future; check the clock, and present it.",
        "master passed": "Master part {serial} passed.",
        "new lot": "Lot {lot} begins.",
        "not forwarded": (
            "{count} parts stay on this computer only: the records' server has others under their numbers."
        ),
        "server away": "The records' server does not answer: {why} Parts wait on this computer.",
        "server back": "The records' server answers again; {count} parts were forwarded.",
        "overrun": "queue full: {limit} parts in evaluation; slow the line or remove characteristics",
        "refusing": "No part passes until the master part does. {why}",
        "worker lost": "inspection process crashed repeatedly; keep the scan and report the fault",
    }
)
"""A sentence for each kind of event that has one of its own; others bring their words as the field `text`."""


@dataclass(frozen=True)
class Event:
    """An event. time: seconds since 1970. number: of its part."""

    kind: str
    time: float
    number: int | None = None
    fields: Mapping[str, Value] = field(default_factory=dict)

    @property
    def text(self) -> str:
        """Sentence for the event."""
        return sentence(self.kind, self.fields)


def sentence(kind: str, fields: Mapping[str, Value]) -> str:
    """An event in words; its kind alone where another version wrote fields that its pattern does not know."""
    if "text" in fields:
        return str(fields["text"])
    try:
        return gettext(CATALOGUE.get(kind, "{kind}")).format_map({**fields, "kind": kind})
    except (LookupError, ValueError):
        return kind
