"""The command `hemtra gauge`: a gauge study of all characteristics of a plan."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, replace
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.table import Table

from hemtra.commands.options import OnCluster
from hemtra.commands.plan_app import PlanPath
from hemtra.commands.terminal import complain, out, progress_reporter
from hemtra.core.errors import HemtraError
from hemtra.core.gauge.agreement import Agreement
from hemtra.core.gauge.marks import with_marks
from hemtra.core.gauge.repeatability import Component, Method
from hemtra.core.gauge.study import RULES, Asked, Presented, StudiedRow, Study, StudyRule, studied
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
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


StudyList = Annotated[
    Path | None,
    typer.Argument(
        help="A CSV with the columns scan, part and, if any, operator, trial, tag; or a folder with a"
        " folder of scans for each operator, named PART-TRIAL.",
        show_default=False,
    ),
]
OfLots = Annotated[
    list[str] | None,
    typer.Option(
        metavar="[OPERATOR=]LOT",
        help="From the records in place of a list: a lot for each operator, parts by their serials.",
    ),
]
KnownSizes = Annotated[
    list[str] | None,
    typer.Option(
        metavar="[PART:]B=SIZE",
        help="Known size of a part, by balloon; of three parts or more also linearity.",
    ),
]
GoodTo = Annotated[
    float | None, typer.Option(help="Percent of the tolerance up to which it is good.", min=0.1, max=100.0)
]
UsableTo = Annotated[float | None, typer.Option(help="Percent up to which it may be used.", min=0.1, max=100.0)]
OverTime = Annotated[
    bool, typer.Option("--stability", help="One part over time: operators are occasions, in their order.")
]


def gauge(
    plan: PlanPath,
    study: StudyList = None,
    lot: OfLots = None,
    method: Annotated[
        MethodName, typer.Option(help="Analysis of variance, or average and range.")
    ] = MethodName.ANOVA,
    reference: KnownSizes = None,
    over_time: OverTime = False,
    rule: Annotated[RuleName, typer.Option(help="Whose limits grade the gauge.")] = RuleName.AIAG,
    good: GoodTo = None,
    usable: UsableTo = None,
    demo: Annotated[
        bool, typer.Option("--demo", help="Simulated covers in three poses in place of a list.")
    ] = False,
    parts: Annotated[int, typer.Option(help="Covers of the demo.", min=1, max=100)] = 10,
    trials: Annotated[int, typer.Option(help="Times each is presented in each pose.", min=1, max=50)] = 3,
    save: Annotated[bool, typer.Option("--save", help="Keep the grade of each row in the plan.")] = False,
    output: Annotated[Path | None, typer.Option(help="Write a report, as .pdf.", show_default=False)] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
    jobs: Annotated[int, typer.Option(help="Scans at a time.", min=1, max=256)] = 1,
    on: OnCluster = None,
    db: Annotated[str | None, typer.Option(help="Where the records are.", show_default=False)] = None,
) -> None:
    """Study the gauge: repeatability and reproducibility, linearity, or the bias or stability of one part.

    Exit code 1 if a row is not capable or not stable.
    """
    from hemtra.storage.plans import load_plan_file, save_plan

    held = load_plan_file(plan)
    document = held.plan
    if sum((study is not None, bool(lot), demo)) != 1:
        raise HemtraError("Name the list or folder of the study, its lots, or take --demo; one of them.")
    known, chosen = dict(map(_reference, reference or ())), _rule(rule, good, usable)
    wrong = [balloon for _, balloon in known if document.characteristic(balloon) is None]
    if wrong:
        raise HemtraError(f"The plan has no row {wrong[0]}, for which a reference was given.")
    with progress_reporter("gauge") as progress:
        if study is not None:
            found = _on_list(document, study, progress, jobs, on)
        else:
            found = _on_lots(document, lot, db, progress) if lot else _demo(document, parts, trials, progress)
    way: Method = "ranges" if method is MethodName.RANGES else "anova"
    strangers = {part for part, _ in known if part} - {one.part for one in found}
    if strangers:
        raise HemtraError(f"The study has no part {min(strangers)}, for which a reference was given.")
    result = studied(document, found, Asked(way, known, chosen, over_time))
    today = datetime.now().date()
    if save:
        marked = with_marks(document, result, rule.value, today)
        save_plan(marked, plan, held.reference, comment="gauge studied")
    if output is not None:
        from hemtra.storage.reports.gauge_report import save_gauge_report

        save_gauge_report(document.name, result, rule.value, today, output)
    if as_json:
        print(json.dumps(to_dict(result), ensure_ascii=False))
    else:
        _print(result, way, rule)
    if any(row.is_poor for row in result.rows):
        raise typer.Exit(1)


def _on_list(plan: Plan, study: Path, progress: Progress, jobs: int, on: str | None) -> list[Presented]:
    """The scans of a list; those that cannot be read are named on stderr."""
    from hemtra.runtime.crews import crew_for
    from hemtra.runtime.gauge import presented, unread
    from hemtra.storage.study_lists import study_of

    entries = study_of(study)
    found = presented(plan, entries, progress, crew_for(on, jobs, len(entries)))
    for words in unread(found):
        complain(words)
    return found


def _on_lots(plan: Plan, named: Sequence[str], db: str | None, progress: Progress) -> list[Presented]:
    """The parts of lots, each of which is an operator's: its own name, unless another was given."""
    from hemtra.commands.records import opened_records, wanted_lot  # loads databases and reports
    from hemtra.runtime.gauge import presented_on_record

    pairs = [(operator or name, name) for operator, _, name in (text.rpartition("=") for text in named)]
    if len({operator for operator, _ in pairs}) < len(pairs):
        raise HemtraError("One operator has two lots; name each once.")
    with opened_records(db) as records:
        lots = {operator: wanted_lot(records, name) for operator, name in pairs}
        return presented_on_record(plan, records, lots, progress)


def _demo(plan: Plan, parts: int, trials: int, progress: Progress) -> list[Presented]:
    from hemtra.virtual.gauge_demo import made_up  # loads the virtual sensor, which other studies do without

    return made_up(plan, parts, trials, progress)


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
    """Agreement as a percentage, and corrected for chance."""
    kappa = "" if found.kappa is None else f", kappa {found.kappa:.2f}"
    wrong = [
        f"{percent(share, 1)} {what}"
        for share, what in ((found.missed, "of the bad passed"), (found.refused, "of the good were not passed"))
        if share is not None
    ]
    return f"in {percent(found.share, 1)}{kappa}" + (f"; {', '.join(wrong)}" if wrong else "")
