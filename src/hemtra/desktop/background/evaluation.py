"""Work of the Plan workspace's lanes: the part on the stage, and the tray."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core import balloon_layout
from hemtra.core.edits.anchors import homes_of
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.form_floor import form_floor
from hemtra.core.evaluation.profile_runs import single
from hemtra.core.evaluation.results import Result
from hemtra.core.features.along_path import Along, AlongPath
from hemtra.core.features.section import Cut
from hemtra.core.geometry.elements import Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.maps.section import section
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.graph import ancestry, dependants, up_to
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.series import beyond
from hemtra.core.rendering.colouring import plane_map, reference_map, reference_profile, slope_map
from hemtra.core.runs import runs
from hemtra.desktop.background.latest_task import Superseded
from hemtra.desktop.models.bench import Place, Shown

OVERSHOOT = 0.35
"""Extension of a section beyond its two points, as a share of their distance."""


@dataclass(frozen=True)
class ShowRequest:
    """Evaluate the part on the stage. `line` None: cut where the selected characteristic is.

    teacher: evaluates on the reference scan, None without one.
    """

    engine: Engine
    teacher: Engine | None
    plan: Plan
    balloon: int | None
    line: tuple[Place, Place] | None
    width: float
    colour: str = "height"
    profile: int | None = None
    distance: float | None = None
    alone: str | None = None
    """A step that is looked at without a characteristic."""
    as_read: bool = False
    """Whether to trust what the plan's steps were taught when it was saved."""

    def subject(self, plan: Plan) -> str | None:
        """The step whose lineage is looked at, in the plan as it was taught."""
        row = None if self.balloon is None else plan.characteristic(self.balloon)
        return self.alone if row is None else row.step


def show(request: ShowRequest, superseded: Superseded) -> Iterator[Shown]:
    """An answer with numbers, evidence and section together, so that the screen never shows half of it.

    It is not cut short when superseded: in a drag something newer always waits, and the screen would starve.
    """
    if request.as_read:
        yield replace(_shown(request, request.plan), early=not balloon_layout.is_loaded())
        return
    balloon_layout.load()
    plan = taught_plan(request.plan, request.teacher)
    shown = _shown(request, plan)
    yield shown
    subject = request.subject(plan)
    if subject is None or shown.along is not None or plan.by_profile is not None:
        return
    # it takes longer than all else, and nobody looks at it in a drag
    if not superseded() and (floor := form_floor(request.engine, shown.result, subject)) is not None:
        yield replace(shown, floor=floor)


def _shown(request: ShowRequest, plan: Plan) -> Shown:
    """What a plan that has been taught gives on the part."""
    if plan.by_profile is not None:
        return _show_profile(request, plan)
    result = request.engine.run(plan)
    row = None if request.balloon is None else plan.characteristic(request.balloon)
    subject = request.subject(plan)
    if subject is None:
        return Shown(result, plan, coloured=_coloured(request, plan, result, []))
    steps = [step.id for column in ancestry(plan, subject) for step in column]
    evidence = {step_id: request.engine.explain(result, step_id) for step_id in steps}
    coverage = request.engine.coverage(result.steps, subject)
    found = next((i for i in steps if isinstance(result.steps[i].value, Along)), None)
    if found is not None:
        return _show_along(request, Shown(result, plan, evidence, coverage=coverage), found, row)
    line = request.line or propose_line(request.engine.data, result, steps)
    prepared = prepared_map(plan, result)
    profile = section(prepared or request.engine.data, *line, width=request.width) if line else None
    coloured = _coloured(request, plan, result, steps)
    behind = _behind(request, plan, result, profile, line)
    return Shown(result, plan, evidence, profile, behind, line, coloured, coverage=coverage)


