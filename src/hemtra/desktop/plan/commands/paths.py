"""Edits of paths from the Plan workspace: nodes added, removed and bent, the path reversed or closed."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QMenu

from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.zones.path_edits import (
    begun_at,
    changed_node,
    closed_or_open,
    reversed_path,
    with_node_after,
    with_node_at,
    without_node,
)
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.menus import offer
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.desktop.widgets.numbers_form import NumbersAsked

Edit = Callable[[str, Callable[[], Plan]], bool]
NodeChange = Callable[[PathZone, int], PathZone]
NODE_EDITS: dict[str, tuple[str, str, NodeChange]] = {
    "more": ("Add node", "Midway to the next node.", with_node_after),
    "less": ("Delete node", "The path goes from its neighbours straight on.", without_node),
    "start": ("Start here", "Distances along a closed path count from this node.", begun_at),
    "reverse": ("Reverse", "Reverses the path; swaps left and right.", lambda z, _: reversed_path(z)),
    "close": (
        "Close or open",
        "A closed path continues from its last node to its first.",
        lambda z, _: closed_or_open(z),
    ),
}
"""Commands on a path and its selected node: title, help, and the change."""


class Paths:
    """Turns intents about the selected path into edits of the plan."""

    def __init__(
        self, bench: WorkspaceModel, asked: NumbersAsked, notifications: Notifications, edit: Edit
    ) -> None:
        self._bench, self._asked, self._notifications, self._edit = bench, asked, notifications, edit

    @property
    def selected(self) -> str | None:
        """The step whose path has handles."""
        step_id, plan = self._bench.selected_step, self._bench.document.plan
        if step_id is None or not any(s.id == step_id for s in plan.steps):
            return None
        return step_id if isinstance(plan.step(step_id).zone, PathZone) else None

    def change(self, step_id: str, label: str, change: Callable[[PathZone], PathZone]) -> None:
        """Change a path where it is drawn."""
        plan = self._bench.document.plan
        step = plan.step(step_id)

        def changed() -> Plan:
            assert isinstance(step.zone, PathZone)
            return plan.with_step(step.edited(zone=change(step.zone)))

        self._edit(f"{label} of {step.name}", changed)

    def do(self, name: str) -> None:
        """Run one of `NODE_EDITS` on the selected node."""
        if self.selected is not None:
            title, _, change = NODE_EDITS[name]
            node = self._node()
            self.change(self.selected, title.lower(), lambda zone: change(zone, node))

    def _node(self) -> int:
        zone = self._bench.document.plan.step(self.selected or "").zone
        assert isinstance(zone, PathZone)
        return min(self._bench.node, len(zone.nodes) - 1)

    def menu(self, node: int, place: Place) -> QMenu:
        """Commands on a node, or on the path where it was clicked (node -1)."""
        menu = QMenu()
        step_id = self.selected
        if step_id is None:
            return menu
        zone = self._bench.document.plan.step(step_id).zone
        assert isinstance(zone, PathZone)
        if node < 0:
            menu.addAction("Node here", partial(self._add_node, step_id, place))
        else:
            self._bench.select_node(node)
            for turn, title in (("corner", "Corner"), ("arc", "Arc through it"), ("curve", "Curve")):
                action = menu.addAction(title, partial(self._turn, step_id, node, turn))
                action.setCheckable(True)
                action.setChecked(zone.nodes[node].turn == turn)
            menu.addAction("Rounded with…", partial(self._ask_radius, step_id, node))
            menu.addSeparator()
        for name, (title, help_text, _) in NODE_EDITS.items():
            if node >= 0 or name in ("reverse", "close"):
                shown = ("Open it" if zone.closed else "Close it") if name == "close" else title
                menu.addAction(shown, partial(self.do, name)).setToolTip(help_text)
        return menu

    def show_menu(self, node: int, place: Place) -> None:
        """Offer it where the pointer is."""
        offer(self.menu(node, place), QCursor.pos())

    def _add_node(self, step_id: str, place: Place) -> None:
        step = self._bench.document.plan.step(step_id)
        zone = self._bench.placed(step)
        if not isinstance(zone, PathZone):
            return
        try:
            more, number = with_node_at(zone, *place)
            drawn = self._bench.drawn(step, more)
        except HemtraError as error:
            self._notifications.error(error)
            return
        plan = self._bench.document.plan
        if self._edit(f"node of {step.name}", lambda: plan.with_step(step.edited(zone=drawn))):
            self._bench.select_node(number)

    def _turn(self, step_id: str, node: int, turn: str) -> None:
        self.change(step_id, "node type", lambda zone: changed_node(zone, node, turn=turn))

    def _ask_radius(self, step_id: str, node: int) -> None:
        zone = self._bench.document.plan.step(step_id).zone
        assert isinstance(zone, PathZone)
        fields = (("radius", "radius in mm; 0 for a sharp corner", units.field(zone.nodes[node].corner)),)

        def wanted(numbers: dict[str, float]) -> bool:
            radius = numbers["radius"]
            self.change(step_id, "radius", lambda zone: changed_node(zone, node, turn="corner", corner=radius))
            return True

        self._asked.ask(f"Corner at node {node + 1}", fields, "Apply radius", wanted)
