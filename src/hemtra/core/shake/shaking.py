"""Tries a plan on worse copies of scans, and finds what each disturbance breaks first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from zlib import crc32

import numpy as np

from hemtra.core.evaluation.engine import Engine
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import Verdict
from hemtra.core.proposals.mends import mends
from hemtra.core.shake.disturbances import DISTURBANCES, Disturbance

COPIES = 200
"""Copies of each part, shared out evenly among all amounts of all disturbances."""


@dataclass(frozen=True)
class Case:
    """An amount of a disturbance."""

    disturbance: str
    amount: float


@dataclass(frozen=True)
class Broken:
    """A row of a good part that did not pass on a copy, and a possible remedy in words, with its plan."""

    balloon: Balloon
    name: str
    verdict: Verdict
    reason: str
    mend: str = ""
    plan: Plan | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True)
class Shaken:
    """Result of a copy of a part. part: its name; good: its tag, None where it has none."""

    part: str
    good: bool | None
    case: Case
    verdict: Verdict
    broken: tuple[Broken, ...] = ()
    """Failures of a part that is not bad, in balloon order."""

    @property
    def is_wrong(self) -> bool:
        """Whether it got another verdict than the part deserves."""
        passes = self.verdict is Verdict.PASS
        if DISTURBANCES[self.case.disturbance].must_fail:
            return passes
        return passes if self.good is False else not passes


def cases(copies: int = COPIES, chosen: Iterable[str] = ()) -> list[Case]:
    """So many, or a few more: every amount of the chosen disturbances as often, at least once.

    Where none are chosen, what is simulated anew comes once, since that takes as long as many copies do.
    """
    names = list(chosen) or [name for name, one in DISTURBANCES.items() if one.copied is not None]
    found = [Case(name, amount) for name in names for amount in DISTURBANCES[name].amounts]
    anew = [] if chosen else [name for name, one in DISTURBANCES.items() if one.copied is None]
    once = [Case(name, amount) for name in anew for amount in DISTURBANCES[name].amounts]
    return found * max(1, round(copies / len(found))) + once


@dataclass(frozen=True)
class TriedPart:
    """A scan that is made worse. good: its tag, None where it has none.

    rescan: simulates the part anew by an amount; without it, such cases are left out.
    """

    name: str
    data: HeightMap
    good: bool | None
    rescan: Callable[[float, np.random.Generator], HeightMap] | None = None


def shaken(
    plan: Plan, part: TriedPart, tried: Sequence[Case], *, seed: int = 0, first: int = 0
) -> Iterator[Shaken]:
    """Evaluate the copies of one scan; the same seed gives the same copies.

    first: number of the first case among all, which its copy follows from.
    """
    for k, case in enumerate(tried, start=first):
        rng = np.random.default_rng((seed, crc32(part.name.encode()), k))
        copied = DISTURBANCES[case.disturbance].copied
        if copied is not None:
            worse = copied(part.data, case.amount, rng)
        elif part.rescan is not None:
            worse = part.rescan(case.amount, rng)
        else:
            continue
        engine = Engine(worse)
        result = engine.run(plan)
        broken = []
        if part.good is not False:
            for row in result.characteristics:
                if row.verdict is Verdict.PASS:
                    continue
                mend = next((one for one in mends(plan, engine, result, row) if one.plan is not None), None)
                helped = ("", None) if mend is None else (mend.words, mend.plan)
                broken.append(Broken(Balloon(row.balloon), row.name, row.verdict, row.reason, *helped))
        yield Shaken(part.name, part.good, case, result.verdict, tuple(broken))


@dataclass(frozen=True)
class AtAmount:
    """All copies at one amount. first: the row that broke most often, with the reason it gave most often."""

    case: Case
    copies: int
    """Number of copies, all parts."""
    bad: int
    """Number of these from bad parts."""
    refused: int
    """Good parts, or such without a tag, that FAIL."""
    unmeasured: int
    """The same that are NOT MEASURED or NOT PROVEN."""
    passed: int
    """Bad parts that PASS, and whatever else must not."""
    first: Broken | None
    parts: tuple[str, ...] = field(default=())
    """Parts with a wrong verdict, each once."""

    @property
    def holds(self) -> bool:
        """Whether every copy got the verdict that its part deserves."""
        return self.refused == self.unmeasured == self.passed == 0


@dataclass(frozen=True)
class Finding:
    """Effect of a disturbance on a plan, by amount, the smallest first."""

    disturbance: str
    amounts: tuple[AtAmount, ...]

    @property
    def holds_to(self) -> float | None:
        """The largest amount up to which everything held; None where nothing did."""
        held = None
        for at in self.amounts:
            if not at.holds:
                break
            held = at.case.amount
        return held

    @property
    def breaks_at(self) -> AtAmount | None:
        """The first amount at which something broke."""
        return next((at for at in self.amounts if not at.holds), None)


def findings(found: Iterable[Shaken]) -> list[Finding]:
    """Failures by disturbance, in their order."""
    by_case: dict[Case, list[Shaken]] = {}
    for one in found:
        by_case.setdefault(one.case, []).append(one)
    result = []
    for name, disturbance in DISTURBANCES.items():
        amounts = [
            _at_amount(Case(name, amount), by_case[Case(name, amount)])
            for amount in disturbance.amounts
            if Case(name, amount) in by_case
        ]
        if amounts:
            result.append(Finding(name, tuple(amounts)))
    return result


def _at_amount(case: Case, copies: Sequence[Shaken]) -> AtAmount:
    wrong = [one for one in copies if one.is_wrong]
    passed = sum(one.verdict is Verdict.PASS for one in wrong)
    refused = sum(one.verdict is Verdict.FAIL for one in wrong)
    # the row that breaks most often, and of these what it says most often
    rows = Counter(broken.balloon for one in wrong for broken in one.broken)
    first = None
    if rows:
        balloon = min(rows, key=lambda b: (-rows[b], b))
        said = Counter(broken for one in wrong for broken in one.broken if broken.balloon == balloon)
        first = said.most_common(1)[0][0]
    parts = tuple(dict.fromkeys(one.part for one in wrong))
    bad = sum(one.good is False for one in copies)
    return AtAmount(case, len(copies), bad, refused, len(wrong) - passed - refused, passed, first, parts)


def with_unit(amount: float, disturbance: Disturbance) -> str:
    """An amount as people write it: 45°, 3 %, 0.3 mm."""
    space = "" if disturbance.unit in ("", "°") else " "
    return f"{amount:g}{space}{disturbance.unit}"


def in_words(at: AtAmount) -> str:
    """Describe the failures at an amount in a sentence."""
    good = at.copies - at.bad
    counts = (
        (at.passed, at.bad, "of bad parts pass"),
        (at.refused, good, "of good parts fail"),
        (at.unmeasured, good, "of good parts are not measured"),
    )
    words = ", ".join(f"{count} of {of} copies {what}" for count, of, what in counts if count)
    if at.first is not None and (at.refused or at.unmeasured):
        words += f"; first {at.first.balloon} {at.first.name}: {at.first.reason or at.first.verdict}"
        if at.first.mend:
            words += f". Try: {at.first.mend}"
    return words
