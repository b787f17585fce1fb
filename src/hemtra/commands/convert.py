"""The command `hemtra convert`: scans of any format into any other."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from hemtra.commands.terminal import out
from hemtra.core.text import percent


class UnitName(StrEnum):
    """Units that heights and places may come in."""

    MM = "mm"
    UM = "um"
    CM = "cm"
    M = "m"
    IN = "in"


class TakeName(StrEnum):
    """Choice among the heights of the points in a cell."""

    MEAN = "mean"
    HIGHEST = "highest"
    MEDIAN = "median"


class RowsName(StrEnum):
    """Profile in the first row of an image."""

    FIRST = "first"
    LAST = "last"


def convert(
    source: Annotated[Path, typer.Argument(metavar="IN", show_default=False)],
    target: Annotated[Path, typer.Argument(metavar="OUT", show_default=False)],
    dx: Annotated[float | None, typer.Option(help="Spacing of columns, mm.", min=1e-6)] = None,
    dy: Annotated[float | None, typer.Option(help="Spacing of rows, mm.", min=1e-6)] = None,
    unit: Annotated[UnitName | None, typer.Option(help="Of heights, and of places of a cloud.")] = None,
    scale: Annotated[
        float | None, typer.Option(help="A stored number times this is a height in the unit.")
    ] = None,
    offset: Annotated[float | None, typer.Option(help="mm to add to heights.")] = None,
    no_data: Annotated[float | None, typer.Option(help="The number that stands for no height.")] = None,
    page: Annotated[int | None, typer.Option(help="Of a file with several, from 1 on.", min=1)] = None,
    rows: Annotated[RowsName | None, typer.Option(help="Which profile the first row is.")] = None,
    take: Annotated[TakeName | None, typer.Option(help="Which height of a cell of a cloud.")] = None,
    level: Annotated[
        bool | None, typer.Option("--level", help="Turn a cloud so that its largest plane is horizontal.")
    ] = None,
    remember: Annotated[
        bool, typer.Option("--remember", help="Keep all this beside IN, in IN.import.json.")
    ] = False,
) -> None:
    """Convert between scan formats, by suffix.

    Read: .x3p, .tif, .png, .npy, .npz, .ply, .xyz, .asc, .csv, .txt, .pcd, .las, .laz, .e57.
    Written: .x3p, .tif, .npz, .npy, .ply, .csv, .xyz.
    """
    from hemtra.storage.scans import keep_settings, load_scan, save_scan, settings_of

    given: dict[str, Any] = {
        "dx": dx,
        "dy": dy,
        "unit": None if unit is None else unit.value,
        "scale": scale,
        "offset": offset,
        "no_data": no_data,
        "page": page,
        "rows": None if rows is None else rows.value,
        "take": None if take is None else take.value,
        "level": level,
    }
    scan = load_scan(source, **given)
    save_scan(scan, target)
    if remember:
        keep_settings(source, settings_of(source, **given))
    rows_made, cols = scan.data.shape
    grid = scan.data.grid
    out.print(
        f"{target}: {rows_made} profiles of {cols} points, {grid.dx:g} × {grid.dy:g} mm apart,"
        f" {percent(scan.data.data_share, 1)} with data.",
        soft_wrap=True,
    )
