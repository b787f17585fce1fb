"""Agreement between a row of a drawing and quantities that could be measured.

Options, things and directions are read from the words of a row; the value, the place and what other rows of the
same name mean decide how likely it means a candidate.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.plan.document import Characteristic
from hemtra.core.proposals.landmarks import Landmark
from hemtra.core.units import conversion

Place = tuple[float, float]
SURE = 0.9
"""Confidence from which a match needs no second look."""
OTHERS = 3
"""Further matches that are offered for a row."""
BEAD = "bead sealant glue adhesive seal"
SAME = ("height", "step", "flush")
"""Options that measure nearly the same of one surface."""
SAME_LEVEL = 0.03
"""Largest difference between two stretches of one level on a profile, mm."""
NEAR, ELSEWHERE = -1.0, -2.5
"""Logarithm of how likely a row means what lies near what others of its name mean, or elsewhere."""
NONE_OF_THEM = 0.05
"""Weight of there being nothing that fits, against one for what fits in all."""
WITHOUT_NUMBERS = 0.93
"""Largest confidence of a row with a one-sided limit, where its value says little."""
DIRECTIONS: Mapping[str, Place] = {
    **dict.fromkeys(("n", "north", "far", "top", "back", "rear"), (0.0, 1.0)),
    **dict.fromkeys(("s", "south", "near", "bottom", "front"), (0.0, -1.0)),
    **dict.fromkeys(("e", "east", "right"), (1.0, 0.0)),
    **dict.fromkeys(("w", "west", "left"), (-1.0, 0.0)),
    "ne": (1.0, 1.0),
    "nw": (-1.0, 1.0),
    "se": (1.0, -1.0),
    "sw": (-1.0, -1.0),
}
"""Words that say where on the part something lies, x to the right and y away from the near side."""
SHAPES: Mapping[str, tuple[str, ...]] = {
    **dict.fromkeys(("bore", "hole", "drill", "opening"), ("hole",)),
    **dict.fromkeys(("boss", "stud", "pin", "hub", "dome", "post", "pad"), ("surface", "boss")),
    **dict.fromkeys(("pocket", "recess", "groove"), ("below",)),
    **dict.fromkeys(("flange", "base", "plate", "face"), ("main", "edge")),
    **dict.fromkeys(("plug", "insert", "cap"), ("surface", "gap")),
}
"""Appearance of a feature, by its name."""
WORD = re.compile(r"[a-zäöüß⌀ø°-]+|\d+")


@dataclass(frozen=True)
class Vocabulary:
    """Words by which drawings require options.

    kinds: by option, its words. units: of options whose values are no lengths. usual: what a length without a
    word for it may be, with the logarithm of how usual that is.
    """

    kinds: Mapping[str, str]
    units: Mapping[str, str]
    usual: Mapping[str, float]

    def unit_fits(self, row: Characteristic, option: str) -> bool:
        """Whether the unit of a row, where it has one, is one of the option."""
        return not row.unit or conversion(self.units.get(option, "mm"), row.unit) is not None


@dataclass(frozen=True)
class Match:
    """Candidate for a row. confidence: 0 to 1, among all candidates.

    option, places: what would be clicked. value: what it gives on the reference, in the unit of the row.
    """

    option: str
    places: tuple[Place, ...]
    value: float | None
    words: str
    confidence: float = 0.0


@dataclass(frozen=True)
class RowMatches:
    """A row that waits, and what it may be bound to, likeliest first; empty where nothing fits."""

    row: Characteristic
    matches: tuple[Match, ...] = ()

    @property
    def is_sure(self) -> bool:
        """Whether its first match needs no second look."""
        return bool(self.matches) and self.matches[0].confidence >= SURE


@dataclass(frozen=True)
class Asked:
    """Requirement of a row, as far as its words state it."""

    row: Characteristic
    options: frozenset[str]
    is_explicit: bool
    nouns: frozenset[str]
    direction: Place | None


@dataclass(frozen=True)
class Candidate:
    """Candidate for measuring, with its landmarks."""

    option: str
    places: tuple[Place, ...]
    of: tuple[Landmark, ...]
    value: float | None = None
    unit: str = "mm"
    name: str = ""

    @property
    def centre(self) -> Place:
        """The middle of what it is of."""
        x, y = zip(*(mark.centre for mark in self.of), strict=True)
        return sum(x) / len(x), sum(y) / len(y)


def asked_of(row: Characteristic, vocabulary: Vocabulary) -> Asked:
    """The options, nouns and direction in the words of a row."""
    words = WORD.findall(row.name.lower())
    joined = {*words, *(f"{a}-{b}" for a, b in pairwise(words))}
    on_bead = bool(set(words) & set(BEAD.split()))
    found: set[str] = set()
    for option, known in vocabulary.kinds.items():
        if joined & set(known.split()):
            found.add(option)
    if on_bead:
        found = {
            o for o in vocabulary.kinds if o.startswith("bead-") and o.removeprefix("bead-") in words
        } or found
        found = {option for option in found if option.startswith("bead-")} or found
    unit_fits = {option for option in found if vocabulary.unit_fits(row, option)}
    is_explicit = bool(unit_fits)
    allowed = unit_fits or {option for option in vocabulary.usual if vocabulary.unit_fits(row, option)}
    if "step" in allowed:
        allowed |= {"flush"}
    spoken = {word for known in vocabulary.kinds.values() for word in known.split()}
    nouns = frozenset(w for w in words if w not in spoken and w not in DIRECTIONS and not w.isdigit())
    direction = next((DIRECTIONS[w] for w in words if w in DIRECTIONS), None)
    return Asked(row, frozenset(allowed), is_explicit, nouns, direction)


@dataclass
class _Scores:
    """Log-likelihood of each candidate for each row."""

    asked: Sequence[Asked]
    candidates: Sequence[Candidate]
    vocabulary: Vocabulary
    middle: Place = (0.0, 0.0)
    log: Any = field(default=None)

    def __post_init__(self) -> None:
        if self.candidates:
            centres = np.array([c.centre for c in self.candidates])
            self.middle = tuple(((centres.min(axis=0) + centres.max(axis=0)) / 2).tolist())
        self.log = np.array(
            [[self._of(one, candidate) for candidate in self.candidates] for one in self.asked]
        ).reshape(len(self.asked), len(self.candidates))

    def _of(self, asked: Asked, candidate: Candidate) -> float:
        if candidate.option not in asked.options:
            return -math.inf
        score = 0.0 if asked.is_explicit else self.vocabulary.usual.get(candidate.option, 0.0)
        if asked.is_explicit and candidate.option == "flush" and "flush" not in asked.row.name.lower():
            score -= 1.0
        return (
            score + self._value(asked.row, candidate) + self._place(asked, candidate) + _shape(asked, candidate)
        )

    def _value(self, row: Characteristic, candidate: Candidate) -> float:
        """Agreement of the value with limits that a good part keeps."""
        factor = conversion(candidate.unit, row.unit) if row.unit else 1.0
        if factor is None or candidate.value is None:
            return -math.inf
        value = candidate.value * factor
        if row.lower is None or row.upper is None:
            inside = (row.lower is None or value >= row.lower) and (row.upper is None or value <= row.upper)
            return 0.0 if inside else -4.0
        reach = max((row.upper - row.lower) / 2, 1e-9)
        nominal = (row.upper + row.lower) / 2 if row.nominal is None else row.nominal
        off = abs(value - nominal) / reach
        return -0.5 * off**2 if off <= 1.5 else -4.0 - min(off, 40.0)

    def _place(self, asked: Asked, candidate: Candidate) -> float:
        """Agreement of the place with the words for it."""
        if asked.direction is None:
            return 0.0
        dx, dy = candidate.centre[0] - self.middle[0], candidate.centre[1] - self.middle[1]
        far = math.hypot(dx, dy)
        if far < 1.0:
            return -3.0
        wanted = asked.direction
        cosine = (dx * wanted[0] + dy * wanted[1]) / far / math.hypot(*wanted)
        return 0.0 if cosine >= 0.75 else -2.0 if cosine >= 0.3 else -6.0


def _shape(asked: Asked, candidate: Candidate) -> float:
    """Agreement between the feature and the appearance its name implies."""
    shapes = {shape for noun in asked.nouns for shape in SHAPES.get(noun.rstrip("s"), ())}
    shapes |= {shape for noun in asked.nouns for shape in SHAPES.get(noun, ())}
    if not shapes:
        return 0.0
    looks = {mark.kind for mark in candidate.of} | {"below" for mark in candidate.of if mark.height < -0.3}
    return 0.0 if looks & shapes else -1.5


def assigned(
    asked: Sequence[Asked], candidates: Sequence[Candidate], vocabulary: Vocabulary
) -> tuple[RowMatches, ...]:
    """The likeliest candidates of each row, no two rows with the same first one."""
    scores = _Scores(asked, candidates, vocabulary).log
    if not candidates:
        return tuple(RowMatches(one.row) for one in asked)
    scores = scores + _of_the_same_thing(asked, candidates, scores)
    # one candidate answers one row: what another row has better is less likely meant
    cost = np.where(np.isfinite(scores), -scores, 1e4)
    rows, columns = scipy.optimize.linear_sum_assignment(cost)
    first = {int(r): int(c) for r, c in zip(rows, columns, strict=True) if np.isfinite(scores[r, c])}
    taken = {c: r for r, c in first.items()}
    found = []
    for r, one in enumerate(asked):
        weights = np.exp(np.where(np.isfinite(scores[r]), scores[r], -np.inf))
        for c, owner in taken.items():
            if owner != r:
                weights[c] *= 0.05
        order = [c for c in np.argsort(-weights) if weights[c] > 1e-6]
        if r in first and first[r] in order:
            order.remove(first[r])
            order.insert(0, first[r])
        found.append(RowMatches(one.row, tuple(_matches(one.row, candidates, weights, order))))
    return tuple(found)


def _matches(
    row: Characteristic, candidates: Sequence[Candidate], weights: FloatArray, order: Sequence[int]
) -> Iterator[Match]:
    """The first few, each with the confidence of all that measure nearly the same."""
    total = float(weights.sum()) + NONE_OF_THEM
    numbered = 1.0 if row.lower is not None and row.upper is not None else WITHOUT_NUMBERS
    shown: list[Candidate] = []
    for c in order:
        candidate = candidates[c]
        if any(_same(candidate, other) for other in shown):
            continue
        alike = [k for k, other in enumerate(candidates) if k == c or _same(candidate, other)]
        sure = numbered * float(weights[alike].sum()) / total
        yield _match(candidate, sure, row)
        shown.append(candidate)
        if len(shown) > OTHERS:
            return


def _same(one: Candidate, other: Candidate) -> bool:
    """Whether two measure nearly the same of one thing, or of the same two levels."""
    if one.option in SAME and other.option in SAME and one.of == other.of:
        return True
    levels = one.option == other.option and all(mark.kind == "stretch" for mark in (*one.of, *other.of))
    return levels and all(abs(a.height - b.height) <= SAME_LEVEL for a, b in zip(one.of, other.of, strict=True))


def _of_the_same_thing(asked: Sequence[Asked], candidates: Sequence[Candidate], scores: Any) -> Any:
    """What rows of one name mean is near to each other: what one has found guides where others look."""
    more = np.zeros_like(scores)
    homes: dict[str, list[tuple[int, Landmark]]] = {}
    for r, one in enumerate(asked):
        weights = np.exp(np.where(np.isfinite(scores[r]), scores[r], -np.inf))
        if one.direction is not None or not one.nouns or weights.sum() <= 0.0:
            continue
        best = int(np.argmax(weights))
        two_sided = one.row.lower is not None and one.row.upper is not None
        if two_sided and weights[best] / (weights.sum() + 0.05) >= 0.5 and len(candidates[best].of) == 1:
            for noun in one.nouns:
                homes.setdefault(noun, []).append((r, candidates[best].of[0]))
    for r, one in enumerate(asked):
        # a row says nothing about itself
        known = [mark for noun in one.nouns for owner, mark in homes.get(noun, []) if owner != r]
        if not known or one.direction is not None:
            continue
        for c, candidate in enumerate(candidates):
            near = any(mark.near(home) for mark in candidate.of for home in known)
            is_it = any(mark is home for mark in candidate.of for home in known)
            more[r, c] = 0.0 if is_it else NEAR if near else ELSEWHERE
    return more


def _match(candidate: Candidate, confidence: float, row: Characteristic) -> Match:
    factor = conversion(candidate.unit, row.unit) if row.unit else 1.0
    value = None if candidate.value is None or factor is None else candidate.value * factor
    return Match(candidate.option, candidate.places, value, candidate.name, min(confidence, 0.99))
