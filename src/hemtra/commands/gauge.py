"""The command `hemtra gauge`: a gauge study of all characteristics of a plan."""

from __future__ import annotations

import json
from dataclasses import asdict
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table

from hemtra.commands.plan_app import PlanPath
from hemtra.commands.terminal import complain, out, progress_reporter
from hemtra.core.errors import HemtraError
from hemtra.core.gauge.agreement import Agreement
from hemtra.core.gauge.repeatability import Component, Method
from hemtra.core.gauge.study import StudiedRow, Study, studied
from hemtra.core.plan.balloon import Balloon
from hemtra.core.text import percent


class MethodName(StrEnum):
    """Ways to evaluate a study."""

    ANOVA = "anova"
    RANGES = "ranges"


def gauge(
    plan: PlanPath,
    study: Annotated[
        Path | None,
        typer.Argument(
            help="A CSV with the columns scan, part and, if any, operator, trial, tag.", show_default=False
        ),
    ] = None,
    method: Annotated[
        MethodName, typer.Option(help="Analysis of variance, or average and range.")
    ] = MethodName.ANOVA,
    reference: Annotated[
        list[str] | None, typer.Option(metavar="B=SIZE", help="Known size of the one part; may be repeated.")
    ] = None,
    demo: Annotated[
        bool, typer.Option("--demo", help="Made-up covers in three poses in place of a list.")
    ] = False,
    parts: Annotated[int, typer.Option(help="Covers of the demo.", min=1, max=100)] = 10,
    trials: Annotated[int, typer.Option(help="Times each is presented in each pose.", min=1, max=50)] = 3,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
    jobs: Annotated[int, typer.Option(help="Scans at a time.", min=1, max=256)] = 1,
) -> None:
    """Study the gauge: repeatability and reproducibility, or the bias of one part.

    Exit code 1 if a row is not capable.
    """
    from hemtra.runtime.gauge import presented, unread
    from hemtra.storage.plans import load_plan
    from hemtra.storage.study_lists import read_study_list

    document = load_plan(plan)
    if (study is None) is not demo:
        raise HemtraError("Name the list of the study, or take --demo, not both.")
    known = dict(map(_reference, reference or ()))
    wrong = [balloon for balloon in known if document.characteristic(balloon) is None]
    if wrong:
        raise HemtraError(f"The plan has no row {wrong[0]}, for which a reference was given.")
    with progress_reporter("gauge") as tell:
        if study is None:
            from hemtra.virtual.gauge_demo import made_up  # loads the virtual sensor, which lists do without

            found = made_up(document, parts, trials, tell)
        else:
            found = presented(document, read_study_list(study), tell, jobs)
    for words in unread(found):
        complain(words)
    way: Method = "ranges" if method is MethodName.RANGES else "anova"
    result = studied(document, found, way, known)
    if as_json:
        print(json.dumps(to_dict(result), ensure_ascii=False))
    else:
        _print(result, way)
    if any(row.grade == "not capable" for row in result.rows):
        raise typer.Exit(1)


def to_dict(study: Study) -> dict[str, Any]:
    """A study as it is printed for other programs; standard deviations in the unit of each row."""
    rows = []
    for row in study.rows:
        held: dict[str, Any] = {
            "balloon": row.balloon.plain,
            "name": row.name,
            "unit": row.unit,
            "grade": row.grade,
            "share_of_tolerance": row.share,
            "reason": row.reason or None,
        }
        if row.spread is not None:
            spread = asdict(row.spread)
            held["repeatability_and_reproducibility"] = spread | {"categories": row.spread.categories}
        if row.size is not None:
            held["bias"] = asdict(row.size)
        rows.append(held)
    return {
        "parts": study.parts,
        "operators": study.operators,
        "trials": study.trials,
        "verdicts": None if study.verdicts is None else asdict(study.verdicts),
        "tags": None if study.tags is None else asdict(study.tags),
        "rows": rows,
    }


def _reference(text: str) -> tuple[Balloon, float]:
    """A known size as written on the command line: BALLOON=SIZE."""
    balloon, _, size = text.partition("=")
    try:
        return Balloon.parse(balloon), float(size)
    except ValueError:
        raise HemtraError(f"“{text}” is no reference; write it as 6=8.012.") from None


def _print(study: Study, method: Method) -> None:
    way = {"anova": "analysis of variance", "ranges": "average and range"}[method]
    asked = f"{study.parts} parts, {study.operators} operators or poses, {study.trials} trials"
    out.print(f"{asked}; {way if study.parts > 1 else 'one part against its reference'}")
    spreads = any(row.spread is not None for row in study.rows)
    heads = ("EV", "AV", "GRR", "PV", "ndc") if spreads else ("readings", "bias", "s", "Cg", "Cgk")
    table = Table("", "characteristic", "unit", *heads, "% of tolerance", "", box=None, header_style="bold")
    for row in study.rows:
        share = "" if row.share is None else f"{row.share:.1f}"
        table.add_row(str(row.balloon), row.name, row.unit, *_cells(row), share, row.reason or row.grade)
    out.print(table)
    for words, found in (
        ("Verdicts of one part agree", study.verdicts),
        ("Verdicts agree with the tags", study.tags),
    ):
        if found is not None:
            out.print(f"{words} {_agreeing(found)}.")


def _cells(row: StudiedRow) -> tuple[str, ...]:
    if row.spread is not None:
        found = row.spread
        shown: tuple[Component, ...] = (found.repeatability, found.reproducibility, found.gauge, found.parts)
        return (*(f"{one.deviation:.4f}" for one in shown), str(min(found.categories, 999)))
    if row.size is not None:
        size = row.size
        indices = ("" if index is None else f"{index:.2f}" for index in (size.cg, size.cgk))
        bias = f"{size.bias:+.4f}{' *' if size.is_biased else ''}"
        return (str(size.count), bias, f"{size.deviation:.4f}", *indices)
    return ("",) * 5


def _agreeing(found: Agreement) -> str:
    """How often, and beyond chance."""
    kappa = "" if found.kappa is None else f", kappa {found.kappa:.2f}"
    wrong = [
        f"{percent(share, 1)} {what}"
        for share, what in ((found.missed, "of the bad passed"), (found.refused, "of the good were not passed"))
        if share is not None
    ]
    return f"in {percent(found.share, 1)}{kappa}" + (f"; {', '.join(wrong)}" if wrong else "")
