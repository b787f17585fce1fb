"""The rows of a requirement list matched with what stands out on the reference scan.

What a row asks for is read from its words, its unit and its numbers. Whatever fits is proposed on the scan and
measured; its value, its place and what other rows of the same name mean tell how well it fits.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations, pairwise
from typing import Any

import numpy as np
from scipy.optimize import linear_sum_assignment

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.requirements import bound
from hemtra.core.proposals.landmarks import ROUND_ALIKE, Landmark, landmarks
from hemtra.core.proposals.option import options
from hemtra.core.proposals.proposing import Proposal, main_plane
from hemtra.core.units import conversion

Place = tuple[float, float]
SURE = 0.9
"""Confidence from which a match needs no second look."""
OTHERS = 3
"""Further matches that are offered for a row."""
MOST_TRIED = 400
"""Matches that are measured at most."""
KINDS: Mapping[str, str] = {
    "height": "height tall high above elevation",
    "step": "step depth deep recess flush offset-height",
    "flush": "flush flushness protrusion protrudes",
    "diameter": "diameter dia ø ⌀ bore-size",
    "true-position": "position true-position positional",
    "roundness": "roundness circularity",
    "flatness": "flatness flat planarity",
    "coplanarity": "coplanarity coplanar",
    "parallelism": "parallelism parallel",
    "tilt": "tilt inclination slope angle",
    "distance": "distance pitch spacing length wide width span centre-distance between overall",
    "gap": "gap clearance slit",
    "position": "place coordinate location x-coordinate x-position",
    "bead-width": "bead-width",
    "bead-height": "bead-height",
    "bead-offset": "bead-offset bead-position",
    "bead-break": "bead-break longest-break interruption",
    "bead-volume": "bead-volume",
    "code": "code marking barcode datamatrix text content label print",
    "count": "count number present presence quantity pieces",
    "area": "area",
    "volume": "volume",
}
"""By option: words of a drawing that ask for it."""
BEAD = "bead sealant glue adhesive seal"
UNITS = {
    **dict.fromkeys(("tilt",), "°"),
    **dict.fromkeys(("code", "count"), ""),
    "area": "mm²",
    **dict.fromkeys(("volume", "bead-volume"), "mm³"),
}
"""Of options whose values are no lengths."""
USUAL = {"height": 0.0, "diameter": -0.7, "distance": -1.0, "step": -1.5, "flush": -2.5}
"""What a length without a word for it may be, with the logarithm of how usual that is."""
SAME = ("height", "step", "flush")
"""Options that measure nearly the same of one surface."""
NEAR, ELSEWHERE = -1.0, -2.5
"""Logarithm of how likely a row means what lies near what others of its name mean, or elsewhere."""
NONE_OF_THEM = 0.05
"""Weight of there being nothing that fits, against one for what fits in all."""
WITHOUT_NUMBERS = 0.93
"""How sure a row can be at most whose limits lie on one side only, where its value says little."""
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
"""What a thing of a name looks like."""
WORD = re.compile(r"[a-zäöüß⌀ø°-]+|\d+")
LARGE = 10.0
"""mm of the side of a surface from which its form or tilt is likely to be asked for."""


@dataclass(frozen=True)
class Match:
    """What a row may be bound to. confidence: 0 to 1, of all that may be meant.

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
class _Asked:
    """What a row asks for, as far as its words say."""

    row: Characteristic
    options: frozenset[str]
    is_explicit: bool
    nouns: frozenset[str]
    direction: Place | None


@dataclass(frozen=True)
class _Candidate:
    """Something that can be measured, with the landmarks it is of."""

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


def matched(
    plan: Plan, engine: Engine, tell: Callable[[int, int, str], bool] = lambda done, of, what: True
) -> tuple[RowMatches, ...]:
    """What each waiting row of a plan may be bound to. tell: told how far it is; stops where it says so.

    Raises `HemtraError` where the scan holds nothing to measure.
    """
    waiting = [row for row in plan.sheet if row.step is None]
    if not waiting:
        return ()
    bare = plan.edited(sheet=tuple(row for row in plan.sheet if row.step is not None))
    bare, plane_id = main_plane(engine.taught(bare), engine)
    plane = engine.run(bare.edited(sheet=())).steps[plane_id].value
    marks = landmarks(engine.data, plane)
    asked = [_asked(row) for row in waiting]
    wanted = {option for one in asked for option in one.options}
    tried = [c for c in _candidates(marks) if c.option in wanted][:MOST_TRIED]
    measured = []
    for done, candidate in enumerate(tried):
        if not tell(done, len(tried), candidate.option):
            break
        found = _measured(bare, engine, candidate)
        if found is not None:
            measured.append(found)
    return _assigned(asked, measured)


