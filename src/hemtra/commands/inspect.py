"""`hemtra inspect`: measure scans of parts, and print, save and report the result."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table
from rich.text import Text

from hemtra.commands.compiling import say_when_cold
from hemtra.commands.options import LengthName, LengthOption, OnCluster
from hemtra.commands.plan_app import PlanPath
from hemtra.commands.symbols import signed
from hemtra.commands.terminal import alone_on_stdout, complain, destination, out, progress_reporter
from hemtra.core.evaluation.results import Result
from hemtra.core.plan.limits import Verdict, format_limits, format_value
from hemtra.core.plan.shown_units import in_unit
from hemtra.core.text import plain
from hemtra.core.units import UNITS, LengthUnit
from hemtra.runtime.batch import inspect_files
from hemtra.runtime.crews import crew_for
from hemtra.storage.remote import shown_address


def inspect(
    plan: PlanPath,
    scans: Annotated[
        list[str],
        typer.Argument(
            help="Scan files, folders of scans, patterns like 'tray/*.x3p', or addresses like s3://lot/part.x3p.",
            show_default=False,
        ),
    ],
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object per part.")] = False,
    csv: Annotated[
        Path | None, typer.Option(metavar="F", help="Also save all values as CSV; - prints only these.")
    ] = None,
    series: Annotated[
        Path | None, typer.Option(metavar="F", help="Also save the values of each profile or instance as CSV.")
    ] = None,
    sections: Annotated[
        Path | None, typer.Option(metavar="F", help="Also save every section along paths as CSV.")
    ] = None,
    report: Annotated[Path | None, typer.Option(metavar="F.pdf", help="Also save a report as PDF.")] = None,
    jobs: Annotated[int, typer.Option(help="Parts at a time.", min=1, max=256)] = 1,
    on: OnCluster = None,
    unit: LengthOption = LengthName.MM,
) -> None:
    """Inspect scans of parts: measure them, and give each a verdict."""
    from hemtra.storage.plans import load_plan
    from hemtra.storage.results import save_csv, save_sections, save_series, to_dict
    from hemtra.storage.scans import scans_named

    piped = alone_on_stdout(csv, series, sections, as_json=as_json)
    document, paths = load_plan(plan), scans_named(scans)
    say_when_cold()
    found: list[tuple[str, Result]] = []
    kept, passes = bool(csv or series or sections), True
    whole = as_json or bool(series or sections)
    unread = faulty = 0
    with progress_reporter("inspect", hidden=len(paths) == 1) as progress:
        crew = crew_for(on, jobs, len(paths))
        for done, item in enumerate(inspect_files(document, paths, crew, covered=as_json, whole=whole), 1):
            progress(done, len(paths), _words(item.name, crew.size if on else 0, unread))
            if item.result is None:
                unread += 1
                complain(item.error)
                if as_json:
                    one = {"scan": shown_address(item.path), "error": item.error}
                    print(json.dumps(one, ensure_ascii=False), flush=True)
                continue
            passes = passes and item.result.verdict is Verdict.PASS
            if kept:  # of a million parts not all can be
                found.append((shown_address(item.path), item.result))
            for fault in item.result.faults:
                faulty += 1
                complain(f"{item.name}: {fault}")
            if as_json:
                print(
                    json.dumps(to_dict(shown_address(item.path), item.result), ensure_ascii=False), flush=True
                )
            elif not piped:
                _print_result(item.name, item.result, UNITS[unit])
    for path, save in ((csv, save_csv), (series, save_series), (sections, save_sections)):
        if path:
            with destination(path) as made:
                save(made, found)
    if report:
        from hemtra.runtime.reporting import report_files

        report_files(report, document, paths, UNITS[unit])
    if unread or faulty:
        raise typer.Exit(2)
    raise typer.Exit(0 if passes else 1)


def _words(name: str, workers: int, unread: int) -> str:
    """What progress says of the last part."""
    more = [f"{workers} workers"] if workers else []
    more += [f"{unread} could not be read"] if unread else []
    return f"{name} ({', '.join(more)})" if more else name


def _print_result(name: str, result: Result, unit: LengthUnit) -> None:
    table = Table(
        "",
        "characteristic",
        "value",
        "limits",
        "verdict",
        box=None,
        header_style="bold",
        title_justify="left",
    )
    table.columns[2].justify = "right"
    for c in (in_unit(one, unit) for one in result.characteristics):
        verdict = signed(c.verdict).append(f" {c.reason}", style="default")
        limits = format_limits(c.lower, c.upper, c.decimals)
        table.add_row(str(c.balloon), c.name, format_value(c), limits, verdict)
    text = Text(f"{plain(name)}: ").append_text(signed(result.verdict))
    out.print(text.append(f" in {result.elapsed_ms:.1f} ms"))
    out.print(table)
