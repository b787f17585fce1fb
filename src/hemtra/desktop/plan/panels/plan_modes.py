"""Modes of a plan: by profile or by part, treatment of NOT PROVEN, and its master part."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QMenu

from hemtra.core.plan.document import ByProfile, Plan
from hemtra.core.plan.master_part import read_on
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.menus import offer
from hemtra.desktop.widgets.numbers_form import NumbersAsked

Edit = Callable[[str, Callable[[], Plan]], bool]
COUNTS_AS = {"not measured": "Not measured", "fail": "Fail", "pass": "Pass"}


class PlanModes:
    """Turns intents about the whole plan into edits of it."""

    def __init__(self, bench: WorkspaceModel, asked: NumbersAsked, edit: Edit) -> None:
        self._bench, self._asked, self._edit = bench, asked, edit

    def ask_by_profile(self) -> None:
        """Ask how profiles are taken, then evaluate each by itself."""
        now = self._bench.document.plan.by_profile or ByProfile()
        fields = (
            ("count", "profiles averaged into one", f"{now.average}"),
            ("least", "percent of the profiles that must be measured", units.field(now.least_measured)),
        )
        self._asked.ask("Inspect profile by profile", fields, "Inspect each profile", self._by_profile)

    def _by_profile(self, numbers: dict[str, float]) -> bool:
        plan, part = self._bench.document.plan, self._bench.tray.current
        at = 0.0 if plan.by_profile is None else plan.by_profile.at
        if plan.by_profile is None and part is not None:
            # zones are drawn on the middle of the part
            _, _, first, last = part.scan.data.extent
            at = (first + last) / 2
        way = {"at": at, "average": numbers["count"], "least_measured": numbers["least"]}
        return self._edit("profile by profile", lambda: plan.edited(by_profile=way))

    def whole(self) -> None:
        """Evaluate parts as a whole."""
        plan = self._bench.document.plan
        self._edit("parts as a whole", lambda: plan.edited(by_profile=None))

    def not_proven_menu(self) -> QMenu:
        """Choose the part verdict when its worst characteristic is NOT PROVEN."""
        plan, menu = self._bench.document.plan, QMenu()
        for value, title in COUNTS_AS.items():
            action = menu.addAction(title, partial(self._count_not_proven_as, value))
            action.setCheckable(True)
            action.setChecked(plan.not_proven == value)
        return menu

    def show_not_proven(self) -> None:
        """Offer it where the pointer is."""
        offer(self.not_proven_menu(), QCursor.pos())

    def ask_master_part(self) -> None:
        """Prompt for the master part's interval and limits."""
        part, shown, plan = self._bench.tray.current, self._bench.shown, self._bench.document.plan
        if part is None or shown is None:
            return
        known = plan.master_part
        fields = (
            ("hours", "hours after which it is due again", units.field(8.0 if known is None else known.hours)),
            (
                "shifts",
                "and when shifts begin, as 6:00 14:00 22:00",
                "" if known is None else " ".join(f"{shift:%H:%M}" for shift in known.shifts),
            ),
            (
                "share",
                "percent of a tolerance that it may read off",
                units.field(10.0 if known is None else known.share),
            ),
        )

        def take(numbers: dict[str, Any]) -> bool:
            def made() -> Plan:
                kept = read_on(part.scan.serial, shown.result.characteristics, **numbers)
                return plan.edited(master_part=kept)

            return self._edit("master part", made)

        self._asked.ask(f"{part.name} as master part", fields, "Use as master part", take)

    def drop_master_part(self) -> None:
        """Lines request none any more."""
        plan = self._bench.document.plan
        self._edit("no master part", lambda: plan.edited(master_part=None))

    def _count_not_proven_as(self, value: str) -> None:
        plan = self._bench.document.plan
        self._edit("treatment of NOT PROVEN", lambda: plan.edited(not_proven=value))
