"""The command `hemtra gauge`: a gauge study of all characteristics of a plan."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
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
from hemtra.core.gauge.study import RULES, Asked, StudiedRow, Study, StudyRule, studied
from hemtra.core.plan.balloon import Balloon
from hemtra.core.text import percent


class MethodName(StrEnum):
    """Ways to evaluate a study."""

    ANOVA = "anova"
    RANGES = "ranges"


class RuleName(StrEnum):
    """Rules that a gauge is graded by."""

    AIAG = "aiag"
    ISO = "iso22514"


MOST_SIGNALS = 3
"""Occasions of a row that are named."""


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
        list[str] | None,
        typer.Option(
            metavar="[PART:]B=SIZE",
            help="Known size of a part, by balloon; of three parts or more also linearity.",
        ),
    ] = None,
    over_time: Annotated[
        bool,
        typer.Option("--stability", help="One part over time: operators are occasions, in their order."),
    ] = False,
    rule: Annotated[RuleName, typer.Option(help="Whose limits grade the gauge.")] = RuleName.AIAG,
    good: Annotated[
        float | None, typer.Option(help="Percent of the tolerance up to which it is good.", min=0.1, max=100.0)
    ] = None,
    usable: Annotated[
        float | None, typer.Option(help="Percent up to which it may be used.", min=0.1, max=100.0)
    ] = None,
    demo: Annotated[
        bool, typer.Option("--demo", help="Made-up covers in three poses in place of a list.")
    ] = False,
    parts: Annotated[int, typer.Option(help="Covers of the demo.", min=1, max=100)] = 10,
    trials: Annotated[int, typer.Option(help="Times each is presented in each pose.", min=1, max=50)] = 3,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
    jobs: Annotated[int, typer.Option(help="Scans at a time.", min=1, max=256)] = 1,
) -> None:
    """Study the gauge: repeatability and reproducibility, linearity, or the bias or stability of one part.

    Exit code 1 if a row is not capable or not stable.
    """
    from hemtra.runtime.gauge import presented, unread
    from hemtra.storage.plans import load_plan
    from hemtra.storage.study_lists import read_study_list

    document = load_plan(plan)
    if (study is None) is not demo:
        raise HemtraError("Name the list of the study, or take --demo, not both.")
    known, chosen = dict(map(_reference, reference or ())), _rule(rule, good, usable)
    wrong = [balloon for _, balloon in known if document.characteristic(balloon) is None]
    if wrong:
        raise HemtraError(f"The plan has no row {wrong[0]}, for which a reference was given.")
    with progress_reporter("gauge") as progress:
        if study is None:
            from hemtra.virtual.gauge_demo import made_up  # loads the virtual sensor, which lists do without

            found = made_up(document, parts, trials, progress)
        else:
            found = presented(document, read_study_list(study), progress, jobs)
    for words in unread(found):
        complain(words)
    way: Method = "ranges" if method is MethodName.RANGES else "anova"
    strangers = {part for part, _ in known if part} - {one.part for one in found}
    if strangers:
        raise HemtraError(f"The study has no part {min(strangers)}, for which a reference was given.")
    result = studied(document, found, Asked(way, known, chosen, over_time))
    if as_json:
        print(json.dumps(to_dict(result), ensure_ascii=False))
    else:
        _print(result, way, rule)
    if any(row.is_poor for row in result.rows):
        raise typer.Exit(1)


def _rule(name: RuleName, good: float | None, usable: float | None) -> StudyRule:
    """A rule with other limits, where some are given. Raises `HemtraError` when they contradict each other."""
    rule = RULES[name.value]
    rule = replace(rule, good=good or rule.good, usable=usable or rule.usable)
    if rule.good > rule.usable:
        raise HemtraError(
            f"A gauge that is good up to {rule.good:g} % cannot be usable up to {rule.usable:g} % only."
        )
    return rule


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
        if row.line is not None:
            held["linearity"] = asdict(row.line)
        if row.chart is not None:
            chart = asdict(row.chart)
            held["stability"] = chart | {name: chart[name].tolist() for name in ("means", "ranges")}
        rows.append(held)
    return {
        "parts": study.parts,
        "operators": study.operators,
        "trials": study.trials,
        "verdicts": None if study.verdicts is None else asdict(study.verdicts),
        "tags": None if study.tags is None else asdict(study.tags),
        "rows": rows,
    }


def _reference(text: str) -> tuple[tuple[str, Balloon], float]:
    """A known size as written on the command line: BALLOON=SIZE, or PART:BALLOON=SIZE."""
    named, _, size = text.rpartition("=")
    part, _, balloon = named.rpartition(":")
    try:
        return (part, Balloon.parse(balloon)), float(size)
    except ValueError:
        raise HemtraError(f"“{text}” is no reference; write it as 6=8.012, or as P1:6=8.012.") from None


def _print(study: Study, method: Method, rule: RuleName) -> None:
    way = {"anova": "analysis of variance", "ranges": "average and range"}[method]
    charted = any(row.chart is not None for row in study.rows)
    spreads = any(row.spread is not None for row in study.rows)
    where = "occasions" if charted else "operators or poses"
    asked = f"{study.parts} parts, {study.operators} {where}, {study.trials} trials"
    one = "one part over time" if charted else "one part against its reference"
    out.print(f"{asked}; {way if study.parts > 1 else one}; rule: {rule.value}")
    heads: tuple[str, ...] = ("readings", "bias", "s", "Cg", "Cgk")
    if spreads:
        heads = "EV", "AV", "GRR", "PV", "ndc"
    elif charted:
        heads = "centre", "low", "high", "range", "limit"
    table = Table("", "characteristic", "unit", *heads, "% of tolerance", "", box=None, header_style="bold")
    for row in study.rows:
        share = "" if row.share is None else f"{row.share:.1f}"
        words = row.reason or row.grade
        if row.chart is not None and not row.chart.is_stable:
            said = (f"occasion {one.occasion + 1} {one.why}" for one in row.chart.signals[:MOST_SIGNALS])
            words += f": {', '.join(said)}"
        table.add_row(str(row.balloon), row.name, row.unit, *_cells(row), share, words)
    out.print(table)
    for row in study.rows:
        if row.line is not None:
            line = row.line
            so = "no more than chance" if line.holds else "more than chance"
            out.print(
                f"{row.balloon} {row.name}: bias {line.intercept:+.4f} {line.slope:+.4f} × size"
                f" (R² {percent(line.explained)}), {so}."
            )
    for title, found in (
        ("Verdicts of one part agree", study.verdicts),
        ("Verdicts agree with the tags", study.tags),
    ):
        if found is not None:
            out.print(f"{title} {_agreeing(found)}.")


def _cells(row: StudiedRow) -> tuple[str, ...]:
    if row.spread is not None:
        found = row.spread
        shown: tuple[Component, ...] = (found.repeatability, found.reproducibility, found.gauge, found.parts)
        return (*(f"{one.deviation:.4f}" for one in shown), str(min(found.categories, 999)))
    if row.chart is not None:
        chart = row.chart
        shown_numbers = chart.centre, chart.low, chart.high, chart.usual_range, chart.most_range
        return tuple(f"{number:.4f}" for number in shown_numbers)
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
