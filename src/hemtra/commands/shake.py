"""The command `hemtra shake`: a plan tried on worse copies of scans."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table

from hemtra.commands.options import OnCluster
from hemtra.commands.plan_app import PlanPath
from hemtra.commands.terminal import out, progress_reporter
from hemtra.core.errors import HemtraError
from hemtra.core.shake.disturbances import DISTURBANCES
from hemtra.core.shake.shaking import COPIES, AtAmount, Finding, cases, findings, in_words, with_unit


def shake(
    plan: PlanPath,
    scans: Annotated[
        list[Path] | None,
        typer.Argument(help="Scans of good parts; without any, the tray of the plan.", show_default=False),
    ] = None,
    only: Annotated[
        list[str] | None, typer.Option(metavar="NAME", help=f"Of {', '.join(DISTURBANCES)}; repeatable.")
    ] = None,
    copies: Annotated[int, typer.Option(help="Copies of each part.", min=1, max=100_000)] = COPIES,
    seed: Annotated[int, typer.Option(help="The same seed makes the same copies.")] = 0,
    jobs: Annotated[int | None, typer.Option(help="Copies at a time; all cores if not given.", min=1)] = None,
    on: OnCluster = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """Try a plan on copies of scans that are turned, tilted, noisier, with dropouts, dirt and more.

    Says what breaks first, and at what amount. Exit code 1 if a part passed that must not.
    """
    from hemtra.runtime.crews import crew_for
    from hemtra.runtime.shake import shaken_tray, stretches
    from hemtra.storage.plans import load_plan
    from hemtra.storage.trays import TrayEntry, load_tray

    unknown = [name for name in only or () if name not in DISTURBANCES]
    if unknown:
        raise HemtraError(f"“{unknown[0]}” is no disturbance; take one of {', '.join(DISTURBANCES)}.")
    document = load_plan(plan)
    entries = [TrayEntry(path, "good") for path in scans or ()] or load_tray(plan)
    if not entries:
        raise HemtraError(f"{plan.name} has no tray; name scans of good parts.")
    tried = cases(copies, only or ())
    with progress_reporter("copies") as progress:
        crew = crew_for(on, jobs or os.cpu_count() or 1, len(stretches(entries, tried)))
        found = shaken_tray(document, entries, tried, crew, seed=seed, progress=progress)
    result = findings(found)
    if as_json:
        print(json.dumps([to_dict(one) for one in result], ensure_ascii=False))
    else:
        _print(result, len(entries), len(found))
    if any(at.passed for one in result for at in one.amounts):
        raise typer.Exit(1)


def to_dict(found: Finding) -> dict[str, Any]:
    """A finding as plain values, ready for JSON."""
    disturbance = DISTURBANCES[found.disturbance]
    return {
        "disturbance": found.disturbance,
        "unit": disturbance.unit,
        "must_fail": disturbance.must_fail,
        "holds_to": found.holds_to,
        "amounts": [_amount(at) for at in found.amounts],
    }


def _amount(at: AtAmount) -> dict[str, Any]:
    first = at.first
    return {
        "amount": at.case.amount,
        "copies": at.copies,
        "refused": at.refused,
        "not_measured": at.unmeasured,
        "passed": at.passed,
        "parts": list(at.parts),
        "first": None
        if first is None
        else {
            "balloon": str(first.balloon),
            "name": first.name,
            "verdict": str(first.verdict),
            "reason": first.reason,
            "mend": first.mend,
        },
    }


def _print(found: list[Finding], parts: int, copies: int) -> None:
    table = Table("", "holds to", "breaks at", "what breaks", box=None, header_style="bold")
    for one in found:
        disturbance = DISTURBANCES[one.disturbance]
        held, broken = one.holds_to, one.breaks_at
        if disturbance.must_fail:
            words = "is refused, as it must be" if broken is None else f"passes on {', '.join(broken.parts)}"
            table.add_row(disturbance.title, "", "", words)
            continue
        table.add_row(
            disturbance.title,
            "–" if held is None else with_unit(held, disturbance),
            "" if broken is None else with_unit(broken.case.amount, disturbance),
            "" if broken is None else in_words(broken),
        )
    out.print(table)
    anew = sum(at.copies for one in found if one.disturbance == "simulated" for at in one.amounts)
    of_these = f", {anew} of them simulated anew" if anew else ""
    out.print(f"{copies} copies of {parts} {'part' if parts == 1 else 'parts'}{of_these}")
