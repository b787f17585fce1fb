"""The lineage: the chain from the scan to one characteristic as cards, each with its parameters in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QPoint, QPointF, QTimer, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.edits.anchors import followers
from hemtra.core.plan.document import Characteristic, Step
from hemtra.core.plan.graph import dependants, effective
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.cards import ResultCard, ScanCard, StepCard
from hemtra.desktop.plan.panels.input_buttons import InputButtons
from hemtra.desktop.widgets import theme

GAP = 18
"""Pixels between columns, for the connectors."""


class Chain(QWidget):
    """Columns of cards with connectors painted between them."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[tuple[QWidget, QWidget]] = []

    def paintEvent(self, event: QPaintEvent) -> None:
        """Curves from each card to those that use it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("muted"), 1.2))
        for source, target in self.links:
            a = QPointF(source.mapTo(self, source.rect().topRight()).x() + 2, _middle(source, self))
            b = QPointF(target.mapTo(self, target.rect().topLeft()).x() - 3, _middle(target, self))
            path = QPainterPath(a)
            reach = max(16.0, (b.x() - a.x()) / 2)
            path.cubicTo(a + QPointF(reach, 0), b - QPointF(reach, 0), b)
            painter.drawPath(path)
            painter.drawLine(b, b + QPointF(-5, -3))
            painter.drawLine(b, b + QPointF(-5, 3))
        painter.end()


def _middle(card: QWidget, chain: QWidget) -> float:
    return card.mapTo(chain, card.rect().center()).y()


class Lineage(QFrame):
    """The lineage of the selected characteristic."""

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

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Lineage of the selected characteristic")
        self.bench = bench
        self.cards: dict[str, StepCard] = {}
        self.result_card: ResultCard | None = None
        self._built_for: object = None
        self._revealed: object = None
        self._heading = QLabel()
        self._heading.setObjectName("heading")
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 7, 6, 4)
        layout.setSpacing(2)
        layout.addWidget(self._heading)
        layout.addWidget(self._scroll, 1)
        for changed in (
            bench.document.changed,
            bench.selection_changed,
            bench.node_changed,
            bench.shown_changed,
            bench.tray.current_changed,
        ):
            changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Rebuild the cards when the chain itself changed, otherwise bring them up to date."""
        row, part = self.bench.row, self.bench.tray.current
        columns = self.bench.lineage()
        # zones change while they are dragged, and change no card
        wanted = (
            row and row.balloon,
            id(part.scan) if part else None,
            tuple(
                tuple((s.id, s.name, s.kind, str(s.params), str(s.inputs), s.follow) for s in column)
                for column in columns
            ),
        )
        if wanted != self._built_for:
            self._built_for = wanted
            self._rebuild(row, columns)
        shown = self.bench.shown
        for step_id, card in self.cards.items():
            result = shown.result.steps.get(step_id) if shown else None
            evidence = shown.evidence.get(step_id) if shown else None
            card.show_result(result, evidence, selected=step_id == self.bench.selected_step)
            zone = self.bench.document.shown.step(step_id).zone
            if card.numbers is not None and zone is not None:
                card.numbers.show_zone(zone)
            card.inputs.show_plan(self.bench.document.shown)
            if card.follow is not None:
                card.follow.show_plan(self.bench.document.shown)
        selected = (wanted[0], self.bench.selected_step)
        if selected != self._revealed:
            self._revealed = selected
            # once the cards have their places
            QTimer.singleShot(0, self, self._reveal)
        if self.result_card is not None and row is not None:
            if self.result_card.inputs is not None:
                self.result_card.inputs.show_plan(self.bench.document.shown)
            judged = shown.result.characteristics if shown else ()
            found = next((j for j in judged if j.balloon == row.balloon), None)
            self.result_card.show_judged(found, row, shown)

    def _reveal(self) -> None:
        """Scroll so that the end of the chain and, before that, the selected step are seen."""
        if self.result_card is not None:
            self._scroll.ensureWidgetVisible(self.result_card, 0, 0)
        card = self.cards.get(self.bench.selected_step or "")
        if card is not None:
            self._scroll.ensureWidgetVisible(card, GAP, 0)

    def rebuild(self) -> None:
        """Make the cards anew, so that fields show what holds."""
        self._built_for = None
        self.refresh()

    def _rebuild(self, row: Characteristic | None, columns: tuple[tuple[Step, ...], ...]) -> None:
        self.cards, self.result_card = {}, None
        self._heading.setText("Lineage" if row is None else f"Lineage of {row.balloon} {row.name}")
        chain = Chain()
        layout = QHBoxLayout(chain)
        layout.setContentsMargins(2, 2, 8, 2)
        layout.setSpacing(GAP)
        part = self.bench.tray.current
        if row is None or part is None or not columns:
            text = "Select a characteristic in the sheet to see where its number comes from."
            if row is not None and not columns:
                text = "No feature assigned. Press N, choose a type, click the part."
            hint = QLabel(text)
            hint.setObjectName("muted")
            layout.addWidget(hint)
            layout.addStretch()
            self._replace(chain)
            return
        scan_card = ScanCard(part.scan)
        self._add_column(layout, [scan_card])
        for column in columns[:-1]:
            self._add_column(layout, [self._step_card(step) for step in column])
        last = columns[-1][0]
        kind = kind_named(last.kind).model_validate(last.params)
        own = None if kind.shown_settings() else last
        self.result_card = ResultCard(row, kind, own)
        if self.result_card.inputs is not None:
            self._connect_inputs(self.result_card.inputs)
        self.result_card.row_typed.connect(self.row_typed)
        self.result_card.menu_wanted.connect(self.menu_wanted)
        self.result_card.tolerance_typed.connect(self.tolerance_typed)
        if kind.shown_settings():
            self._add_column(layout, [self._step_card(last, always_open=True)])
        self._add_column(layout, [self.result_card])
        layout.addStretch()
        chain.links = self._links(scan_card, last)
        self._replace(chain)

    def _links(self, scan_card: QWidget, last: Step) -> list[tuple[QWidget, QWidget]]:
        links: list[tuple[QWidget, QWidget]] = []
        wired = effective(self.bench.document.shown)
        for step_id, card in self.cards.items():
            links += [(self.cards[source], card) for source in wired[step_id].needs]
            if not wired[step_id].needs:
                links.append((scan_card, card))
        if self.result_card is not None:
            sources = [last.id] if last.id in self.cards else last.needs
            links += [(self.cards[source], self.result_card) for source in sources]
        return links

    def _step_card(self, step: Step, *, always_open: bool = False) -> StepCard:
        plan = self.bench.document.shown
        kind = kind_named(step.kind).model_validate(step.params)
        moving = followers(plan, step.id)
        users = len(dependants(plan, step.id))
        gives = bool(moving) or kind.kind == "plane"
        by_profile = self.bench.document.shown.by_profile is not None
        card = StepCard(
            self.bench, step, kind, users, anchors=gives, always_open=always_open, by_profile=by_profile
        )
        card.param_changed.connect(self.param_changed)
        card.params_changed.connect(self.params_changed)
        card.zone_typed.connect(self.zone_typed)
        card.rub_wanted.connect(self.rub_wanted)
        card.path_changed.connect(self.path_changed)
        card.band_typed.connect(self.band_typed)
        self._connect_inputs(card.inputs)
        if card.follow is not None:
            card.follow.chosen.connect(self.follow_chosen)
            card.follow.wanted.connect(self.anchor_wanted)
        if not always_open:
            card.clicked.connect(_call(self.bench.select_step, step.id))
        self.cards[step.id] = card
        return card

    def _connect_inputs(self, buttons: InputButtons) -> None:
        buttons.connected.connect(self.inputs_connected)
        buttons.pick_wanted.connect(self.input_pick_wanted)
        buttons.preparation_wanted.connect(self.own_preparation_wanted)
        buttons.going.connect(self.bench.go_to)

    def _add_column(self, layout: QHBoxLayout, cards: list[Any]) -> None:
        column = QVBoxLayout()
        column.setSpacing(7)
        column.addStretch()
        for card in cards:
            column.addWidget(card)
        column.addStretch()
        layout.addLayout(column)

    def _replace(self, chain: Chain) -> None:
        old = self._scroll.takeWidget()
        if old is not None:
            old.deleteLater()
        self._scroll.setWidget(chain)


def _call(function: Callable[[str], None], argument: str) -> Callable[[], None]:
    return lambda: function(argument)
