"""The commands `hemtra plan …`: show, check, revisions, and what differs between two plans."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table
from rich.text import Text

from hemtra.commands.terminal import complain, out, progress_reporter
from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.uncertainty import COPIES
from hemtra.core.maps.mesh import UP
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.comparison import Difference, differences
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.nominal import Placement
from hemtra.core.text import percent

if TYPE_CHECKING:
    from hemtra.runtime.plan_comparison import VerdictChanges

MOST_SCALE = 10.0
"""Relative uncertainty of a scale, percent."""
plan_app = typer.Typer(no_args_is_help=True, help="Show, check or compare plans.")
PlanPath = Annotated[Path, typer.Argument(help="A .hplan file.", show_default=False)]
PlanOrRevision = Annotated[
    str, typer.Argument(help="A .hplan file, or one of its revisions as FILE@NUMBER.", show_default=False)
]


@plan_app.command()
def show(
    plan: PlanPath, as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False
) -> None:
    """Print a plan's sheet and steps."""
    from hemtra.storage.plans import load_plan, to_json

    document = load_plan(plan)
    if as_json:
        print(to_json(document))
    else:
        _print_plan(document)


@plan_app.command()
def check(plan: PlanPath) -> None:
    """Check a plan: its signals, which rows prove less than they seem to, and its zones on its reference."""
    from hemtra.core.evaluation.form_floor import near_their_floor
    from hemtra.core.gauge.marks import doubtful
    from hemtra.core.plan.proof import hardly_known, unproven
    from hemtra.core.plan.signals import invalid_signal_references
    from hemtra.storage.plans import load_plan_file

    held = load_plan_file(plan)
    wrong = invalid_signal_references(
        held.plan.signals, [row.balloon for row in held.plan.sheet if not row.off]
    )
    for text in wrong:
        complain(f"{plan.name}: {text}")
    if wrong:
        raise typer.Exit(2)
    for row in sorted(held.plan.sheet, key=lambda c: c.balloon):
        if row.note:
            out.print(f"{row.balloon} {row.name}: {row.note}", soft_wrap=True)
    for row, why in (*unproven(held.plan), *doubtful(held.plan, datetime.now().date())):
        out.print(f"{row.balloon} {row.name}: {why}", soft_wrap=True)
    if held.reference is None:
        out.print(f"{plan.name} is valid; no reference scan.")
        return
    engine = Engine(held.reference.data, held.reference.serial)
    result = engine.run(held.plan)
    lost = [r for r in result.steps.values() if r.outcome is None and not r.because_of]
    for found in lost:
        complain(f"{plan.name}, on its reference scan: “{found.step.name}”: {found.reason}.")
    if lost:
        raise typer.Exit(2)
    for row, why in (*near_their_floor(held.plan, engine, result), *hardly_known(held.plan)):
        out.print(f"{row.balloon} {row.name}: {why}", soft_wrap=True)
    out.print(f"{plan.name} holds; its reference scan evaluates to {result.verdict}.")


