"""Remedies for a value that was not measured: the likeliest ones, from the plan and the scan."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from hemtra.core.coverage import Coverage
from hemtra.core.edits.preparation import with_preparation
from hemtra.core.errors import HemtraError, OffScan
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.possible import least_coverage
from hemtra.core.evaluation.results import Result, StepResult
from hemtra.core.plan.document import Characteristic, Follow, Plan, Step
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.proposing import part_frame
from hemtra.core.zones.window import window

MOST = 2
"""Largest number of remedies offered at a time."""


@dataclass(frozen=True)
class Mend:
    """Something to do about it. words: what a button says. plan: the plan with it done; where nothing is
    changed by itself, the `step` to look at, or what the user must give: a “click”, or the part's “outline”."""

    words: str
    plan: Plan | None = None
    step: str = ""
    ask: Literal["", "click", "outline"] = ""
    why: str = field(default="", compare=False)
    """Explanation of the remedy."""


def mends(plan: Plan, engine: Engine, result: Result, evaluated: CharacteristicResult) -> tuple[Mend, ...]:
    """The likeliest two, likeliest first; none where a value was measured."""
    row = plan.characteristic(evaluated.balloon)
    if row is None or evaluated.verdict is not Verdict.NOT_MEASURED:
        return ()
    if row.step is None:
        return (Mend("Choose what it measures, then click it", ask="click"),)
    if row.step not in result.steps or plan.by_profile is not None:
        return ()
    cause = _cause(plan, result, row.step)
    found = _of_a_step(plan, engine, cause) if cause is not None else _of_a_row(plan, engine, result, row)
    return tuple(found)[:MOST]


def _cause(plan: Plan, result: Result, step_id: str) -> StepResult | None:
    """The first step of a chain that was not measured; None where all were."""
    chain = [result.steps[s.id] for column in ancestry(plan, step_id) for s in column if s.id in result.steps]
    missing = [found for found in chain if found.outcome is None]
    return next((found for found in missing if not found.because_of), missing[0] if missing else None)


def _of_a_step(plan: Plan, engine: Engine, cause: StepResult) -> Iterator[Mend]:
    """Remedies for a step that found nothing."""
    step, kind = cause.step, kind_named(cause.step.kind)
    if step.zone is not None and cause.zone is not None and not kind.section_input:
        yield from _of_a_zone(plan, engine, cause)
    elif step.zone is not None and cause.zone is None and not step.follow.anchors:
        yield from _followed(plan, step)
    yield Mend(f"Check “{step.name}”", step=step.id, why=f"It was not measured: {cause.reason}.")


def _of_a_zone(plan: Plan, engine: Engine, cause: StepResult) -> Iterator[Mend]:
    """Remedies for a zone with too little data."""
    step, zone = cause.step, cause.zone
    assert zone is not None
    try:
        share = 100.0 * window(zone, engine.data).data_share(engine.data)
        all_heights = zone if zone.band is None else zone.model_copy(update={"band": None})
        without = 100.0 * window(all_heights, engine.data).data_share(engine.data)
    except OffScan:
        yield from _followed(plan, step)
        return
    if zone.band is not None and share < without:
        lifted = step.zone.model_copy(update={"band": None}) if step.zone is not None else None
        yield Mend(
            "Take its height band off",
            plan.with_step(step.edited(zone=lifted)),
            why=f"{without:.0f} % of the zone holds data at other heights.",
        )
    asked = getattr(kind_named(step.kind).model_validate(step.params), "least_data", None)
    if asked is not None and 0.0 < share < asked:
        accepted = float(max(math.floor(share), 1))
        yield Mend(
            f"Accept {accepted:.0f} % data",
            plan.with_step(step.edited(params={**step.params, "least_data": accepted})),
            why=f"The minimum is {asked:g} % now. Areas without data are then not inspected.",
        )
        if plan.prepared is None:
            filled = _filled(plan)
            if filled is not None:
                yield Mend(
                    "Fill small holes first",
                    filled,
                    why="Points without data are filled from around them before anything is measured.",
                )
    if without == 0.0:
        yield from _followed(plan, step)


def _filled(plan: Plan) -> Plan | None:
    try:
        return with_preparation(plan, "fill")
    except HemtraError:
        return None


def _followed(plan: Plan, step: Step) -> Iterator[Mend]:
    """Remedies for a zone beside its target."""
    if step.follow.anchors:
        return
    frame = part_frame(plan)
    if frame is None:
        yield Mend(
            "Find the part by its outline",
            ask="outline",
            why="Its zone stays where it was drawn, wherever the part lies.",
        )
    elif frame != step.id:
        follow = Follow(x=frame, y=frame, rotation=frame)
        yield Mend(
            f"Let its zone follow “{plan.step(frame).name}”",
            plan.with_step(step.edited(follow=follow)),
            why="Its zone stays where it was drawn, wherever the part lies.",
        )


def _of_a_row(plan: Plan, engine: Engine, result: Result, row: Characteristic) -> Iterator[Mend]:
    """Remedies for a value with too little coverage."""
    assert row.step is not None
    found = engine.coverage(result.steps, row.step)
    zoned = _nearest_zone(plan, row.step)
    if found is not None:
        asked = row.least_coverage
        if asked is None:
            asked = least_coverage(result.steps, row.step)
        yield from _rests_on(plan, row, found, asked)
    if zoned is not None:
        yield Mend(f"Check “{plan.step(zoned).name}”", step=zoned, why="Its zone shows what was not seen.")


def _rests_on(plan: Plan, row: Characteristic, found: Coverage, asked: float) -> Iterator[Mend]:
    known, spikes = 100.0 * found.known, 100.0 * found.spike_share
    if known < asked:
        accepted = float(math.floor(known))
        yield Mend(
            f"Accept {accepted:.0f} % seen",
            plan.with_characteristic(row.edited(least_coverage=accepted)),
            why=f"{asked:g} % is asked for now. What is not seen may be out of limits and pass.",
        )
    if spikes > row.most_spikes:
        accepted = math.ceil(10.0 * spikes) / 10.0
        yield Mend(
            f"Allow {accepted:g} % isolated points",
            plan.with_characteristic(row.edited(most_spikes=accepted)),
            why=f"{row.most_spikes:g} % are allowed now. They are left out of the value.",
        )


def _nearest_zone(plan: Plan, step_id: str) -> str | None:
    """The last step of a chain that has a zone."""
    chain = [step for column in ancestry(plan, step_id) for step in column if step.zone is not None]
    return chain[-1].id if chain else None
