"""Commands.

Exit codes: 0 all pass, 1 any fail or not measured, 2 error, 70 a fault of the program, 130 interrupted.
"""

from __future__ import annotations

import os
import sys
import traceback
from collections.abc import Sequence
from enum import StrEnum
from importlib import metadata
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer

from hemtra.commands.budget import budget
from hemtra.commands.compiling import warm_up
from hemtra.commands.convert import convert
from hemtra.commands.gauge import gauge
from hemtra.commands.inspect import inspect
from hemtra.commands.options import LengthName, LengthOption, OnCluster
from hemtra.commands.plan_app import PlanPath, plan_app
from hemtra.commands.records_app import records_app
from hemtra.commands.shake import shake
from hemtra.commands.terminal import (
    alone_on_stdout,
    complain,
    complain_as_json,
    destination,
    err,
    note,
    out,
    progress_reporter,
    settings,
)
from hemtra.core.errors import HemtraError
from hemtra.core.text import percent, plain
from hemtra.core.units import UNITS

app = typer.Typer(
    add_completion=True,
    no_args_is_help=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Measure and inspect laser-profile scans. Without a command: the desktop.",
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.add_typer(plan_app, name="plan")
app.add_typer(records_app, name="records")
app.command()(gauge)
app.command()(shake)
app.command("warm-up")(warm_up)

WRONG, FAILED, INTERRUPTED = 2, 70, 130
"""Exit codes of an error, of a fault of the program, as sysexits.h has it, and of Ctrl+C; none is a verdict."""

USAGE: type[Exception] = next(base for base in typer.BadParameter.__mro__ if base.__name__ == "ClickException")
"""Usage errors: click's class, or the copy of it inside Typer."""


class LogLevel(StrEnum):
    """From which level on something is logged."""

    debug = "debug"
    info = "info"
    warning = "warning"
    error = "error"


def main() -> None:
    """Run the command line; expected errors become one sentence and exit code 2, all others one and 70.

    With --json the sentence also stands in an object on standard output.
    """
    try:
        sys.exit(app(standalone_mode=False) or 0)
    except HemtraError as error:
        _end(str(error), WRONG)
    except USAGE as error:
        usage: Any = error
        usage.show()
        if "--json" in sys.argv:
            complain_as_json(usage.format_message(), usage.exit_code)
        sys.exit(usage.exit_code)
    except (typer.Abort, KeyboardInterrupt):
        _end("Interrupted.", INTERRUPTED)
    except BrokenPipeError:  # the reader of a pipe has seen enough
        sys.stderr.close()
        sys.exit(WRONG)
    except Exception as error:
        what = f"{type(error).__name__}: {plain(str(error))}"
        _end(f"This should not have happened ({what}). {_kept_trace()}", FAILED)


def _end(message: str, code: int) -> NoReturn:
    complain(message)
    if "--json" in sys.argv:
        complain_as_json(message, code)
    sys.exit(code)


@app.callback(invoke_without_command=True)
def desktop(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
    quiet: Annotated[
        bool, typer.Option("--quiet", "-q", help="Only results and errors: no progress, no notes.")
    ] = False,
    verbose: Annotated[
        bool, typer.Option("--verbose", "-v", help="Every step of the progress, and the log on stderr.")
    ] = False,
    log_level: Annotated[
        LogLevel | None, typer.Option(help="Also log to a file, from this level on.", show_default=False)
    ] = None,
    log_file: Annotated[
        Path | None, typer.Option(metavar="F", help="The log file; begun anew when it has 5 MB.")
    ] = None,
    log_json: Annotated[bool, typer.Option("--log-json", help="Log a JSON object a line.")] = False,
) -> None:
    """Without a command: the desktop."""
    if quiet and verbose:
        raise HemtraError("Take --quiet or --verbose, not both.")
    settings.update(quiet=quiet, verbose=verbose)
    if verbose or log_level or log_file or log_json:
        from hemtra.runtime.logs import begin_logging

        level = log_level.value if log_level else "debug" if verbose else "info"
        begin_logging(level, log_file, as_json=log_json, console=verbose)
    if version:
        print(f"hemtra {metadata.version('hemtra')}")
        raise typer.Exit
    if context.invoked_subcommand is None:
        if not _has_display():
            raise HemtraError("No display available. See “hemtra --help” for commands.")
        _open_desktop()


@app.command()
def demo(
    write: Annotated[Path | None, typer.Option(metavar="DIR", help="Only write the demo files there.")] = None,
) -> None:
    """The desktop with demo station, plan and tray; without a display the whole example, printed."""
    from hemtra.runtime import demo as example  # loads the virtual sensor, which other commands do without

    folder = write or example.demo_folder()
    if write or not example.is_complete(folder):
        if not settings["quiet"]:
            print(f"Scanning the simulated parts of the demo into {folder} …", file=sys.stderr)
        with progress_reporter("demo") as progress:
            example.write_demo(folder, progress)
    if write:
        note(f"The demo files are in {folder}.")
    elif _has_display():
        _open_desktop(folder)
    else:
        from hemtra.commands.demo import print_example

        raise typer.Exit(1 if print_example(folder, out, err) else 0)


@app.command("open")
def open_files(
    files: Annotated[
        list[Path] | None,
        typer.Argument(help="A plan, a station, scans, or a folder of them."),
    ] = None,
) -> None:
    """The desktop with files opened."""
    if not _has_display():
        raise HemtraError("No display available. See “hemtra --help” for commands.")
    gone = [path for path in files or () if not path.exists()]
    if gone:
        raise HemtraError(f"There is no {plain(str(gone[0]))}. Check the name.")
    _open_desktop(files=files or ())


@app.command(hidden=True)
def thumbnail(
    source: Annotated[Path, typer.Argument(help="A scan or a plan.", show_default=False)],
    target: Annotated[Path, typer.Argument(help="The PNG to write.", show_default=False)],
    size: Annotated[int, typer.Option(help="Pixels of the longer side.", min=8, max=2048)] = 256,
) -> None:
    """Write a small picture of a scan, for file managers."""
    from hemtra.commands.thumbnail import save_thumbnail

    save_thumbnail(source, target, size)


@app.command()
def scan(
    station: Annotated[Path, typer.Argument(help="A .hstation file.", show_default=False)],
    output: Annotated[Path, typer.Option("--output", "-o", help="The scan file to write.", show_default=False)],
    part: Annotated[str, typer.Option(help="The simulated part.")] = "rain-pump-cover",
    defect: Annotated[list[str] | None, typer.Option(help="NAME or NAME=SIZE; may be repeated.")] = None,
    seed: Annotated[int, typer.Option(help="Decides variation and noise.", min=0, max=2**32)] = 1,
) -> None:
    """Scan a virtual part."""
    from hemtra.storage.scans import save_scan
    from hemtra.storage.stations import load_station
    from hemtra.virtual.parts import part_named
    from hemtra.virtual.sensor import scan_part

    made = scan_part(part_named(part, seed, defect or []), load_station(station), seed, name=output.name)
    save_scan(made, output)
    rows, cols = made.data.shape
    note(f"{output}: {rows} profiles of {cols} points, {percent(made.data.data_share, 1)} with data.")


app.command()(inspect)
app.command()(budget)
app.command()(convert)


@app.command()
def run(
    plan: PlanPath,
    station: Annotated[
        Path | None, typer.Option(help="A .hstation file: its simulated line, I/O module and scans to keep.")
    ] = None,
    watch: Annotated[Path | None, typer.Option(metavar="DIR", help="Inspect scans that arrive.")] = None,
    replay: Annotated[Path | None, typer.Option(metavar="DIR", help="Inspect the scans of a folder.")] = None,
    parts: Annotated[int | None, typer.Option(help="Stop after N parts.", min=1)] = None,
    rate: Annotated[float, typer.Option(help="Parts a second of a replay; 0 for as fast as can be.")] = 0.0,
    db: Annotated[
        str | None, typer.Option(metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
    ] = None,
    scans: Annotated[Path | None, typer.Option(metavar="DIR", help="Where scans are kept.")] = None,
    io: Annotated[str | None, typer.Option(metavar="HOST:PORT", help="The I/O module, Modbus TCP.")] = None,
    lot: Annotated[str | None, typer.Option(help="Lot to resume or start.")] = None,
    jobs: Annotated[int, typer.Option(help="Number of worker processes.", min=0, max=64)] = 2,
    belt_clear: Annotated[
        bool, typer.Option("--belt-clear", help="Nothing lies between the eye and a gate.")
    ] = False,
    log_level: Annotated[LogLevel, typer.Option(help="What is logged, from this level on.")] = LogLevel.info,
    log_file: Annotated[
        Path | None, typer.Option(metavar="F", help="The log file; begun anew when it has 5 MB.")
    ] = None,
    log_json: Annotated[bool, typer.Option("--log-json", help="Log a JSON object a line.")] = False,
) -> None:
    """Run a line without a window: inspect, record and signal every part."""
    from hemtra.commands.run import run_line
    from hemtra.runtime.logs import begin_logging
    from hemtra.runtime.run_setup import RunRequest
    from hemtra.storage.plans import load_plan_file
    from hemtra.storage.stations import load_station

    if watch is not None and replay is not None:
        raise HemtraError("Parts come from one place: give --watch or --replay, not both.")
    begin_logging(log_level.value, log_file, as_json=log_json, console=not err.is_terminal)
    held = load_plan_file(plan)
    asked = RunRequest(
        line=watch is None and replay is None,
        watch=watch,
        replay=replay,
        parts=parts,
        rate=rate,
        db=db,
        scans=scans,
        io=_host_and_port(io),
        lot=lot,
        jobs=jobs,
        belt_clear=belt_clear,
    )
    where = None if station is None else load_station(station)
    raise typer.Exit(run_line(held.plan, where, asked, out, err, held.reference))


@app.command()
def export(
    output: Annotated[
        Path,
        typer.Option(
            "--output",
            "-o",
            help="The file to write, whose ending is the format; - prints it.",
            show_default=False,
        ),
    ],
    form: Annotated[
        str | None,
        typer.Option("--format", help="For -: csv, wide.csv, values.csv, json, qif, xlsx, parquet."),
    ] = None,
    db: Annotated[
        str | None, typer.Option(metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
    ] = None,
    lot: Annotated[str | None, typer.Option(help="Only the lot of that name.")] = None,
    csv_style: Annotated[
        str | None, typer.Option(help="Of a CSV: plain, rfc4180, bom or comma; else as in the settings.")
    ] = None,
) -> None:
    """Export records: a table, everything as JSON, or results as QIF 3.0."""
    from hemtra.commands.records import export_records

    piped = alone_on_stdout(output)
    if piped and form is None:
        raise HemtraError("Say in which format with --format, such as csv.")
    with progress_reporter("export") as progress, destination(output) as made:
        path = made.with_name(f"output.{form.lstrip('.')}") if form is not None and piped else made
        export_records(db, lot, path, progress, csv_style)
        if path != made and path.exists():
            path.rename(made)
    if not piped:
        note(f"The parts are in {output}.")


@app.command()
def report(
    output: Annotated[
        Path,
        typer.Option(
            "--output",
            "-o",
            help="The PDF to write; a first article also as .xlsx. Of several lots a folder of PDFs.",
        ),
    ],
    lot: Annotated[
        list[str] | None, typer.Option(help="Lot name (default: newest); repeatable.", show_default=False)
    ] = None,
    since: Annotated[
        str | None, typer.Option(metavar="DAY", help="All lots begun on this day or later, like 2026-01-31.")
    ] = None,
    until: Annotated[
        str | None, typer.Option(metavar="DAY", help="All lots begun on this day or before.")
    ] = None,
    part: Annotated[int | None, typer.Option(help="Only the part of that number.", min=1)] = None,
    first: Annotated[
        bool, typer.Option("--first-article", help="Of a part: every requirement with result, U and verdict.")
    ] = False,
    db: Annotated[
        str | None, typer.Option(metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
    ] = None,
    jobs: Annotated[int, typer.Option(help="Lots at a time.", min=1, max=256)] = 1,
    on: OnCluster = None,
    unit: LengthOption = LengthName.MM,
) -> None:
    """Report a lot, one part of it, or many lots, as PDF."""
    from hemtra.commands.records import Many, ReportRequest, report_many, report_records

    names = lot or []
    with progress_reporter("report") as progress:
        if len(names) > 1 or since or until:
            if part is not None or first:
                raise HemtraError("A part is of one lot; name that alone.")
            wrong = report_many(db, Many(names, since, until, jobs, on), output, progress, UNITS[unit])
            for words in wrong:
                complain(words)
            if wrong:
                raise typer.Exit(2)
            note(f"The reports are in {output}.")
        elif on is not None:
            raise HemtraError("--on is for the reports of several lots; name them with --lot, or their days.")
        else:
            asked = ReportRequest(names[0] if names else None, part, first)
            report_records(db, asked, output, progress, UNITS[unit])
            note(f"The report is in {output}.")


@app.command("merge")
def merge_records(
    other: Annotated[Path, typer.Argument(help="Records of another computer, a file.", show_default=False)],
    db: Annotated[
        str | None, typer.Option(metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
    ] = None,
) -> None:
    """Merge new parts from the records of another computer."""
    from hemtra.commands.records import merge_into

    with progress_reporter("merge") as progress:
        words = merge_into(db, other, progress)
    note(words)


@app.command()
def unlock(
    forgotten: Annotated[bool, typer.Option("--forgotten", help="Lift the lock without its PIN.")] = False,
) -> None:
    """Lift the lock on editing of the line on this computer; for who looks after it."""
    from hemtra.commands.records import lift_lock

    if not forgotten:
        raise HemtraError("With its PIN the lock is opened in the Run workspace; without it, add --forgotten.")
    lift_lock()
    out.print("Editing is unlocked.")


@app.command("io-block", hidden=True)  # as it was called in scripts written before
@app.command("io-module")
def io_module(
    port: Annotated[int, typer.Option(help="Port of Modbus TCP.", min=1, max=65535)] = 5020,
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    parent: Annotated[int | None, typer.Option(help="A process that it ends with.", hidden=True)] = None,
) -> None:
    """A simulated I/O module, until it is stopped."""
    from hemtra.outputs.simulated_module import run_io_module
    from hemtra.runtime.family import end_with

    if parent is not None:
        end_with(parent)
    run_io_module(host, port, lambda p: print(f"I/O module on {host}:{p}.", file=sys.stderr, flush=True))


@app.command("man-pages", hidden=True)
def write_manual_pages(folder: Annotated[Path, typer.Argument(help="Where to write them.")]) -> None:
    """Write the manual pages of all commands, for packages."""
    from hemtra.commands.man_pages import write_man_pages

    note(f"{len(write_man_pages(typer.main.get_command(app), folder))} pages are in {folder}.")


def _host_and_port(text: str | None) -> tuple[str, int] | None:
    if text is None:
        return None
    host, _, port = text.rpartition(":")
    if not host or not port.isdecimal() or not 0 < int(port) < 65536:
        raise HemtraError(f"“{text}” is not HOST:PORT, e.g. 192.168.1.20:502.")
    return host, int(port)


def _kept_trace() -> str:
    """Write the traceback of what is being handled to the log; where it is, in a sentence."""
    from hemtra.runtime.logs import begin_logging, log, usual_log

    try:
        begin_logging(console=False)
        log.exception("failed")
    except HemtraError:
        traceback.print_exc()
        return ""
    return f"Please report it with {usual_log()}."


def _has_display() -> bool:
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def _open_desktop(demo_folder: Path | None = None, files: Sequence[Path] = ()) -> None:
    from hemtra.desktop.shell.app import run  # Qt loads only for those who want to see something

    sys.exit(run(demo_folder, files))
