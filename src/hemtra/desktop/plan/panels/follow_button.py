"""Button for the anchor of a zone: all axes at once, or each with its own anchor."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QMenu, QPushButton

from hemtra.core.edits.anchors import PLACING, candidates
from hemtra.core.plan.document import Follow, Plan, Step
from hemtra.core.plan.follow import AXES, axes_of
from hemtra.core.plan.registry import kind_named, kinds
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import shortened

SIGNS = {"x": "x", "y": "y", "rotation": "turn", "z": "height", "tilt": "tilt"}


class FollowButton(QPushButton):
    """Says what the zone follows; its menu changes it."""

    chosen = Signal(str, object)
    """Step, and its anchor from now on."""
    wanted = Signal(str, str)
    """Step, and the kind of a new anchor that it should follow."""

    def __init__(self, step: Step) -> None:
        super().__init__()
        self.step_id = step.id
        self.plan = Plan()
        self.setObjectName("action")
        self.setProperty("small", True)
        self.setIcon(theme.glyph("anchor", theme.colour("anchor").name()))
        self.setAccessibleName(f"{step.name}, follows")
        held = QMenu(self)
        held.aboutToShow.connect(self.fill)
        self.setMenu(held)

    def show_plan(self, plan: Plan) -> None:
        """Show the anchors of the step in a plan."""
        self.plan = plan
        follow = plan.step(self.step_id).follow
        self.setText(follow_text(plan, follow, shortened))
        help_text = "The anchors this zone moves with, so that it finds its place on every part."
        self.setToolTip(f"{help_text}\n{follow_text(plan, follow)}")

    def fill(self) -> None:
        """Everything it could follow, by axis, and the anchors that could be made for it."""
        menu, follow = self.menu(), self.plan.step(self.step_id).follow
        menu.clear()
        nothing = menu.addAction("Follow nothing")
        nothing.setEnabled(bool(follow.anchors))
        nothing.triggered.connect(lambda: self.chosen.emit(self.step_id, Follow()))
        for anchor in candidates(self.plan, self.step_id, "x"):
            gives = axes_of(kind_named(anchor.kind).output)
            whole = Follow(**{axis: anchor.id for axis in PLACING if axis in gives})
            action = menu.addAction(f"Follow {anchor.name}")
            action.setCheckable(True)
            action.setChecked(follow == whole)
            action.triggered.connect(partial(self._choose, whole))
        menu.addSeparator()
        for axis, name in AXES.items():
            held = menu.addMenu(f"{name[:1].upper()}{name[1:]} from")
            now = getattr(follow, axis)
            for label, anchor_id in [("nothing", None)] + [
                (step.name, step.id) for step in candidates(self.plan, self.step_id, axis)
            ]:
                action = held.addAction(label)
                action.setCheckable(True)
                action.setChecked(now == anchor_id)
                action.triggered.connect(partial(self._choose, follow.edited(**{axis: anchor_id})))
        held = menu.addMenu("Follow a new")
        for kind in sorted(kinds().values(), key=lambda k: k.title):
            if kind.needs_zone and "x" in axes_of(kind.output):
                held.addAction(kind.title.lower(), partial(self.wanted.emit, self.step_id, kind.kind))

    def _choose(self, follow: Follow, checked: bool = True) -> None:
        self.chosen.emit(self.step_id, follow)


def follow_text(plan: Plan, follow: Follow, name: Callable[[str], str] = str) -> str:
    """Describe the anchor in a few words: “follows Cover outline (x, y, turn)”. name: how to show a name."""
    if not follow.anchors:
        return "no anchor"
    parts = []
    for anchor in follow.anchors:
        axes = ", ".join(sign for axis, sign in SIGNS.items() if getattr(follow, axis) == anchor)
        parts.append(f"{name(plan.step(anchor).name)} ({axes})")
    return "follows " + "\nand ".join(parts)