def bind_match(plan: Plan, engine: Engine, balloon: int, match: Match) -> Plan:
    """The plan with a waiting row bound to a match. Raises `HemtraError`."""
    made = _proposed(engine.taught(plan), engine, match.option, match.places)
    if made.balloon is None:
        raise HemtraError("Nothing was made that could be judged.")
    return bound(made.plan, balloon, made.balloon)


def _proposed(plan: Plan, engine: Engine, option: str, places: tuple[Place, ...]) -> Proposal:
    wanted = next(one for one in options("map") if one.id == option)
    made: Proposal = wanted.propose(plan, engine, *places)
    return made


# -- what a row asks for --------------------------------------------------------------------------


def _asked(row: Characteristic) -> _Asked:
    """The options, nouns and direction in the words of a row."""
    words = WORD.findall(row.name.lower())
    joined = {*words, *(f"{a}-{b}" for a, b in pairwise(words))}
    on_bead = bool(set(words) & set(BEAD.split()))
    found: set[str] = set()
    for option, known in KINDS.items():
        if joined & set(known.split()):
            found.add(option)
    if on_bead:
        found = {o for o in KINDS if o.startswith("bead-") and o.removeprefix("bead-") in words} or found
        found = {option for option in found if option.startswith("bead-")} or found
    unit_fits = {option for option in found if _unit_fits(row, option)}
    is_explicit = bool(unit_fits)
    allowed = unit_fits or {option for option in USUAL if _unit_fits(row, option)}
    if "step" in allowed:
        allowed |= {"flush"}
    spoken = {word for known in KINDS.values() for word in known.split()}
    nouns = frozenset(w for w in words if w not in spoken and w not in DIRECTIONS and not w.isdigit())
    direction = next((DIRECTIONS[w] for w in words if w in DIRECTIONS), None)
    return _Asked(row, frozenset(allowed), is_explicit, nouns, direction)


def _unit_fits(row: Characteristic, option: str) -> bool:
    """Whether the unit of a row, where it has one, is one of the option."""
    return not row.unit or conversion(UNITS.get(option, "mm"), row.unit) is not None


# -- what could be measured -----------------------------------------------------------------------


def _candidates(marks: Sequence[Landmark]) -> Iterator[_Candidate]:
    """Everything that landmarks could be asked for, the plainest first."""
    by_kind: dict[str, list[Landmark]] = {}
    for mark in marks:
        by_kind.setdefault(mark.kind, []).append(mark)
    surfaces, mains = by_kind.get("surface", []), by_kind.get("main", [])
    rims = [*by_kind.get("hole", []), *by_kind.get("boss", [])]
    for mark in surfaces:
        yield _Candidate("height", (mark.place,), (mark,))
        beside = min(mains, key=lambda m: math.dist(m.place, mark.place), default=None)
        if beside is not None:
            pair = (mark.place, beside.place)
            yield _Candidate("step", pair, (mark,))
            yield _Candidate("flush", pair, (mark,))
        for option in ("area", "volume", "count"):
            yield _Candidate(option, (mark.place,), (mark,))
    for mark in rims:
        for option in ("diameter", "roundness", "true-position", "position"):
            yield _Candidate(option, (mark.place,), (mark,))
    for mark in [*mains, *(m for m in surfaces if m.size >= LARGE)]:
        for option in ("flatness", "tilt", "parallelism"):
            yield _Candidate(option, (mark.place,), (mark,))
    for mark in surfaces:
        yield _Candidate("position", (mark.centre,), (mark,))
    for group in _alike(surfaces):
        if len(group) >= 4:
            yield _Candidate("coplanarity", tuple(m.place for m in group), tuple(group))
    for kind in ("hole", "boss"):
        for group in _alike(by_kind.get(kind, []), sizes_only=True):
            for one, other in combinations(group, 2):
                yield _Candidate("distance", (one.place, other.place), (one, other))
    for one, other in combinations(by_kind.get("edge", []), 2):
        if abs(one.size - other.size) <= 0.02 * max(one.size, 1.0):
            yield _Candidate("distance", (one.place, other.place), (one, other))
    for mark in by_kind.get("gap", []):
        if mark.other is not None:
            yield _Candidate("gap", (mark.place, mark.other), (mark,))
    for mark in by_kind.get("ridge", []):
        for option in KINDS:
            if option.startswith("bead-"):
                yield _Candidate(option, (mark.place,), (mark,))
    for mark in by_kind.get("code", []):
        yield _Candidate("code", (mark.place,), (mark,))


def _alike(marks: Sequence[Landmark], *, sizes_only: bool = False) -> list[list[Landmark]]:
    """Landmarks of one size, and of one height."""
    groups: list[list[Landmark]] = []
    for mark in marks:
        for group in groups:
            first = group[0]
            same_size = abs(mark.size - first.size) <= ROUND_ALIKE * max(first.size, 1.0)
            if same_size and (sizes_only or abs(mark.height - first.height) <= 0.3):
                group.append(mark)
                break
        else:
            groups.append([mark])
    return groups


