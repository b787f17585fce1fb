"""Options that several commands have."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer


class LengthName(StrEnum):
    """The units that lengths can be shown in."""

    MM = "mm"
    INCH = "in"


OnCluster = Annotated[
    str | None,
    typer.Option(
        "--on",
        metavar="ADDRESS",
        help="Do it on a Dask cluster, as tcp://scheduler:8786; local starts one here.",
        show_default=False,
    ),
]
LengthOption = Annotated[LengthName, typer.Option("--unit", help="Lengths on the page or screen.")]
