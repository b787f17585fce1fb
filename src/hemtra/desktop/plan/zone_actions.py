"""What can be done to the zone that has handles, as actions."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from hemtra.core.zones.edits import (
    SHAPES,
    mirrored,
    reshaped,
    with_addition,
    with_cut,
    with_node,
    without_pieces,
)
from hemtra.core.zones.zone import AnyZone, PolygonZone
from hemtra.desktop.plan.commands.paths import DEEDS
from hemtra.desktop.plan.workspace import PlanWorkspace

Handlers = dict[str, tuple[Callable[[], Any], Callable[[], bool]]]


def zone_handlers(workspace: PlanWorkspace, is_shown: Callable[[], bool]) -> Handlers:
    """By action: what it does, and when it can be done. is_shown: whether the workspace is on screen."""

    def has_zone() -> bool:
        return is_shown() and workspace.selected_zone is not None

    changes: dict[str, Callable[[AnyZone], AnyZone]] = {
        **{shape: partial(reshaped, shape=shape) for shape in SHAPES},
        "cut": with_cut,
        "add": with_addition,
        "whole": without_pieces,
        "mirror-x": partial(mirrored, axis="x"),
        "mirror-y": partial(mirrored, axis="y"),
    }
    handlers: Handlers = {
        f"zone.{name}": (partial(workspace.edit_zone, f"zone {name}", change), has_zone)
        for name, change in changes.items()
    }
    handlers["zone.node"] = (
        lambda: workspace.edit_zone("node", lambda z: with_node(z) if isinstance(z, PolygonZone) else z),
        lambda: has_zone() and isinstance(workspace.selected_zone, PolygonZone),
    )
    handlers["zone.cut-feature"] = (workspace.feature_cut.ask, has_zone)
    handlers["zone.circle-of"] = (partial(workspace.patterns.ask, "circle"), has_zone)
    handlers["zone.grid-of"] = (partial(workspace.patterns.ask, "grid"), has_zone)
    handlers["zone.copy"] = (workspace.copy_zone, has_zone)
    handlers["zone.paste"] = (workspace.paste_zone, lambda: is_shown() and workspace.can_paste)
    return handlers


def path_handlers(
    workspace: PlanWorkspace, folder: Callable[[], Path], is_shown: Callable[[], bool]
) -> Handlers:
    """The same for the path that has handles; folder: where files are looked for."""

    def has_path() -> bool:
        return is_shown() and workspace.paths.selected is not None

    handlers: Handlers = {f"path.{deed}": (partial(workspace.paths.do, deed), has_path) for deed in DEEDS}
    handlers["path.import"] = (
        lambda: workspace.path_files.ask_import(folder()),
        lambda: is_shown() and workspace.bench.tray.current is not None,
    )
    handlers["path.export"] = (lambda: workspace.path_files.ask_export(folder()), has_path)
    handlers["path.worst"] = (
        lambda: workspace.bench.set_distance(None),
        lambda: is_shown() and workspace.bench.shown_along,
    )
    return handlers