def _measured(plan: Plan, engine: Engine, candidate: _Candidate) -> _Candidate | None:
    """A candidate with the value it gives; None where it gives none."""
    try:
        made = _proposed(plan, engine, candidate.option, candidate.places)
    except HemtraError:
        return None
    row = None if made.balloon is None else made.plan.characteristic(made.balloon)
    if row is None or row.step is None:
        return None
    result = engine.run(engine.taught(made.plan))
    judged = next(c for c in result.characteristics if c.balloon == row.balloon)
    if judged.value is None:
        return None
    return replace(candidate, value=judged.value, unit=judged.unit, name=row.name)


# -- how well it fits -----------------------------------------------------------------------------


@dataclass
class _Scores:
    """By row and candidate, the logarithm of how likely one means the other."""

    asked: Sequence[_Asked]
    candidates: Sequence[_Candidate]
    middle: Place = (0.0, 0.0)
    log: Any = field(default=None)

    def __post_init__(self) -> None:
        if self.candidates:
            centres = np.array([c.centre for c in self.candidates])
            self.middle = tuple(((centres.min(axis=0) + centres.max(axis=0)) / 2).tolist())
        self.log = np.array(
            [[self._of(one, candidate) for candidate in self.candidates] for one in self.asked]
        ).reshape(len(self.asked), len(self.candidates))

    def _of(self, asked: _Asked, candidate: _Candidate) -> float:
        if candidate.option not in asked.options:
            return -math.inf
        score = 0.0 if asked.is_explicit else USUAL.get(candidate.option, 0.0)
        if asked.is_explicit and candidate.option == "flush" and "flush" not in asked.row.name.lower():
            score -= 1.0
        return (
            score + self._value(asked.row, candidate) + self._place(asked, candidate) + _shape(asked, candidate)
        )

    def _value(self, row: Characteristic, candidate: _Candidate) -> float:
        """How well the value fits limits that a good part keeps."""
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

    def _place(self, asked: _Asked, candidate: _Candidate) -> float:
        """How well the place fits the words for where it is."""
        if asked.direction is None:
            return 0.0
        dx, dy = candidate.centre[0] - self.middle[0], candidate.centre[1] - self.middle[1]
        far = math.hypot(dx, dy)
        if far < 1.0:
            return -3.0
        wanted = asked.direction
        cosine = (dx * wanted[0] + dy * wanted[1]) / far / math.hypot(*wanted)
        return 0.0 if cosine >= 0.75 else -2.0 if cosine >= 0.3 else -6.0


def _shape(asked: _Asked, candidate: _Candidate) -> float:
    """How well what it is of looks like the thing it is named."""
    shapes = {shape for noun in asked.nouns for shape in SHAPES.get(noun.rstrip("s"), ())}
    shapes |= {shape for noun in asked.nouns for shape in SHAPES.get(noun, ())}
    if not shapes:
        return 0.0
    looks = {mark.kind for mark in candidate.of} | {"below" for mark in candidate.of if mark.height < -0.3}
    return 0.0 if looks & shapes else -1.5


def _assigned(asked: Sequence[_Asked], candidates: Sequence[_Candidate]) -> tuple[RowMatches, ...]:
    """The likeliest candidates of each row, no two rows with the same first one."""
    scores = _Scores(asked, candidates).log
    if not candidates:
        return tuple(RowMatches(one.row) for one in asked)
    scores = scores + _of_the_same_thing(asked, candidates, scores)
    # one candidate answers one row: what another row has better is less likely meant
    cost = np.where(np.isfinite(scores), -scores, 1e4)
    rows, columns = linear_sum_assignment(cost)
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
    row: Characteristic, candidates: Sequence[_Candidate], weights: FloatArray, order: Sequence[int]
) -> Iterator[Match]:
    """The first few, each with the confidence of all that measure nearly the same."""
    total = float(weights.sum()) + NONE_OF_THEM
    numbered = 1.0 if row.lower is not None and row.upper is not None else WITHOUT_NUMBERS
    shown: list[_Candidate] = []
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


def _same(one: _Candidate, other: _Candidate) -> bool:
    """Whether two measure nearly the same of one thing."""
    return one.option in SAME and other.option in SAME and one.of == other.of


def _of_the_same_thing(asked: Sequence[_Asked], candidates: Sequence[_Candidate], scores: Any) -> Any:
    """What rows of one name mean is near to each other: what one has found tells where others look."""
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


def _match(candidate: _Candidate, confidence: float, row: Characteristic) -> Match:
    factor = conversion(candidate.unit, row.unit) if row.unit else 1.0
    value = None if candidate.value is None or factor is None else candidate.value * factor
    return Match(candidate.option, candidate.places, value, candidate.name, min(confidence, 0.99))
