"""The rows of a requirement list matched with the landmarks of a reference profile."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import combinations, pairwise

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.section import Cut
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan
from hemtra.core.plan.requirements import bound
from hemtra.core.progress import Progress
from hemtra.core.proposals.landmarks import Landmark, ProfileMark
from hemtra.core.proposals.option import options
from hemtra.core.proposals.profiles import OnProfile, laid
from hemtra.core.proposals.proposing import Proposal
from hemtra.core.proposals.row_matching import (
    Candidate,
    Match,
    Place,
    RowMatches,
    Vocabulary,
    asked_of,
    assigned,
)
from hemtra.core.zones.zone import AnyZone

KINDS: Mapping[str, str] = {
    "groove-depth": "depth deep height",
    "groove-width": "width wide",
    "arc-radius": "radius rounding fillet r",
    "level-step": "step offset height rise",
    "line-angle": "angle inclination slope",
    "edge-distance": "distance length pitch spacing width wide span between overall",
    "profile-gap": "gap slit clearance",
    "profile-flush": "flush flushness protrusion",
}
"""Words of a drawing that require an option, by option."""
WORDS = Vocabulary(
    KINDS,
    {"line-angle": "°"},
    {"edge-distance": 0.0, "level-step": -0.5, "groove-depth": -1.0, "arc-radius": -1.0},
)
EVERY = 0.4
"""Distance between the places examined on a profile, mm."""
PROFILES = 9
"""Share of the reference's profiles on which a candidate is measured: enough to tell its usual value."""
SAME_PLACE = 0.3
"""Largest distance between zones of one feature found from two places, mm."""
LONGEST_ARC, LEAST_STRETCH = 8.0, 1.0
"""Largest zone of an arc and smallest straight stretch, mm."""
LEVEL = 0.1
"""Largest slope of a level stretch, mm per mm."""
STEEP = 3.0
"""Smallest slope of an edge of a profile, mm per mm."""
HIGHER = 0.3
"""Smallest distance between two levels, and down an edge, mm."""
WIDEST_GAP = 6.0
"""Largest distance between the two sides of a gap, mm."""
MOST_TRIED = 600
"""Largest number of candidates that are measured."""


def matched_on_profiles(plan: Plan, engine: Engine, progress: Progress) -> tuple[RowMatches, ...]:
    """Match each waiting row of a profile plan to options.

    progress: as for `drawing_list.matched`. Raises `HemtraError` where the profile holds nothing to measure.
    """
    waiting = [row for row in plan.sheet if row.step is None]
    bare = plan.edited(sheet=tuple(row for row in plan.sheet if row.step is not None))
    some = Engine(_some_profiles(engine.data))
    at = _drawn_on(bare, some)
    marks = landmarks_on(at.cut)
    asked = [asked_of(row, WORDS) for row in waiting]
    wanted = {option for one in asked for option in one.options}
    tried = [c for c in _candidates(marks) if c.option in wanted][:MOST_TRIED]
    measured: list[Candidate] = []
    for done, candidate in enumerate(tried):
        if not progress(done, len(tried), candidate.option):
            break
        found = _measured(at, candidate)
        if found is not None and not any(_is_again(found, known) for known in measured):
            measured.append(found)
    return assigned(asked, measured, WORDS)


def bind_on_profile(plan: Plan, engine: Engine, balloon: int, match: Match) -> Plan:
    """The plan with a waiting row bound to a match. Raises `HemtraError`."""
    made = _proposed(_drawn_on(plan, engine), match.option, match.places)
    if made.balloon is None:
        raise HemtraError("Nothing that could be made has a value to evaluate.")
    return bound(made.plan, balloon, made.balloon)


def _drawn_on(plan: Plan, engine: Engine) -> OnProfile:
    """The profile that the plan is drawn on."""
    assert plan.by_profile is not None
    return OnProfile(plan, engine, engine.profiles(plan).nearest(plan.by_profile.at))