def _show_along(request: ShowRequest, shown: Shown, step_id: str, row: Characteristic | None) -> Shown:
    """Evidence along a path, with the section across it at the place shown."""
    result, along = shown.result, shown.result.steps[step_id].value
    kind = kind_named(result.steps[step_id].step.kind)
    assert issubclass(kind, AlongPath)
    at = worst_along(along, result, row) if request.distance is None else request.distance
    coloured = _coloured(request, shown.plan, result, list(shown.evidence))
    if request.line is not None:
        data = prepared_map(shown.plan, result) or request.engine.data
        profile = section(data, *request.line, width=request.width)
        return replace(
            shown, profile=profile, line=request.line, coloured=coloured, along=along, at=at, by_hand=True
        )
    made = kind.model_validate(result.steps[step_id].step.params)
    cut, marks = made.section(request.engine.given(result, step_id), along, at)
    ends = [cut.place(float(cut.x[k]), 0.0) for k in (0, -1)]
    seen, heights = cut.seen_at(cut.x, np.nan_to_num(cut.z))
    begins, _ = cut.seen_at(float(cut.x[0]), 0.0)
    return replace(
        shown,
        profile=Profile(seen - begins, np.where(cut.valid, heights, np.nan)),
        line=((ends[0].x, ends[0].y), (ends[1].x, ends[1].y)),
        coloured=coloured,
        along=along,
        at=at,
        across=marks,
    )


