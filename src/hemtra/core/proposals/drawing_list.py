"""The rows of a requirement list matched with the landmarks of the reference scan.

Whatever a row may require is proposed on the scan and measured; how well it fits decides.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import combinations

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import Plan
from hemtra.core.plan.requirements import bound
from hemtra.core.progress import Progress
from hemtra.core.proposals.landmarks import ROUND_ALIKE, Landmark, landmarks
from hemtra.core.proposals.option import options
from hemtra.core.proposals.profile_list import bind_on_profile, matched_on_profiles
from hemtra.core.proposals.proposing import Proposal, datum_plane
from hemtra.core.proposals.row_matching import (
    Candidate,
    Match,
    Place,
    RowMatches,
    Vocabulary,
    asked_of,
    assigned,
)

MOST_TRIED = 400
"""Largest number of matches that are measured."""
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
"""Words of a drawing that require an option, by option."""
UNITS = {
    **dict.fromkeys(("tilt",), "°"),
    **dict.fromkeys(("code", "count"), ""),
    "area": "mm²",
    **dict.fromkeys(("volume", "bead-volume"), "mm³"),
}
"""Options whose values are no lengths."""
USUAL = {"height": 0.0, "diameter": -0.7, "distance": -1.0, "step": -1.5, "flush": -2.5}
"""Options for a length without a keyword, with the logarithm of how usual each is."""
WORDS = Vocabulary(KINDS, UNITS, USUAL)
LARGE = 10.0
"""Side of a surface from which on its form or tilt is a likely requirement, mm."""


def matched(
    plan: Plan, engine: Engine, progress: Progress = lambda done, of, what: True
) -> tuple[RowMatches, ...]:
    """Match each waiting row of a plan to options. progress: called after each.

    Raises `HemtraError` where the scan holds nothing to measure.
    """
    waiting = [row for row in plan.sheet if row.step is None]
    if not waiting:
        return ()
    if plan.by_profile is not None:
        return matched_on_profiles(plan, engine, progress)
    bare = plan.edited(sheet=tuple(row for row in plan.sheet if row.step is not None))
    bare, plane_id = datum_plane(engine.taught(bare), engine)
    plane = engine.run(bare.edited(sheet=())).steps[plane_id].value
    marks = landmarks(engine.data, plane)
    asked = [asked_of(row, WORDS) for row in waiting]
    wanted = {option for one in asked for option in one.options}
    tried = [c for c in _candidates(marks) if c.option in wanted][:MOST_TRIED]
    measured = []
    for done, candidate in enumerate(tried):
        if not progress(done, len(tried), candidate.option):
            break
        found = _measured(bare, engine, candidate)
        if found is not None:
            measured.append(found)
    return assigned(asked, measured, WORDS)


def bind_match(plan: Plan, engine: Engine, balloon: int, match: Match) -> Plan:
    """The plan with a waiting row bound to a match. Raises `HemtraError`."""
    if plan.by_profile is not None:
        return bind_on_profile(plan, engine, balloon, match)
    made = _proposed(engine.taught(plan), engine, match.option, match.places)
    if made.balloon is None:
        raise HemtraError("Nothing that could be made has a value to evaluate.")
    return bound(made.plan, balloon, made.balloon)


def _proposed(plan: Plan, engine: Engine, option: str, places: tuple[Place, ...]) -> Proposal:
    wanted = next(one for one in options("map") if one.id == option)
    made: Proposal = wanted.propose(plan, engine, *places)
    return made


# -- what could be measured -----------------------------------------------------------------------


def _candidates(marks: Sequence[Landmark]) -> Iterator[Candidate]:
    """Every characteristic of landmarks, the plainest first."""
    by_kind: dict[str, list[Landmark]] = {}
    for mark in marks:
        by_kind.setdefault(mark.kind, []).append(mark)
    surfaces, mains = by_kind.get("surface", []), by_kind.get("main", [])
    rims = [*by_kind.get("hole", []), *by_kind.get("boss", [])]
    for mark in surfaces:
        yield Candidate("height", (mark.place,), (mark,))
        beside = min(mains, key=lambda m: math.dist(m.place, mark.place), default=None)
        if beside is not None:
            pair = (mark.place, beside.place)
            yield Candidate("step", pair, (mark,))
            yield Candidate("flush", pair, (mark,))
        for option in ("area", "volume", "count"):
            yield Candidate(option, (mark.place,), (mark,))
    for mark in rims:
        for option in ("diameter", "roundness", "true-position", "position"):
            yield Candidate(option, (mark.place,), (mark,))
    for mark in [*mains, *(m for m in surfaces if m.size >= LARGE)]:
        for option in ("flatness", "tilt", "parallelism"):
            yield Candidate(option, (mark.place,), (mark,))
    for mark in surfaces:
        yield Candidate("position", (mark.centre,), (mark,))
    for group in _alike(surfaces):
        if len(group) >= 4:
            yield Candidate("coplanarity", tuple(m.place for m in group), tuple(group))
    for kind in ("hole", "boss"):
        for group in _alike(by_kind.get(kind, []), sizes_only=True):
            for one, other in combinations(group, 2):
                yield Candidate("distance", (one.place, other.place), (one, other))
    for one, other in combinations(by_kind.get("edge", []), 2):
        if abs(one.size - other.size) <= 0.02 * max(one.size, 1.0):
            yield Candidate("distance", (one.place, other.place), (one, other))
    for mark in by_kind.get("gap", []):
        if mark.other is not None:
            yield Candidate("gap", (mark.place, mark.other), (mark,))
    for mark in by_kind.get("ridge", []):
        for option in KINDS:
            if option.startswith("bead-"):
                yield Candidate(option, (mark.place,), (mark,))
    for mark in by_kind.get("code", []):
        yield Candidate("code", (mark.place,), (mark,))


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


def _measured(plan: Plan, engine: Engine, candidate: Candidate) -> Candidate | None:
    """A candidate with the value it gives; None where it gives none."""
    try:
        made = _proposed(plan, engine, candidate.option, candidate.places)
    except HemtraError:
        return None
    row = None if made.balloon is None else made.plan.characteristic(made.balloon)
    if row is None or row.step is None:
        return None
    result = engine.run(engine.taught(made.plan))
    evaluated = next(c for c in result.characteristics if c.balloon == row.balloon)
    if evaluated.value is None:
        return None
    return replace(candidate, value=evaluated.value, unit=evaluated.unit, name=row.name)
