"""The commands `hemtra records …`: looking after records."""

from __future__ import annotations

import json
import os
import sys
from dataclasses import asdict
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table

from hemtra.commands.options import OnCluster
from hemtra.commands.plan_app import PlanPath
from hemtra.commands.terminal import out, progress_reporter
from hemtra.core.text import percent

records_app = typer.Typer(no_args_is_help=True, help="Check, copy, restore, rescue, archive, pack records.")
RecordsUrl = Annotated[
    str | None, typer.Option("--db", metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
]


@records_app.command("check")
def records_check(db: RecordsUrl = None) -> None:
    """Look for damage, and for parts that are gone. Exit code 1 where there is any."""
    from hemtra.commands.records import check_records

    found = check_records(db)
    for words in found:
        out.print(words, soft_wrap=True)
    if found:
        raise typer.Exit(1)
    out.print("The records are sound.")


@records_app.command("backup")
def records_backup(
    folder: Annotated[Path | None, typer.Argument(metavar="DIR", show_default=False)] = None,
    db: RecordsUrl = None,
    keep: Annotated[int | None, typer.Option(help="Keep so many of the newest.", min=1)] = None,
) -> None:
    """Copy the records into a folder, even while a line writes them. By default “backups” beside them."""
    from hemtra.commands.records import backup_records

    out.print(f"The records are in {backup_records(db, folder, keep)} too.", soft_wrap=True)


@records_app.command("restore")
def records_restore(
    copy: Annotated[Path, typer.Argument(help="A copy of the records.", show_default=False)],
    db: RecordsUrl = None,
) -> None:
    """Replace the records by a checked copy; the old ones are kept."""
    from hemtra.commands.records import restore_records

    out.print(restore_records(db, copy), soft_wrap=True)


@records_app.command("rescue")
def records_rescue(
    output: Annotated[Path, typer.Option("--output", "-o", help="The file to write.", show_default=False)],
    db: RecordsUrl = None,
) -> None:
    """Save what can be read of damaged records into a new file, and name what cannot."""
    from hemtra.commands.records import rescue_records

    with progress_reporter("rescue") as progress:
        words = rescue_records(db, output, progress)
    out.print(words, soft_wrap=True)


@records_app.command("archive")
def records_archive(
    before: Annotated[str, typer.Option(help="Lots that ended before this day, like 2026-03-31.")],
    output: Annotated[Path, typer.Option("--output", "-o", help="The file to write.", show_default=False)],
    db: RecordsUrl = None,
) -> None:
    """Move old lots to a file of their own."""
    from hemtra.commands.records import archive_records

    with progress_reporter("archive") as progress:
        words = archive_records(db, before, output, progress)
    out.print(words, soft_wrap=True)


@records_app.command("pack")
def records_pack(db: RecordsUrl = None) -> None:
    """Pack the values of ended lots, so that trends over millions of parts are read at once.

    A line does so when it stops, for the lots that ended in its run; this is for all others.
    """
    from hemtra.commands.records import pack_records

    with progress_reporter("pack") as progress:
        words = pack_records(db, progress)
    out.print(words)


@records_app.command("reevaluate")
def records_reevaluate(
    plan: PlanPath,
    lot: Annotated[
        list[str] | None, typer.Option(help="Only lots of that name; repeatable.", show_default=False)
    ] = None,
    since: Annotated[
        str | None, typer.Option(metavar="DAY", help="Only lots begun on this day or later, like 2026-01-31.")
    ] = None,
    until: Annotated[
        str | None, typer.Option(metavar="DAY", help="Only lots begun on this day or before.")
    ] = None,
    db: RecordsUrl = None,
    scans: Annotated[
        str,
        typer.Option(
            metavar="PLACE",
            help="Folder or address that the scans of the lot have been moved to.",
            show_default=False,
        ),
    ] = "",
    jobs: Annotated[int, typer.Option(help="Scans at a time.", min=1, max=256)] = 2,
    on: OnCluster = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object per lot.")] = False,
) -> None:
    """Evaluate recorded lots by another plan: from values where that is enough, else from scans.

    Nothing on record changes; the result is kept beside it. One that was stopped continues where it was. Exit
    code 1 where a part's verdict changes.
    """
    from hemtra.commands.records import opened_records, wanted_lots
    from hemtra.core.errors import HemtraError
    from hemtra.runtime.crews import crew_for
    from hemtra.runtime.lot_reevaluation import reevaluate
    from hemtra.runtime.reevaluation import ONE_LOT
    from hemtra.storage.plans import load_plan
    from hemtra.storage.revisions import author

    document, flips = load_plan(plan), 0
    with opened_records(db) as records, progress_reporter("re-evaluate") as progress:
        wanted = wanted_lots(records, lot or (), since, until)
        if scans and len(wanted) > 1:
            raise HemtraError(ONE_LOT)
        for one in wanted:
            found = reevaluate(records, one, document, progress, partial(crew_for, on, jobs), author(), scans)
            if found is None:
                continue
            flips += found.flips
            if as_json:
                print(json.dumps(found.as_json(), ensure_ascii=False), flush=True)
                continue
            out.print(f"{one.name}: {found.words}", soft_wrap=True)
            for row, count in found.flips_by_row().items():
                out.print(f"  {row}: {count}", soft_wrap=True)
    if flips:
        raise typer.Exit(1)


@records_app.command("reevaluations")
def records_reevaluations(
    db: RecordsUrl = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object per re-evaluation.")] = False,
) -> None:
    """List re-evaluations: when, by whom, of which lot, by which plan, and what came of them."""
    from hemtra.commands.records import opened_records
    from hemtra.storage.records.reevaluations import kept

    with opened_records(db) as records:
        found = kept(records)
    if as_json:
        for one in found:
            print(json.dumps(asdict(one), ensure_ascii=False))
        return
    table = Table("when", "by", "lot", "plan", "changes", "flips", box=None)
    for one in found:
        when = datetime.fromtimestamp(one.began).astimezone().strftime("%Y-%m-%d %H:%M")
        result = one.result
        numbers = ("stopped", "") if result is None else (str(len(result["changes"])), str(result["flips"]))
        table.add_row(when, one.author, one.lot, one.plan, *numbers)
    out.print(table)


@records_app.command("work", hidden=True)
def records_work(folder: Path, lock: Annotated[int, typer.Option()]) -> None:
    """Do what a window ordered; the address of the records comes on standard input, never to be seen."""
    from hemtra.runtime.reevaluation_jobs import work

    os.set_inheritable(lock, False)  # held open, it says that this process is there
    work(folder, sys.stdin.read())


@records_app.command("lines")
def records_lines(
    db: RecordsUrl = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object per line.")] = False,
) -> None:
    """Show what each line that writes into the records does. Exit code 1 where one is lost."""
    from hemtra.commands.records import opened_records
    from hemtra.storage.records.lines import all_lines

    with opened_records(db) as records:
        found = all_lines(records)
    if as_json:
        for line in found:
            print(json.dumps({**asdict(line), "state": line.shown}, ensure_ascii=False))
    else:
        table = Table(
            "line", "computer", "state", "plan", "lot", "parts", "pass", "latency", "waiting", box=None
        )
        for line in found:
            share = "–" if line.share is None else percent(line.share, 1)
            numbers = str(line.parts), share, f"{1000 * line.latency:.0f} ms", str(line.waiting)
            table.add_row(line.name, line.host, line.shown, line.plan, line.lot, *numbers)
        out.print(table)
    if any(line.shown == "lost" for line in found):
        raise typer.Exit(1)