def _some_profiles(data: HeightMap) -> HeightMap:
    """A few of the profiles, evenly spaced, the middle one among them."""
    every = max(1, data.shape[0] // PROFILES)
    first = data.shape[0] // 2 % every
    g = data.grid
    return HeightMap(
        np.ascontiguousarray(data.z[first::every]), None, g.dx, g.dy * every, g.x0, g.y0 + first * g.dy
    )


def _proposed(at: OnProfile, option: str, places: Sequence[Place]) -> Proposal:
    wanted = next(one for one in options("profile") if one.id == option)
    made: Proposal = wanted.propose(at, *places)
    return made


# -- landmarks -------------------------------------------------------------------------------------


def landmarks_on(cut: Cut) -> tuple[Landmark, ...]:
    """Grooves, arcs, straight stretches and edges of a profile; `place` is where each would be clicked.

    Every place of it is tried, and what lies there is found as it is for a click.
    """
    u, w = cut.x[cut.valid], cut.z[cut.valid]
    if u.size < 2:
        raise HemtraError("The profile holds no data to measure.")
    found: list[tuple[AnyZone, Landmark]] = []
    for x in np.arange(u[0] + EVERY, u[-1], EVERY):
        k = int(np.argmin(np.abs(u - x)))
        place = float(u[k]), float(w[k])
        for mark, zone in _at(cut, place):
            if not any(_one_feature(mark, zone, *known) for known in found):
                found.append((zone, mark))
    return (*(mark for _, mark in found), *_edges(cut))


def _at(cut: Cut, place: Place) -> Iterator[tuple[Landmark, AnyZone]]:
    kinds: tuple[tuple[ProfileMark, str], ...] = (
        ("groove", "groove"),
        ("arc", "arc"),
        ("stretch", "profile-line"),
    )
    for name, kind in kinds:
        try:
            zone, _ = laid(kind, cut, place)
        except HemtraError:
            continue
        inside = cut.within(zone) & cut.valid
        if not inside.any():
            continue
        x, z = cut.x[inside], cut.z[inside]
        width, long = zone.half_extent()[0] * 2.0, math.hypot(x[-1] - x[0], z[-1] - z[0])
        if (name == "arc" and width > LONGEST_ARC) or (name == "stretch" and long < LEAST_STRETCH):
            continue
        k = int(np.argmin(np.abs(x - zone.x)))
        if name == "groove":
            # its middle is where it is deepest
            off = z - np.interp(x, x[[0, -1]], z[[0, -1]])
            k = int(np.argmax(np.abs(off)))
        middle = float(x[k]), float(z[k])
        if name == "stretch" and abs(z[-1] - z[0]) > LEVEL * abs(x[-1] - x[0]):
            name = "flank"
        yield Landmark(name, middle, middle, height=middle[1], size=width), zone


def _one_feature(mark: Landmark, zone: AnyZone, known_zone: AnyZone, known: Landmark) -> bool:
    if mark.kind != known.kind:
        return False
    apart = abs(mark.place[0] - known.place[0])
    reach = SAME_PLACE if mark.kind == "groove" else max(SAME_PLACE, 0.3 * min(mark.size, known.size))
    # one zone may hold another on a wall beside it
    return apart <= reach and abs(mark.height - known.height) <= max(SAME_PLACE, 0.5 * mark.size)


def _edges(cut: Cut) -> Iterator[Landmark]:
    """Steep places and ends of the data over which the height changes."""
    u, w = cut.x[cut.valid], cut.z[cut.valid]
    step = float(np.median(np.diff(u)))
    rise, run = np.diff(w), np.diff(u)
    steep = (np.abs(rise) >= STEEP * run) | ((run > 3.0 * step) & (np.abs(rise) >= HIGHER))
    places = np.flatnonzero(steep)
    groups = np.split(places, np.flatnonzero(np.diff(places) > 3) + 1) if places.size else []
    for group in groups:
        first, last = int(group[0]), int(group[-1]) + 1
        if abs(w[last] - w[first]) < HIGHER:
            continue
        k = int(group[np.argmax(np.abs(rise[group] / run[group]))])
        place = float(u[k] + u[k + 1]) / 2, float(w[k] + w[k + 1]) / 2
        yield Landmark("edge", place, place, height=place[1], size=abs(float(w[last] - w[first])))


# -- what could be measured -----------------------------------------------------------------------


def _candidates(marks: Sequence[Landmark]) -> Iterator[Candidate]:
    """Every characteristic of landmarks of a profile, the plainest first."""
    by_kind: dict[str, list[Landmark]] = {}
    for mark in sorted(marks, key=lambda m: m.place):
        by_kind.setdefault(mark.kind, []).append(mark)
    for mark in by_kind.get("groove", []):
        for option in ("groove-depth", "groove-width"):
            yield Candidate(option, (mark.place,), (mark,))
    arcs = by_kind.get("arc", [])
    for mark in arcs:
        yield Candidate("arc-radius", (mark.place,), (mark,))
    edges = by_kind.get("edge", [])
    for one, other in combinations(edges, 2):
        yield Candidate("edge-distance", (one.place, other.place), (one, other))
    for one, other in [*combinations(arcs, 2), *pairwise(edges)]:
        apart = other.place[0] - one.place[0]
        between = any(one.place[0] < edge.place[0] < other.place[0] for edge in edges) or one in edges
        if between and 0.0 < apart <= WIDEST_GAP and abs(other.height - one.height) <= apart:
            for option in ("profile-gap", "profile-flush"):
                yield Candidate(option, (one.place, other.place), (one, other))
    levels, flanks = by_kind.get("stretch", []), by_kind.get("flank", [])
    for one, other in combinations(levels, 2):
        if abs(one.height - other.height) >= HIGHER:
            yield Candidate("level-step", (one.place, other.place), (one, other))
    for one, other in combinations([*levels, *flanks], 2):
        if math.dist(one.place, other.place) <= (one.size + other.size) * 2.0:
            yield Candidate("line-angle", (one.place, other.place), (one, other))


def _is_again(one: Candidate, other: Candidate) -> bool:
    """Whether two were found from different places of the same things."""
    assert one.value is not None
    assert other.value is not None
    near = math.dist(one.centre, other.centre) <= max(mark.size for mark in (*one.of, *other.of))
    return one.option == other.option and near and math.isclose(one.value, other.value, rel_tol=1e-4)


def _measured(at: OnProfile, candidate: Candidate) -> Candidate | None:
    """A candidate with the value it gives on the middle profile; None where it gives none."""
    try:
        made = _proposed(at, candidate.option, candidate.places)
    except HemtraError:
        return None
    row = None if made.balloon is None else made.plan.characteristic(made.balloon)
    if row is None or row.step is None:
        return None
    found = OnProfile(made.plan, at.engine, at.index).result.steps[row.step]
    if found.outcome is None or not math.isfinite(found.value.value):
        return None
    return replace(candidate, value=found.value.value, unit=found.value.unit, name=row.name)
