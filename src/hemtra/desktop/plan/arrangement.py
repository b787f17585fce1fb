"""Arrangement of the views in the Plan workspace."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt

from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.card_panel import CardPanel
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.section.strip_view import StripView
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.desktop.widgets.second_screen import OwnWindow
from hemtra.desktop.widgets.splitters import KeptSizes, splitter

if TYPE_CHECKING:
    from hemtra.desktop.plan.stage.space_view import SpaceView

Views = frozenset[str]
VIEWS = tuple(
    frozenset(views) for views in (("top", "section"), ("top", "3D"), ("3D",), ("top", "section", "3D"))
)
"""Arrangements of the stage, in the order in which they are gone through."""
PROFILE_VIEWS = tuple(
    frozenset(views) for views in (("section", "strips"), ("top", "section", "strips"), ("top", "3D"))
)
"""The same for a plan that goes profile by profile."""
NO_OPENGL = (
    "3D needs OpenGL 2, which this display does not offer. Install or enable its driver; top view"
    " and section show everything that is measured."
)

SECTION, CARD = (466, 218), (400, 438)
"""Heights of the stage and the area below it, and widths of an open card and the section beside it, pixels."""
LOWEST = 160
"""Minimum size of the stage, pixels."""
NARROWEST, WIDE = 330, 640
"""Width of a section beside a card, and of a section with strips beside it, pixels."""

BESIDE = 760
"""Width from which on top view and 3D stand side by side, pixels."""


class Arrangement:
    """Top view, section, strips, card and 3D view: above or beside each other, as the plan asks."""

    def __init__(
        self,
        bench: WorkspaceModel,
        views: tuple[TopView, SectionView, StripView],
        card: CardPanel,
        sizes: KeptSizes,
        notifications: Notifications,
    ) -> None:
        self._bench, self._notifications, self._sizes = bench, notifications, sizes
        self._stage, self._section, self._strips = views
        self._stage.setMinimumHeight(LOWEST)
        self._card = card
        self.space: SpaceView | None = None
        self._second: SpaceView | None = None
        """Whether it has a window of its own."""
        self._window: OwnWindow | None = None
        self.views = VIEWS[0]
        self._above = splitter(Qt.Orientation.Horizontal, (self._stage,))
        self._profile = splitter(Qt.Orientation.Vertical, (self._section, self._strips))
        self._below = splitter(Qt.Orientation.Horizontal, (card, self._profile))
        self._below.setStretchFactor(1, 1)
        self._profile.setMinimumWidth(NARROWEST)
        self.centre = splitter(Qt.Orientation.Vertical, (self._above, self._below))
        self.centre.setStretchFactor(0, 1)
        self._strips.hide()
        self._arranged: tuple[bool, ...] = ()
        sizes.keep(self._below, "card", CARD)
        bench.selection_changed.connect(self.place_card)
        card.room_wanted.connect(self.place_card)
        self.place_strips()

    @property
    def choices(self) -> tuple[Views, ...]:
        """Choices available."""
        return VIEWS if self._bench.document.plan.by_profile is None else PROFILE_VIEWS

    def fit_plan(self) -> bool:
        """Change to what the kind of plan requires; whether it did."""
        by_profile = self._bench.document.plan.by_profile is not None
        if by_profile == (self.views in PROFILE_VIEWS):
            return False
        self.show(self.choices[0])
        return True

    def show(self, views: Views) -> None:
        """Show some of “top”, “section”, “strips” and “3D”; the 3D view is made when it is wanted first."""
        if "3D" in views and self.space is None:
            self.space = self._made_space()
            if self.space is None:
                views = self.choices[0]
            else:
                self._above.addWidget(self.space)
        self.views = views
        self._stage.setVisible("top" in views)
        self._section.setVisible("section" in views)
        # what is hidden takes no size
        self._above.setVisible(bool(views & {"top", "3D"}))
        self.place_strips()
        if self.space is not None:
            self.space.setVisible("3D" in views)
            if views >= {"top", "3D"}:
                beside = self.centre.width() >= BESIDE
                self._above.setOrientation(Qt.Orientation.Horizontal if beside else Qt.Orientation.Vertical)
                self._above.setSizes([500, 500])
        self._stage.tools.show_views(views)

    def cycle(self) -> None:
        """The next of the choices."""
        at = self.choices.index(self.views) if self.views in self.choices else -1
        self.show(self.choices[(at + 1) % len(self.choices)])

    def toggle_space(self, shown: bool) -> None:
        """With the 3D view, or without."""
        self.show(self.views | {"3D"} if shown else self.choices[0])

    def open_space_window(self) -> None:
        """The 3D view in a window of its own, beside what the main window shows."""
        if self._window is None:
            space = self._made_space()
            if space is None:
                return
            self._window = OwnWindow("Hemtra: 3D", self.centre.window())
            self._window.body.addWidget(space)
            self._second = space
        self._window.open(full=False)

    def place_strips(self) -> None:
        """Below the profile for runs of profiles; beside the section, which is short, along a path."""
        runs = "strips" in self.views
        beside = not runs and self._bench.shown_along and "section" in self.views
        state = (runs, beside, "top" in self.views)
        if state != self._arranged:
            self._arranged = state
            self._strips.setVisible(runs or beside)
            self._profile.setOrientation(Qt.Orientation.Vertical if runs else Qt.Orientation.Horizontal)
            if runs:
                self._sizes.keep(self.centre, "run" if "top" in self.views else "run alone", (200, 550))
                self._sizes.keep(self._profile, "run profile", (300, 250))
            else:
                self._sizes.keep(self.centre, "section", SECTION)
                self._sizes.keep(self._profile, "path", (300, 480))
        self.place_card()

    def place_card(self) -> None:
        """Beside the section; in its place where there is no room for both."""
        left, is_open = self._below.width() - self._card.minimumSizeHint().width(), self._bench.card is not None
        beside_strips = self._arranged[1]
        self._section.setVisible("section" in self.views and not (is_open and beside_strips and left < WIDE))
        self._profile.setVisible("section" in self.views and not (is_open and left < NARROWEST))
        self._below.setVisible("section" in self.views or is_open)

    def stop(self) -> None:
        """Release the 3D views."""
        for space in (self.space, self._second):
            if space is not None:
                space.stop()
        if self._window is not None:
            self._window.close()

    def _made_space(self) -> SpaceView | None:
        """A 3D view; None where there is no OpenGL, which is said."""
        try:
            # loaded only where it is wanted: its library may be missing altogether
            from hemtra.desktop.plan.stage.space_view import SpaceView, has_opengl
        except (ImportError, OSError, AttributeError):
            found = False
        else:
            found = has_opengl()
        if not found:
            self._notifications.post(Notice(NO_OPENGL))
            return None
        made = SpaceView(self._bench, self._stage)
        made.balloon_clicked.connect(self._bench.select)
        made.failed.connect(self._notifications.error)
        return made
