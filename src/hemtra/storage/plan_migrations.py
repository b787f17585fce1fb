"""Migrations of earlier plan files, with a note for each row that measures differently."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from hemtra.core.errors import PlanError
from hemtra.core.plan.registry import kind_named
from hemtra.core.units import conversion

Content = dict[str, Any]

NOTES: Mapping[str, str] = {
    "flatness": "Takes points near the plane only, as when this plan was made: bumps and dents are"
    " left out, so it"
    " does not prove form. Choose all points in its card.",
    "coplanarity": "Takes the levels of its spots only, as when this plan was made, so it does not prove"
    " coplanarity. Choose all points in its card.",
    "parallelism": "Takes all points of the surface or edge, no longer those of the fitted plane or line.",
    "straightness": "What three places beside each other show counts in full; 95 % of the edge must be seen.",
    "roundness": "What three places beside each other show counts in full; 95 % of the rim must be seen.",
    "width": "Minimum and maximum are local sizes from point to point, no longer those of the fitted lines.",
    "spot": "Highest and lowest take all points but isolated ones; the very extreme is no longer dropped.",
    "extreme": "Isolated points are left out.",
    "island": "Small patches without data are filled from their rims, larger ones leave room on both sides"
    " of the value.",
    "fill-share": "Counts the whole zone; what was not seen leaves room on both sides of the value.",
    "along": "What is missing has no width, height and area; stretches over 2 mm that were not seen are not"
    " measured.",
    "continuity": "Ends of breaks are searched for between sections.",
    "seam": "A closed gap is 0, and depth that is seen is no longer bridged.",
    "trim": "Depth that is seen is no longer bridged.",
    "groove": "A groove that is absent has depth 0; with no data on its floor it is not measured.",
    "arc": "Outliers on one side no longer pull it; half of its stretch must hold data.",
    "profile-line": "Five points and half of its stretch must hold data.",
    "profile-level": "Half of its stretch must hold data.",
    "profile-edge": "A step in a shadow lies where its upper side was seen last; half of its stretch"
    " must hold data.",
}
"""Changes of measuring since schema 7, by kind."""
KEPT: Mapping[str, tuple[str, str]] = {"flatness": ("points", "near"), "coplanarity": ("of", "levels")}
"""Parameter that keeps the earlier method, by kind."""


def _to_7(content: Content) -> Content:
    """Every value answers for all of its zone; rows that measure otherwise now say so."""
    steps: dict[str, Content] = {step["id"]: dict(step) for step in content.get("steps", ())}
    for step in steps.values():
        name, value = KEPT.get(step.get("kind", ""), ("", ""))
        if name:
            step["params"] = {name: value, **step.get("params", {})}
    rows = [dict(row) for row in content.get("sheet", ())]
    for row in rows:
        found = [NOTES[kind] for kind in _kinds(row.get("step"), steps) if kind in NOTES]
        found += _unit_note(row, steps)
        if found:
            row["note"] = " ".join(dict.fromkeys(found))[:400]
    return {**content, "steps": list(steps.values()), "sheet": rows, "schema": 7}


def _kinds(step_id: Any, steps: Mapping[str, Content]) -> list[str]:
    """Kinds of a step and of what it is made of, as far as they measure differently with their parameters."""
    found, waiting, seen = [], [step_id], set()
    while waiting:
        step = steps.get(waiting.pop())
        if step is None or step["id"] in seen:
            continue
        seen.add(step["id"])
        take = step.get("params", {}).get("take")
        plain = (step["kind"] == "spot" and take not in ("highest", "lowest")) or (
            step["kind"] == "width" and take not in ("least", "greatest")
        )
        if not plain:
            found.append(step["kind"])
        waiting += [i for ids in step.get("inputs", {}).values() for i in ids]
    return found


def _unit_note(row: Content, steps: Mapping[str, Content]) -> list[str]:
    step, unit = steps.get(row.get("step") or ""), row.get("unit", "")
    if step is None or not unit:
        return []
    try:
        own = kind_named(step["kind"]).unit
    except PlanError:
        return []
    factor = conversion(own, unit)
    if factor == 1.0:
        return []
    if factor is None:
        return [f"Its limits are in {unit}, which its step does not measure; bind it to another one."]
    return [f"Its values are converted to {unit}, the unit of its limits."]


def _numbered(version: int) -> Callable[[Content], Content]:
    """A version that only added what earlier files do without."""
    return lambda content: {**content, "schema": version}


MIGRATIONS: dict[int, Callable[[Content], Content]] = {
    **{version: _numbered(version + 1) for version in range(1, 6)},
    6: _to_7,
    7: _numbered(8),
    8: _numbered(9),
    9: _numbered(10),
    10: _numbered(11),
}
"""Migration to the next schema version, by version."""