@plan_app.command()
def uncertainty(
    plan: PlanPath,
    scans: Annotated[
        list[Path] | None,
        typer.Argument(
            help="Scans of parts as they lie on the line; a plan has its reference scan.", show_default=False
        ),
    ] = None,
    copies: Annotated[int, typer.Option(help="Copies with noise.", min=8, max=2000)] = COPIES,
    seed: Annotated[int, typer.Option(help="Of the noise; the same seed gives the same result.")] = 0,
    scales: Annotated[
        list[str] | None,
        typer.Option(
            "--scale",
            metavar="AXIS=PERCENT",
            help="Standard uncertainty of the x, y or z scale; else the station's.",
        ),
    ] = None,
    save: Annotated[bool, typer.Option("--save", help="Keep it in the plan.")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """Work out the uncertainty of each row on copies of scans, and what it is made of."""
    from hemtra.core.evaluation.uncertainty import Scales, budgets, with_budgets
    from hemtra.storage.plans import load_plan_file, save_plan
    from hemtra.storage.results import budget_as_json
    from hemtra.storage.scans import load_scan

    held = load_plan_file(plan)
    stated = Scales.of(held.reference.station) if held.reference else Scales()
    known = replace(stated, **dict(map(_scale, scales or ())))
    loaded = [load_scan(path) for path in scans or ()]
    data = [scan.data for scan in ((held.reference,) if held.reference else ()) + tuple(loaded)]
    with progress_reporter("copies") as progress:
        found = budgets(held.plan, data, known, copies=copies, seed=seed, progress=progress)
    rows = [row for row in sorted(held.plan.sheet, key=lambda c: c.balloon) if not row.off]
    if as_json:
        print(json.dumps({str(balloon): budget_as_json(budget) for balloon, budget in sorted(found.items())}))
    else:
        _print_budgets(rows, found)
    if save:
        save_plan(with_budgets(held.plan, found), plan, held.reference, comment="uncertainty worked out")


@plan_app.command()
def master(
    plan: PlanPath,
    scan: Annotated[Path | None, typer.Argument(help="A scan of the master part.", show_default=False)] = None,
    serial: Annotated[
        str | None, typer.Option(help="By which a line recognises it; that of the scan by default.")
    ] = None,
    hours: Annotated[float, typer.Option(help="Hours after which it is due again.", min=0.1, max=1000.0)] = 8.0,
    shifts: Annotated[
        str, typer.Option(help="When shifts begin, local time, as in “6:00 14:00 22:00”; it is due then, too.")
    ] = "",
    share: Annotated[
        float, typer.Option(help="Percent of its tolerance that a row may read off.", min=0.1, max=100.0)
    ] = 10.0,
    none: Annotated[bool, typer.Option("--none", help="Ask for no master part any more.")] = False,
) -> None:
    """Keep a master part in the plan: while it is overdue or has failed, a line passes no part."""
    from hemtra.core.plan.master_part import read_on, shifts_typed
    from hemtra.storage.plans import load_plan_file, save_plan
    from hemtra.storage.scans import load_scan

    held = load_plan_file(plan)
    if (scan is None) is not none:
        raise HemtraError("Name a scan of the master part, or take --none, not both.")
    try:
        starts = shifts_typed(shifts)
    except ValueError as error:
        raise HemtraError(f"{error}.") from None
    kept = None
    if scan is not None:
        seen = load_scan(scan)
        result = Engine(seen.data, seen.serial).run(held.plan)
        kept = read_on(serial or seen.serial, result.characteristics, hours, share, starts)
        at = f", and at {' '.join(f'{start:%H:%M}' for start in starts)}" if starts else ""
        out.print(f"Master part {kept.serial}: {len(kept.values)} rows, due every {hours:g} h{at}.")
    save_plan(held.plan.edited(master_part=kept), plan, held.reference, comment="master part")


@plan_app.command()
def nominal(
    plan: PlanPath,
    mesh: Annotated[
        Path | None, typer.Argument(help="The mesh of the drawing: .stl or .ply.", show_default=False)
    ] = None,
    up: Annotated[str, typer.Option(help="Axis of the mesh that points to the sensor: +z, -z, +x …")] = "+z",
    unit: Annotated[str, typer.Option(help="Of the numbers of the mesh: mm, um, cm, m or in.")] = "mm",
    by: Annotated[str, typer.Option(help="How it is placed: outline, best-fit or points.")] = "best-fit",
    points: Annotated[
        list[str] | None,
        typer.Option(
            "--point", metavar="X,Y,Z=X,Y,Z", help="A point of the mesh, and where it is on the scan."
        ),
    ] = None,
    remove: Annotated[bool, typer.Option("--remove", help="Take the nominal surface out of the plan.")] = False,
) -> None:
    """Place the mesh of a drawing on the reference scan of a plan, as its nominal surface."""
    from hemtra.core.proposals.nominal_placing import nominal_from
    from hemtra.storage.foreign.mesh import load_mesh
    from hemtra.storage.plans import load_plan_file, save_plan

    held = load_plan_file(plan)
    if remove:
        save_plan(held.plan.edited(nominal=None), plan, held.reference, comment="nominal surface removed")
        return
    if mesh is None:
        raise HemtraError("Name the mesh of the drawing, or take --remove.")
    if held.reference is None:
        raise HemtraError(f"{plan.name} has no reference scan to place a mesh on.")
    ways: dict[str, Placement] = {"outline": "outline", "best-fit": "best fit", "points": "points"}
    if by not in ways or up not in UP:
        raise HemtraError("--by is outline, best-fit or points; --up is one of +z, -z, +x, -x, +y, -y.")
    turned = load_mesh(mesh, unit).seen_from(up)
    pairs = [_pair(text) for text in points or ()]
    found = nominal_from(turned, mesh.name, held.reference.data, ways[by], pairs)
    engine = Engine(held.reference.data, held.reference.serial)
    made = engine.taught(held.plan.edited(nominal=found))
    save_plan(made, plan, held.reference, comment=f"nominal surface {mesh.name}")
    out.print(f"{mesh.name} is placed by {by}: the reference scan lies {1000 * found.rms:.0f} µm rms off it.")


def _pair(text: str) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """A point of a mesh and its place on the scan, as written on the command line."""
    sides = text.split("=")
    try:
        point, place = (tuple(float(number) for number in side.split(",")) for side in sides)
    except ValueError:
        raise HemtraError(f"“{text}” is no pair of points; write it as 0,0,5=12.1,3.4,5.02.") from None
    return point, place


def _scale(text: str) -> tuple[str, float]:
    """An axis and the uncertainty of its scale as a share, as written on the command line: y=0.02."""
    axis, _, share = text.partition("=")
    with suppress(ValueError):
        if axis in ("x", "y", "z") and 0.0 <= float(share) <= MOST_SCALE:
            return axis, float(share) / 100.0
    raise HemtraError(
        f"“{text}” is no uncertainty of a scale; write it as y=0.02, in percent, up to {MOST_SCALE:g}."
    )


def _print_budgets(rows: Sequence[Characteristic], found: Mapping[Balloon, Budget]) -> None:
    table = Table("", "", "k = 2", "of tolerance", "made of", box=None, header_style="bold")
    for row in rows:
        budget = found.get(row.balloon)
        if budget is None:
            why = "none: it reads a text, or too few copies give a value"
            table.add_row(str(row.balloon), row.name, "–", "", why)
            continue
        share = percent(USUAL_COVERAGE * budget.u / row.room) if row.room else ""
        parts = (
            f"{Budget.TITLES[name]} {percent(part)}" for name, part in budget.shares.items() if part >= 0.005
        )
        table.add_row(str(row.balloon), row.name, budget.expanded, share, ", ".join(parts))
    out.print(table)


@plan_app.command()
def revisions(plan: PlanPath) -> None:
    """List the revisions of a plan, the newest first."""
    from hemtra.storage.revisions import read_revisions

    found = read_revisions(plan)
    if not found:
        out.print(f"{plan.name} has no revisions yet; each save makes one.")
        return
    table = Table("", "saved", "by", "comment", box=None, header_style="bold")
    for one in reversed(found):
        saved = datetime.fromtimestamp(one.saved).astimezone().strftime("%Y-%m-%d %H:%M:%S")
        table.add_row(str(one.number), saved, one.author, one.comment)
    out.print(table)


@plan_app.command()
def diff(
    before: PlanOrRevision,
    after: PlanOrRevision,
    scans: Annotated[
        list[Path] | None, typer.Option("--scan", metavar="F", help="Also try both on this scan; repeatable.")
    ] = None,
    lot: Annotated[str | None, typer.Option(help="Also try both on the recorded parts of this lot.")] = None,
    db: Annotated[
        str | None, typer.Option(metavar="URL", help="Records: a file, or an SQLAlchemy URL.")
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
) -> None:
    """Compare two plans: rows, limits, zones, parameters, and verdicts. Exit code 1 if anything differs."""
    from hemtra.commands.records import opened_records, wanted_lot
    from hemtra.runtime.plan_comparison import on_lot, on_parts
    from hemtra.storage.scans import load_scan

    one, other = _plan(before), _plan(after)
    found = differences(one, other)
    tried: dict[str, VerdictChanges] = {}
    if scans:
        loaded = [load_scan(path) for path in scans]
        parts = [(scan.name, Engine(scan.data, scan.serial)) for scan in loaded]
        with progress_reporter("scans") as progress:
            tried["scans"] = on_parts(one, other, parts, progress)
    if lot is not None:
        with opened_records(db) as records, progress_reporter("lot") as progress:
            on = on_lot(one, other, records, wanted_lot(records, lot), progress)
        if on is not None:
            tried[f"lot {lot}"] = on
    if as_json:
        print(json.dumps(_as_json(found, tried), ensure_ascii=False, indent=1))
    else:
        _print_differences(found)
        for title, changes in tried.items():
            _print_changes(title, changes)
    if found or any(changes.changes for changes in tried.values()):
        raise typer.Exit(1)


def _plan(text: str) -> Plan:
    """A plan file, or a revision of it as FILE@NUMBER."""
    from hemtra.storage.plans import load_plan

    path, mark, number = text.rpartition("@")
    if not mark or Path(text).is_file():
        return load_plan(text)
    if not number.isdecimal():
        raise HemtraError(f"“{number}” is no revision; write FILE@NUMBER, as hemtra plan revisions lists them.")
    return load_plan(path, int(number))


def _as_json(found: tuple[Difference, ...], tried: dict[str, VerdictChanges]) -> dict[str, object]:
    names = ("of", "id", "name", "what", "before", "after")
    verdicts = {
        title: {
            "parts": changes.parts,
            "changes": [
                {"part": c.part, "before": c.before, "after": c.after, "rows": list(c.rows)}
                for c in changes.changes
            ],
            "undecided": [{"part": part, "reason": why} for part, why in changes.undecided],
        }
        for title, changes in tried.items()
    }
    return {"differences": [{n: getattr(d, n) for n in names} for d in found], "verdicts": verdicts}


def _print_differences(found: tuple[Difference, ...]) -> None:
    if not found:
        out.print("The two plans are the same.")
        return
    table = Table("", "of", "what", "before", "after", box=None, header_style="bold")
    for one in found:
        table.add_row(one.id if one.of == "row" else "", one.name, one.what, one.before, one.after)
    out.print(table)


def _print_changes(title: str, found: VerdictChanges) -> None:
    out.print(f"{title}: {found.words}", soft_wrap=True)
    for one in found.changes:
        out.print(f"  {one.part}: {one.before} → {one.after}; {'; '.join(one.rows)}", soft_wrap=True)
    for part, why in found.undecided:
        out.print(f"  {part}: {why}", soft_wrap=True)


def _print_plan(plan: Plan) -> None:
    from hemtra.core.plan.comparison import differences

    out.print(Text(plan.name, style="bold"))
    for one in differences(Plan(name=plan.name), plan):
        if one.of == "plan":
            out.print(f"{one.what}: {one.after}", soft_wrap=True)
    sheet = Table("balloon", "characteristic", "tolerance", "step", box=None, header_style="bold")
    for row in sorted(plan.sheet, key=lambda c: c.balloon):
        asked = f"{row.tolerance}, switched off" if row.off else row.tolerance
        sheet.add_row(str(row.balloon), row.name, asked, row.step or "not bound yet")
    out.print(sheet)
    steps = Table("step", "kind", "uses", "parameters", box=None, header_style="bold")
    for step in plan.steps:
        uses = ", ".join(f"{name} {' '.join(ids)}" for name, ids in step.inputs.items())
        steps.add_row(step.id, step.kind, uses, ", ".join(f"{k} {v}" for k, v in step.params.items()))
    out.print(steps)
