"""`hemtra budget`: the arithmetic of a scan."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer
from rich.table import Table
from rich.text import Text

from hemtra.commands.terminal import out


def budget(
    station: Annotated[Path, typer.Argument(help="A .hstation file.", show_default=False)],
    plan: Annotated[Path | None, typer.Option(help="A .hplan file, for its tightest limit.")] = None,
    part_width: Annotated[
        float | None, typer.Option(help="Width of the part along the laser line, in mm.")
    ] = None,
    belt: Annotated[float, typer.Option(help="z of the belt in mm, where the part's surface is 0.")] = 0.0,
    feature: Annotated[
        float, typer.Option(help="Size of a feature to count points across, in mm.", min=0.001)
    ] = 3.0,
    spot: Annotated[
        float, typer.Option(help="Diameter of the spot whose noise counts, in mm.", min=0.001)
    ] = 9.0,
    as_json: Annotated[bool, typer.Option("--json", help="As one JSON object.")] = False,
) -> None:
    """The arithmetic of a scan, and what to change where it does not come out."""
    from hemtra.core.plan.graph import tightest_height
    from hemtra.core.station.budget import BudgetRequest, scan_budget
    from hemtra.core.station.sensor_models import models_of
    from hemtra.storage.plans import load_plan
    from hemtra.storage.stations import load_station

    held = load_station(station)
    tightest = None if plan is None else tightest_height(load_plan(plan))
    question = BudgetRequest(
        lowest=belt,
        part_width=part_width,
        feature=feature,
        spot=spot,
        tolerance=tightest[1] if tightest else None,
        tolerance_of=f"{tightest[0].balloon} {tightest[0].name}" if tightest else "",
    )
    found = scan_budget(held, models_of(held), question)
    if as_json:
        text = {
            "station": held.name,
            "rows": [vars(row) for row in found.rows],
            "warnings": [{"text": w.text, "advice": w.advice} for w in found.warnings],
        }
        print(json.dumps(text, ensure_ascii=False))
        return
    table = Table("scan budget", "", held.name, box=None, header_style="bold")
    table.columns[1].justify = table.columns[2].justify = "right"
    for row in found.rows:
        table.add_row(row.label, row.sum, Text(row.value, style="bold"))
    out.print(table)
    for warning in found.warnings:
        words = Text(f"◆ {warning.text}", style="red").append(f" {warning.advice}", style="default")
        out.print(words, soft_wrap=True)
