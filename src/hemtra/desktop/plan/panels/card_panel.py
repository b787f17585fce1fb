"""The card of one link of the lineage, open beside the section."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QVBoxLayout, QWidget

from hemtra.core.edits.anchors import followers
from hemtra.core.plan.document import Step
from hemtra.core.plan.graph import dependants
from hemtra.core.plan.proof import weaknesses
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import ROW, SCAN, WorkspaceModel
from hemtra.desktop.plan.panels.cards.card import Card
from hemtra.desktop.plan.panels.cards.row_card import RowCard
from hemtra.desktop.plan.panels.cards.scan_card import ScanCard
from hemtra.desktop.plan.panels.cards.step_card import StepCard
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.scrolled import scrolled

STRIP = 5.0
"""Width of the coloured strip at the left that shows the type of card, pixels."""


class CardPanel(QFrame):
    """Shows the card that the bench has open, and passes on what is typed in it."""

    zone_typed = Signal(str, str, float)
    band_typed = Signal(str, object)
    follow_chosen = Signal(str, object)
    anchor_wanted = Signal(str, str)
    rub_wanted = Signal(str)
    path_changed = Signal(str, str, object)
    inputs_connected = Signal(str, str, object)
    input_pick_wanted = Signal(str, str)
    own_preparation_wanted = Signal(str, str)
    param_changed = Signal(str, str, object)
    params_changed = Signal(str, object)
    row_typed = Signal(int, str, object)
    menu_wanted = Signal(int, QPoint)
    tolerance_typed = Signal(int, str)
    room_wanted = Signal()
    """Emitted when its minimum width changes."""

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Card of the chosen link")
        self.bench = bench
        self.card: Card | None = None
        self._shown: list[QWidget] = []
        self._built_for: object = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(14, 6, 4, 6)
        self._layout.setSpacing(4)
        for changed in (
            bench.document.changed,
            bench.selection_changed,
            bench.node_changed,
            bench.shown_changed,
            bench.tray.current_changed,
        ):
            changed.connect(self.refresh)
        self.refresh()

    @property
    def step_card(self) -> StepCard | None:
        """The card of a step that is on screen, by itself or below the characteristic's."""
        card = self.card.step_card if isinstance(self.card, RowCard) else self.card
        return card if isinstance(card, StepCard) else None

    def event(self, event: QEvent) -> bool:
        """Adapt to a card that may need more room than before."""
        known = super().event(event)
        if event.type() == QEvent.Type.LayoutRequest:
            self.room_wanted.emit()
        return known

    def refresh(self) -> None:
        """Make another card when another link is chosen or its step changed, else bring it up to date."""
        link = self.bench.card
        wanted = self._signature(link)
        if wanted != self._built_for:
            self._built_for = wanted
            self._show(None if link is None else self._made(link))
        self._bring_up_to_date()
        self.setVisible(self.card is not None)

    def rebuild(self) -> None:
        """Make the card anew, so that fields show what holds."""
        self._built_for = None
        self.refresh()

    def _signature(self, link: str | None) -> object:
        """Key of a card; zones change while they are dragged, and make no other card."""
        part, plan, subject = self.bench.tray.current, self.bench.document.shown, self.bench.subject
        if link is None or part is None or subject is None:
            return None
        step = plan.step(subject if link in (ROW, SCAN) else link)
        made_from = step.id, step.name, step.kind, str(step.params), str(step.inputs), step.follow
        return link, self.bench.balloon, id(part.scan), made_from, type(step.zone), plan.by_profile is None

    def _made(self, link: str) -> Card | None:
        row, part, plan = self.bench.row, self.bench.tray.current, self.bench.document.shown
        if link == SCAN and part is not None:
            return ScanCard(part.scan)
        if link != ROW:
            return self._step_card(plan.step(link))
        if row is None or row.step is None:
            return None
        step = plan.step(row.step)
        kind = kind_named(step.kind).model_validate(step.params)
        card = RowCard(row, kind, self._step_card(step))
        card.row_typed.connect(self.row_typed)
        card.menu_wanted.connect(self.menu_wanted)
        card.tolerance_typed.connect(self.tolerance_typed)
        return card

    def _step_card(self, step: Step) -> StepCard:
        plan = self.bench.document.shown
        kind = kind_named(step.kind).model_validate(step.params)
        anchors = bool(followers(plan, step.id)) or kind.kind == "plane"
        card = StepCard(self.bench, step, kind, anchors=anchors, users=len(dependants(plan, step.id)))
        card.param_changed.connect(self.param_changed)
        card.params_changed.connect(self.params_changed)
        card.zone_typed.connect(self.zone_typed)
        card.band_typed.connect(self.band_typed)
        card.rub_wanted.connect(self.rub_wanted)
        card.path_changed.connect(self.path_changed)
        card.inputs.connected.connect(self.inputs_connected)
        card.inputs.pick_wanted.connect(self.input_pick_wanted)
        card.inputs.preparation_wanted.connect(self.own_preparation_wanted)
        card.inputs.going.connect(self.bench.go_to)
        if card.follow is not None:
            card.follow.chosen.connect(self.follow_chosen)
            card.follow.wanted.connect(self.anchor_wanted)
        return card

    def _show(self, card: Card | None) -> None:
        for old in self._shown:
            self._layout.removeWidget(old)
            old.hide()
            old.deleteLater()
        self.card, self._shown = card, []
        if card is None:
            return
        card.header.closed.connect(self.bench.close_card)
        area = scrolled(card)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._shown = [card.header, area]
        self._layout.addWidget(card.header)
        self._layout.addWidget(area, 1)

    def _bring_up_to_date(self) -> None:
        step_card, row, shown = self.step_card, self.bench.row, self.bench.shown
        if step_card is not None:
            step_id = step_card.step.id
            step_card.show_plan()
            step_card.show_result(
                shown.result.steps.get(step_id) if shown else None,
                shown.evidence.get(step_id) if shown else None,
            )
        if isinstance(self.card, RowCard) and row is not None:
            evaluated = shown.result.characteristics if shown else ()
            found = next((j for j in evaluated if j.balloon == row.balloon), None)
            self.card.show_evaluated(found, row, shown, weaknesses(self.bench.document.plan, row))
            self.card.header.aside.setText(self.card.step_card.header.aside.text())
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The strip."""
        super().paintEvent(event)
        if self.card is not None:
            painter = QPainter(self)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour(self.card.header.tint))
            painter.drawRoundedRect(QRectF(1, 1, STRIP, self.height() - 2), 2.5, 2.5)
            painter.end()
