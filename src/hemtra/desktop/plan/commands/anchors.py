"""Edits of anchors from the Plan workspace: what follows what, new anchors, and removed anchors."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from hemtra.core.edits.anchors import followers, following_instead, without_step
from hemtra.core.plan.document import Follow, Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.proposals.anchors import with_anchor, with_outline
from hemtra.core.zones.zone import EllipseZone
from hemtra.desktop.background.tasks import Tasks
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.widgets.notifications import Notice, Notifications

Edit = Callable[[str, Callable[[], Plan]], bool]


class Anchors:
    """Turns intents about anchors into edits of the plan."""

    def __init__(self, bench: WorkspaceModel, notifications: Notifications, tasks: Tasks, edit: Edit) -> None:
        self._bench, self._notifications, self._tasks, self._edit = bench, notifications, tasks, edit
        self._lost: tuple[Plan, str] | None = None

    def follow(self, step_id: str, follow: Follow) -> None:
        """A zone follows something else; on the reference it stays where it is."""
        plan = self._bench.document.plan
        step = plan.step(step_id)
        self._edit(f"what {step.name} follows", lambda: plan.with_step(step.edited(follow=follow)))

    def add(self, step_id: str, kind: str) -> None:
        """A new anchor about a step's zone, which then follows it."""
        if kind == "outline":
            self.add_outline()
            return
        made: list[str] = []

        def change() -> Plan:
            plan, anchor = with_anchor(self._bench.document.plan, step_id, kind)
            made.append(anchor)
            return plan

        if self._edit(f"new {kind_named(kind).title.lower()} to follow", change):
            self._bench.select_step(made[0])

    def add_outline(self) -> None:
        """Teach the outline of the reference part; all zones that follow nothing follow it."""
        reference, before = self._bench.document.reference, self._bench.document.plan
        if reference is None:
            self._notifications.post(Notice("An outline is taught on the reference scan; add a scan first."))
            return

        def done(made: tuple[Plan, str]) -> None:
            plan, outline = made
            if self._bench.document.plan is before and self._edit("outline", lambda: plan):
                moving = len(followers(plan, outline))
                text = f"The part is found by its outline now; {moving} zones move with it."
                self._notifications.post(Notice(text, "info"))
                self._bench.select_step(outline)

        self._tasks.start("Outline", lambda task: with_outline(before, reference.data), done)

    def erase_contour(self, places: list[Place], reach: float) -> None:
        """Take what lies about some places on the stage out of the selected outline's contour."""
        plan, step_id = self._bench.document.plan, self._bench.selected_step
        if step_id is None:
            return
        step = plan.step(step_id)

        def change() -> Plan:
            held: Any = step.params.get("rubbed", [])
            discs = [EllipseZone(x=x, y=y, width=2 * reach, height=2 * reach) for x, y in places]
            drawn = [self._bench.drawn(step, disc) for disc in discs]
            rubbed = [*held, *([disc.x, disc.y, round(reach, 3)] for disc in drawn)]
            return plan.with_step(step.edited(params={**step.params, "rubbed": rubbed}))

        self._edit(f"rubbing out of {step.name}", change)

    def delete_selected(self) -> bool:
        """Take the selected step out, if it is only followed or used by nothing; whether it was one. Offers
        another anchor to what has followed it."""
        plan, step_id = self._bench.document.plan, self._bench.selected_step
        if step_id is None or not (followers(plan, step_id) or self._bench.subject == step_id):
            return False
        step, count = plan.step(step_id), len(followers(plan, step_id))
        if not self._edit(f"deletion of {step.name}", lambda: without_step(plan, step_id)):
            return True
        self._bench.select_step(None)
        if not count:
            return True
        self._lost = plan, step_id
        found = following_instead(self._bench.document.plan, plan, step_id)
        what = "one zone has" if count == 1 else f"{count} zones have"
        text = f"“{step.name}” was deleted; {what} no anchor now."
        actions = () if found is None else ((f"Follow {found[1]} instead", "anchor.rebind"),)
        self._notifications.post(Notice(text, "info", (*actions, ("Undo", "edit.undo"))))
        return True

    @property
    def can_rebind(self) -> bool:
        """Whether zones have lost an anchor that another could stand for."""
        return self._lost is not None

    def rebind(self) -> None:
        """Let the zones of the anchor removed last follow the likeliest other one."""
        if self._lost is None:
            return
        found = following_instead(self._bench.document.plan, *self._lost)
        self._lost = None
        if found is not None:
            self._edit(f"following {found[1]}", lambda: found[0])
