"""A gauge study as it is run: which part to present next, and which runs are doubtful."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError, model_validator

from hemtra.core.errors import HemtraError
from hemtra.core.gauge.study import Presented

MOST_RUNS = 3000
"""Largest number of scans in a study."""
FAR = 6.0
"""Standard deviations of the repeats from which on a reading is doubtful."""
ENOUGH = 6
"""Degrees of freedom from which on the spread of the repeats counts."""
MOST_SAID = 3
"""Doubts of a run that are listed."""
Name = Annotated[
    str,
    StringConstraints(
        strip_whitespace=True, min_length=1, max_length=60, pattern=r"^[^/\\\x00-\x1f.][^/\\\x00-\x1f]*$"
    ),
]


class Presentation(BaseModel):
    """One run: which part, by which operator, and the number of the trial, from 1."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    part: Name
    operator: Name
    trial: int = Field(ge=1, le=100)

    def __str__(self) -> str:
        return f"part {self.part}, {self.operator}, trial {self.trial}"


class GuidedStudy(BaseModel):
    """Plan of a study, and its progress.

    seed: of the random order. taken: in the order in which they were presented. again: to be presented once
    more, before anything else.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    parts: tuple[Name, ...] = Field(min_length=2, max_length=500)
    operators: tuple[Name, ...] = Field(min_length=1, max_length=50)
    trials: int = Field(ge=2, le=100)
    seed: int = Field(default=0, ge=0)
    taken: tuple[Presentation, ...] = ()
    again: tuple[Presentation, ...] = ()

    @model_validator(mode="after")
    def _holds(self) -> GuidedStudy:
        for what, names in (("part", self.parts), ("operator", self.operators)):
            # files are named by them, and some file systems take upper for lower case
            if len({name.casefold() for name in names}) < len(names):
                raise ValueError(f"two {what}s have one name")
        if len(self.parts) * len(self.operators) * self.trials > MOST_RUNS:
            raise ValueError(f"more than {MOST_RUNS} scans")
        asked = set(self.order)
        if not asked.issuperset((*self.taken, *self.again)) or len(set(self.taken)) < len(self.taken):
            raise ValueError("runs that were not asked for")
        return self

    @classmethod
    def asked(cls, parts: Sequence[str], operators: Sequence[str], trials: int, seed: int) -> GuidedStudy:
        """A study that begins. Raises `HemtraError` in the user's words."""
        try:
            return cls(parts=tuple(parts), operators=tuple(operators), trials=trials, seed=seed)
        except ValidationError as error:
            first = error.errors()[0]
            where = str(first["loc"][0]) if first["loc"] else ""
            said = {
                "parts": "A study needs at least two parts; their names must do as file names.",
                "operators": "Name the operators, or the poses; their names must do as file names.",
                "trials": "A study needs two trials or more of each part, 100 at most.",
            }
            reason = str(first["msg"]).removeprefix("Value error, ")
            raise HemtraError(said.get(where, f"The study cannot be run: {reason}.")) from None

    @property
    def order(self) -> tuple[Presentation, ...]:
        """All that is to be presented: in each trial, operator by operator, all parts in random order."""
        rng = np.random.default_rng(self.seed)
        found = []
        for trial in range(1, self.trials + 1):
            for operator in rng.permutation(len(self.operators)):
                for part in rng.permutation(len(self.parts)):
                    name = self.operators[operator]
                    found.append(Presentation(part=self.parts[part], operator=name, trial=trial))
        return tuple(found)

    @property
    def next(self) -> Presentation | None:
        """Next run; None when all are done."""
        if self.again:
            return self.again[0]
        done = set(self.taken)
        return next((one for one in self.order if one not in done), None)

    @property
    def left(self) -> int:
        """Number of runs left."""
        return len(self.parts) * len(self.operators) * self.trials - len(self.taken) + len(self.again)

    def with_taken(self, one: Presentation) -> GuidedStudy:
        """After one was presented, for the first time or again."""
        taken = tuple(o for o in self.taken if o != one)
        again = tuple(o for o in self.again if o != one)
        return self.model_copy(update={"taken": (*taken, one), "again": again})

    def with_again(self, one: Presentation) -> GuidedStudy:
        """With one that is to be presented again; the same study where it was not presented yet."""
        if one not in self.taken or one in self.again:
            return self
        return self.model_copy(update={"again": (one, *self.again)})

    def sorted(self, found: Sequence[Presented]) -> list[Presented]:
        """The result, by part, operator and trial as the study lists them, and without others."""
        places = {(o.part, o.operator, o.trial): o for o in self.taken}
        part, operator = ({name: k for k, name in enumerate(names)} for names in (self.parts, self.operators))
        known = [one for one in found if (one.part, one.operator, one.trial) in places]
        return sorted(known, key=lambda one: (part[one.part], operator[one.operator], one.trial))


def doubts(now: Presented, before: Sequence[Presented]) -> list[str]:
    """Doubts about a run, as sentences: not read or measured, or unlike earlier readings of its part.

    before: the other runs of the study. A reading is unlike the others of its part where it lies more than
    `FAR` standard deviations of all repeats from their median.
    """
    if now.error:
        return [now.error]
    said = [
        f"{row.balloon} {row.name}: not measured: {row.reason}"
        for row in now.rows
        if row.value is None and not row.text and row.reason
    ]
    unlike = []
    for row in now.rows:
        if row.value is None:
            continue
        others: dict[str, list[float]] = defaultdict(list)
        for one in before:
            value = next((r.value for r in one.rows if r.balloon == row.balloon), None)
            if value is not None:
                others[one.part].append(value)
        repeats = [values for part, values in others.items() if part != now.part]
        freedom = sum(len(values) - 1 for values in repeats)
        own = others.get(now.part, [])
        if not own or freedom < ENOUGH:
            continue
        spread = np.sqrt(sum(float(np.var(v)) * len(v) for v in repeats) / freedom)
        off = row.value - float(np.median(own))
        if abs(off) > max(FAR * spread, 0.5 * 10.0**-row.decimals):
            words = f"{row.balloon} {row.name}: {off:+.{row.decimals}f} {row.unit}".rstrip()
            unlike.append((abs(off) / max(spread, 1e-12), f"{words} from the other runs of part {now.part}"))
    said += [words for _, words in sorted(unlike, reverse=True)]
    return said if len(said) <= MOST_SAID else [*said[:MOST_SAID], f"{len(said) - MOST_SAID} more"]
