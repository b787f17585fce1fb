"""Actions on the zone or path with handles."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from hemtra.core.zones.edits import mirrored, reshaped, with_addition, with_cut, with_node, without_pieces
from hemtra.core.zones.zone import AnyZone, PolygonZone
from hemtra.desktop.documents.action import Action
from hemtra.desktop.plan.commands.paths import NODE_EDITS
from hemtra.desktop.plan.workspace import PlanWorkspace

Change = tuple[str, str, str, Callable[[AnyZone], AnyZone]]
RESHAPING: tuple[Change, ...] = (
    (
        "rectangle",
        "Zone: rectangle",
        "The selected zone in another shape.",
        partial(reshaped, shape="rectangle"),
    ),
    ("ellipse", "Zone: ellipse", "", partial(reshaped, shape="ellipse")),
    ("ring", "Zone: ring", "With a handle for its inner size.", partial(reshaped, shape="ring")),
    ("polygon", "Zone: polygon", "With a handle on every node.", partial(reshaped, shape="polygon")),
)
PIECES: tuple[Change, ...] = (
    ("cut", "Zone: cut out", "What lies in a cut-out does not count.", with_cut),
    ("add", "Zone: add area", "What lies in it belongs to the zone.", with_addition),
    ("whole", "Zone: remove cut-outs and added areas", "", without_pieces),
    ("mirror-x", "Zone: mirror left to right", "At x = 0 of the part.", partial(mirrored, axis="x")),
    ("mirror-y", "Zone: mirror front to back", "At y = 0 of the part.", partial(mirrored, axis="y")),
)
"""Name, title, help, and how the zone changes."""
NODES = {
    "more": ("Path: add node", "Midway between the selected node and the next."),
    "less": ("Path: delete the selected node", ""),
    "start": ("Path: start at the selected node", "Distances count from there."),
    "reverse": ("Path: reverse", "Left and right change places."),
    "close": ("Path: close or open", ""),
}


def zone_actions(workspace: PlanWorkspace, is_shown: Callable[[], bool]) -> Iterable[Action]:
    """Actions on the zone with handles. is_shown: whether the workspace is on screen."""

    def has_zone() -> bool:
        return is_shown() and workspace.steps.selected_zone is not None

    def can_take_node() -> bool:
        return has_zone() and isinstance(workspace.steps.selected_zone, PolygonZone)

    here = partial(Action, group="Zone", enabled=has_zone)
    for name, title, text, change in RESHAPING:
        yield here(
            f"zone.{name}", title, do=partial(workspace.steps.edit_zone, f"zone {name}", change), help=text
        )
    yield Action(
        "zone.node",
        "Zone: add node",
        "Zone",
        lambda: workspace.steps.edit_zone("node", lambda z: with_node(z) if isinstance(z, PolygonZone) else z),
        can_take_node,
        help="In the middle of the longest side.",
    )
    yield here(
        "zone.cut-feature",
        "Zone: cut out a feature…",
        do=workspace.feature_cut.ask,
        help="Click it on the part; with a margin.",
    )
    for name, title, text, change in PIECES:
        yield here(
            f"zone.{name}", title, do=partial(workspace.steps.edit_zone, f"zone {name}", change), help=text
        )
    for name, title in (("circle", "Circular pattern…"), ("grid", "Rectangular pattern…")):
        yield here(
            f"zone.{name}-of",
            title,
            do=partial(workspace.patterns.ask, name),
            help="Copies the feature and its characteristics.",
        )
    yield here("zone.copy", "Copy zone", do=workspace.steps.copy_zone, keys="Ctrl+C")
    yield Action(
        "zone.paste",
        "Paste zone",
        "Zone",
        workspace.steps.paste_zone,
        lambda: is_shown() and workspace.steps.can_paste,
        keys="Ctrl+V",
        help="Shape and size, in the place of the selected one.",
    )


def path_actions(
    workspace: PlanWorkspace, folder: Callable[[], Path], is_shown: Callable[[], bool]
) -> Iterable[Action]:
    """The same for the path that has handles; folder: where file dialogs begin."""

    def has_path() -> bool:
        return is_shown() and workspace.paths.selected is not None

    here = partial(Action, group="Path", enabled=has_path)
    for name in NODE_EDITS:
        title, text = NODES[name]
        yield here(f"path.{name}", title, do=partial(workspace.paths.do, name), help=text)
    yield Action(
        "path.import",
        "Path from a drawing or table…",
        "Path",
        lambda: workspace.path_files.ask_import(folder()),
        lambda: is_shown() and workspace.bench.tray.current is not None,
        help="DXF, or CSV with x, y in mm.",
    )
    yield here(
        "path.export",
        "Save the path as drawing or table…",
        do=lambda: workspace.path_files.ask_export(folder()),
        help="DXF polyline, or CSV.",
    )
    yield Action(
        "path.worst",
        "Go to worst section",
        "Path",
        lambda: workspace.bench.set_distance(None),
        lambda: is_shown() and workspace.bench.shown_along,
        help="Also after a click elsewhere.",
    )