def worst_along(along: Along, result: Result, row: Characteristic | None) -> float:
    """Position along a path of the worst section, mm, else of the longest break."""
    series = None if row is None else result.series.get(row.balloon)
    if row is not None and series is not None and series.by == "section" and series.measured.any():
        outside = beyond(np.where(series.measured, series.values, np.nan), row.lower, row.upper)
        if np.isfinite(outside[series.measured]).any():
            return float(series.at[np.nanargmax(outside)])
    broken = runs(along.absent, along.path.curve.closed)
    first, many = max(broken, key=lambda run: run[1], default=(0, 1))
    return float(along.at[(first + many // 2) % along.at.size])


def _show_profile(request: ShowRequest, plan: Plan) -> Shown:
    """The verdict of the whole run, with the numbers and evidence of one of its profiles."""
    assert plan.by_profile is not None
    profiles, result = request.engine.profiles(plan), request.engine.run(plan)
    index = profiles.nearest(plan.by_profile.at) if request.profile is None else request.profile
    index = min(index, profiles.count - 1)
    one = request.engine.at_profile(plan, index)
    here = one.run(single(plan))
    subject = request.subject(plan)
    steps = [step.id for column in ancestry(plan, subject) for step in column] if subject is not None else []
    evidence = {step_id: one.explain(here, step_id) for step_id in steps}
    cut, y = profiles.cuts[index], profiles.cuts[index].at[1]
    line = ((float(cut.x[0]), y), (float(cut.x[-1]), y))
    return Shown(
        replace(result, steps=here.steps),
        plan,
        evidence,
        Profile(cut.x - cut.x[0], cut.z),
        _profile_behind(request, plan, index),
        line,
        _coloured(request, plan, here, steps),
        index,
        here,
    )


def _coloured(request: ShowRequest, plan: Plan, result: Result, steps: list[str]) -> HeightMap | None:
    """Values that colour the part instead of its height; None for the height, or where unknown."""
    data = prepared_map(plan, result) or request.engine.data
    if request.colour == "slope":
        return slope_map(data)
    if request.colour == "plane":
        ids = [*steps, *result.steps]
        plane = next((v for i in ids if isinstance(v := result.steps[i].value, Plane)), None)
        return None if plane is None else plane_map(data, plane)
    of_reference = request.teacher.data if request.teacher is not None else None
    of_nominal = plan.nominal.data if plan.nominal is not None else None
    onto = {"reference": of_reference, "nominal": of_nominal}.get(request.colour)
    placed = None if onto is None else _placed(plan, result)
    return None if onto is None or placed is None else reference_map(data, onto, *placed)


def _placed(plan: Plan, result: Result) -> tuple[Frame, Frame] | None:
    """Pose of a frame of the plan on this part and on the reference; None where it was not found.

    A plan without frames expects all parts in one place.
    """
    homes = homes_of(plan)
    frames = [s.id for s in plan.steps if s.id in homes and issubclass(kind_named(s.kind).output, Frame)]
    for step_id in frames:
        found, home = result.steps[step_id].value, homes[step_id]
        if isinstance(found, Frame):
            slopes = home.slope_x, home.slope_y
            return found, Frame.on(slopes, home.x, home.y, home.z, home.rotation)
    return None if frames else (Frame(), Frame())


def _behind(
    request: ShowRequest,
    plan: Plan,
    result: Result,
    profile: Profile | None,
    line: tuple[Place, Place] | None,
) -> Profile | None:
    """The section of the reference scan behind that of another part; None where it cannot be laid onto it.

    Height and tilt follow the plane that most of the plan rests on, the same for every row: laid onto what the
    row itself measures, a difference would vanish.
    """
    teacher, placed = request.teacher, _placed(plan, result)
    if profile is None or line is None or teacher is None or teacher.data is request.engine.data:
        return None
    if placed is None:
        return None
    planes = [s.id for s in plan.steps if issubclass(kind_named(s.kind).output, Plane)]
    if not planes:
        return reference_profile(profile, line, teacher.data, *placed)
    datum = max(planes, key=lambda step_id: len(dependants(plan, step_id)))
    here, there = result.steps[datum].value, teacher.run(up_to(plan, datum)).steps[datum].value
    if not isinstance(here, Plane) or not isinstance(there, Plane):
        return None
    return reference_profile(profile, line, teacher.data, *placed, (here, there))


def _profile_behind(request: ShowRequest, plan: Plan, index: int) -> Profile | None:
    """The profile of the reference scan that lies as far along travel."""
    teacher = request.teacher
    if teacher is None or teacher.data is request.engine.data:
        return None
    profiles, own = teacher.profiles(plan), request.engine.profiles(plan).cuts[index]
    cut = profiles.cuts[profiles.nearest(own.at[1])]
    return Profile(own.x - own.x[0], np.interp(own.x, cut.x, cut.z, left=np.nan, right=np.nan))


def taught_plan(plan: Plan, teacher: Engine | None) -> Plan:
    """The plan with what its steps are taught by the reference scan."""
    return plan if teacher is None else teacher.taught(plan)


def prepared_map(plan: Plan, result: Result) -> HeightMap | None:
    """The map that the plan's preparation made of the part; None without preparation, or where it failed."""
    found = result.steps.get(plan.prepared or "")
    return found.value if found is not None and isinstance(found.value, HeightMap) else None


def propose_line(data: HeightMap, result: Result, steps: list[str]) -> tuple[Place, Place] | None:
    """A cut that shows the characteristic: through its two points, or along x through its one place."""
    values = [result.steps[i].value for i in steps]
    cuts = [v for v in values if isinstance(v, Cut)]
    if cuts:
        ends = [cuts[-1].place(float(cuts[-1].x[k]), 0.0) for k in (0, -1)]
        return (ends[0].x, ends[0].y), (ends[1].x, ends[1].y)
    points = [v for v in values if isinstance(v, Point)]
    x0, x1, _, _ = data.extent
    if len(points) >= 2:
        a, b = points[0], points[1]
        dx, dy = (b.x - a.x) * OVERSHOOT, (b.y - a.y) * OVERSHOOT
        if dx or dy:
            return (a.x - dx, a.y - dy), (b.x + dx, b.y + dy)
    if points:
        return (x0, points[0].y), (x1, points[0].y)
    planes = [v for v in values if isinstance(v, Plane)]
    return ((x0, planes[-1].y0), (x1, planes[-1].y0)) if planes else None


@dataclass(frozen=True)
class TrayRequest:
    """Evaluate all parts of the tray."""

    plan: Plan
    engines: tuple[Engine, ...]
    teacher: Engine | None = None


@dataclass(frozen=True)
class TrayAnswer:
    """Result of one part."""

    index: int
    result: Result | None
    error: str = ""


def try_tray(request: TrayRequest, superseded: Superseded) -> Iterator[TrayAnswer]:
    """Answer part by part, in order, until a newer request arrives."""
    plan = taught_plan(request.plan, request.teacher)
    for index, engine in enumerate(request.engines):
        if superseded():
            return
        try:
            yield TrayAnswer(index, engine.run(plan))
        except HemtraError as error:
            yield TrayAnswer(index, None, str(error))
