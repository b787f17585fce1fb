"""The lineage: the chain from the scan to one characteristic as a line of chips; a click opens a card."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QPointF, QRect, QSize, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QFrame, QLabel, QSizePolicy, QWidget

from hemtra.core.edits.anchors import followers
from hemtra.core.evaluation.results import StepResult
from hemtra.core.plan.document import Step
from hemtra.core.plan.graph import dependants, effective, preparation
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import ROW, SCAN, WorkspaceModel
from hemtra.desktop.plan.panels.chip import FOLDED, HEIGHT, Chip, Link, in_rows, spans
from hemtra.desktop.widgets import theme, units

GAP = 10
"""Gap between chips for the connectors, pixels."""
EDGE, TOP = 8, 4
LANE, MOST_LANES = 4, 3
"""Distance between lanes below the chips, pixels, and their number."""
BELOW = LANE * MOST_LANES
LIMITS = (1e6, 180.0, 150.0, 130.0, 110.0, 95.0, 80.0, 60.0)
"""Widths of a name before it is broken, tried in turn until the line fits, pixels."""
TINTS = {"PASS": "passed", "FAIL": "failed"}


class Lineage(QFrame):
    """The lineage of the selected characteristic.

    Chips stand from the data to the number. What follows from the chip before is joined to it directly; other
    branches run in lanes below.
    """

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Lineage of the selected characteristic")
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.bench = bench
        self.chips: dict[str, Chip] = {}
        self._joined: list[tuple[int, int]] = []
        """Places in the line of what is joined."""
        self._painted: tuple[list[object], list[tuple[int, int]]] = [], []
        self._hint = QLabel(self)
        self._hint.setObjectName("muted")
        self._hint.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        for changed in (
            bench.document.changed,
            bench.selection_changed,
            bench.shown_changed,
            bench.tray.current_changed,
        ):
            changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Take the latest lineage, results and selection."""
        links = self._links()
        if list(self.chips) != [link.id for link in links]:
            for chip in self.chips.values():
                chip.hide()
                chip.deleteLater()
            self.chips = {link.id: self._chip(link) for link in links}
        card, selected = self.bench.card, self.bench.selected_step
        row = self.bench.row
        if row is not None and selected == row.step:
            selected = ROW
        for link in links:
            self.chips[link.id].show_link(link, chosen=link.id == selected, opened=link.id == card)
        self._joined = self._joins(links)
        self._hint.setVisible(not links)
        self._hint.setText(self._what_to_do())
        self._place()

    def _what_to_do(self) -> str:
        if self.bench.row is not None and not self.bench.lineage():
            return "No feature assigned. Press N, choose a type, click the part."
        return "Select a characteristic in the sheet to see where its number comes from."

    def _chip(self, link: Link) -> Chip:
        chip = Chip(self)
        chip.clicked.connect(partial(self._toggle, link.id))
        chip.show()
        return chip

    def _toggle(self, link: str) -> None:
        if self.bench.card == link:
            self.bench.close_card()
        else:
            self.bench.open_card(link)

    # -- what the chips show ----------------------------------------------------------------------

    def _links(self) -> list[Link]:
        row, part, columns = self.bench.row, self.bench.tray.current, self.bench.lineage()
        if part is None or not columns:
            return []
        scan = Link(SCAN, "Scan", "scan", "muted", (Path(part.scan.name).stem,))
        steps = [step for column in columns[:-1] for step in column]
        last = columns[-1][0]
        end = self._step_link(last) if row is None else self._row_link(last)
        return [scan, *map(self._step_link, steps), end]

    def _step_link(self, step: Step) -> Link:
        plan, shown = self.bench.document.shown, self.bench.shown
        kind = kind_named(step.kind)
        users = len(dependants(plan, step.id))
        anchors = bool(followers(plan, step.id)) or step.kind == "plane"
        found = shown.result.steps.get(step.id) if shown else None
        return Link(
            step.id,
            step.name,
            kind.glyph,
            "anchor" if anchors else "copper",
            _values(found, users),
            "unmeasured" if found is not None and found.outcome is None else "muted",
            units.text(found.reason) if found is not None and found.outcome is None else "",
        )

    def _row_link(self, last: Step) -> Link:
        row, shown = self.bench.row, self.bench.shown
        assert row is not None
        kind = kind_named(last.kind)
        evaluated = (
            next((j for j in shown.result.characteristics if j.balloon == row.balloon), None) if shown else None
        )
        if evaluated is None:
            return Link(ROW, kind.title, kind.glyph, "ink")
        evaluated = units.result(evaluated)
        tint = TINTS.get(evaluated.verdict, "unmeasured")
        value = units.value(evaluated, evaluated.decimals)
        text = (
            f"{value}  {evaluated.verdict}"
            if evaluated.value is not None or evaluated.text
            else str(evaluated.verdict)
        )
        return Link(ROW, kind.title, kind.glyph, tint, (text,), tint, evaluated.reason)

    def _joins(self, links: list[Link]) -> list[tuple[int, int]]:
        """Places in the line of each chip and of those that use it."""
        places = {link.id: place for place, link in enumerate(links)}
        subject = self.bench.subject
        if subject is None or not links:
            return []
        wired = effective(self.bench.document.shown)
        places.setdefault(subject, len(links) - 1)
        joined, prepared = [], self._prepared()
        for step_id, target in places.items():
            if step_id not in wired:
                continue
            sources = [i for i in wired[step_id].needs if i in places]
            # all data is prepared alike, so only what has no other source follows from the preparation
            drawn = [i for i in sources if i not in prepared] or sources
            joined += [(places[i], target) for i in drawn] or [(0, target)]
        return joined

    def _prepared(self) -> set[str]:
        return {step.id for step in preparation(self.bench.document.shown)}

    # -- where they stand -------------------------------------------------------------------------

    def _place(self) -> None:
        """In one line: names are broken, then the first chips folded, until it fits; else in several.

        The preparation belongs to the whole plan, so its chips are folded when another link is shown.
        """
        chips, room = list(self.chips.values()), self.width() - 2 * EDGE
        prepared = self._prepared()
        folded = {k for k, i in enumerate(list(self.chips)[:-1]) if i in prepared}
        widths: list[int] = []
        for limit in LIMITS:
            widths = [FOLDED if k in folded else chip.width_within(limit) for k, chip in enumerate(chips)]
            if sum(widths) + GAP * (len(chips) - 1) <= room:
                break
        for place in range(len(chips) - 1):
            if sum(widths) + GAP * (len(chips) - 1) <= room:
                break
            widths[place] = FOLDED
            folded.add(place)
        for place, chip in enumerate(chips):
            chip.arrange(None if place in folded else limit)
        rows = in_rows(widths, room, GAP)
        for number, members in enumerate(rows):
            x = EDGE
            for place in members:
                chips[place].setGeometry(QRect(x, TOP + number * (HEIGHT + BELOW), widths[place], HEIGHT))
                x += widths[place] + GAP
        self._hint.setGeometry(EDGE + 4, TOP, self.width() - 2 * EDGE - 8, HEIGHT + BELOW)
        height = 2 * TOP - 2 + len(rows) * (HEIGHT + BELOW)
        if height != self.height():
            self.setFixedHeight(height)
        joined = [chip.geometry().getRect() for chip in chips], self._joined
        if joined != self._painted:
            self._painted = joined
            self.update()

    def sizeHint(self) -> QSize:
        """A line between chips."""
        return QSize(400, 2 * TOP - 2 + HEIGHT + BELOW)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Fit into another width."""
        self._place()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Connections of the chips: short lines between neighbours, lanes below for the others."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("muted"), 1.2))
        painter.setBrush(theme.colour("muted"))
        boxes = [chip.geometry() for chip in self.chips.values()]
        lanes = spans(self._joined)
        for source, target in self._joined:
            a, b = boxes[source], boxes[target]
            if target == source + 1 and a.top() == b.top():
                painter.drawLine(a.right() + 2, a.center().y(), b.left() - 2, b.center().y())
                continue
            lane = a.bottom() + 1 + LANE * (1 + lanes.get(source, 0) % MOST_LANES)
            start, end = a.left() + 20, b.left() + 12
            up = QPointF(end, b.bottom() + 2)
            painter.drawPolyline(QPolygonF([QPointF(start, a.bottom() + 1), QPointF(start, lane)]))
            painter.drawPolyline(QPolygonF([QPointF(start, lane), QPointF(end, lane), up]))
            painter.drawPolygon(QPolygonF([up, up + QPointF(-3, 4), up + QPointF(3, 4)]))
        painter.end()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right go along the line."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        chips = list(self.chips.values())
        at = next((k for k, chip in enumerate(chips) if chip.hasFocus()), None)
        if step is None or at is None:
            super().keyPressEvent(event)
        else:
            chips[min(max(at + step, 0), len(chips) - 1)].setFocus(Qt.FocusReason.TabFocusReason)


def _values(found: StepResult | None, users: int) -> tuple[str, ...]:
    """Result of a step, from the longest wording to the shortest."""
    if found is None:
        return ()
    if found.outcome is None:
        return ("not measured",)
    label, text = found.outcome.facts[0] if found.outcome.facts else ("", "")
    text = units.text(text)
    hangs_on = f"for {users}" if users > 1 else ""
    full = " · ".join(part for part in (f"{label} {text}".strip(), hangs_on) if part)
    return tuple(dict.fromkeys((full, f"{label} {text}".strip(), text))) if text else (full,)
