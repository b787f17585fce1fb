"""Empty stage: the next steps."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.plan.limits import Verdict
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import draw_arrow, draw_balloon

STEPS = (
    ("1", "Record a few parts", "good ones and bad ones, as X3P or float TIFF, and put them in the tray"),
    ("2", "Add characteristics", "press N, click the data; zone, nominal and limits are proposed"),
    ("3", "See every verdict", "each change is tried on all parts of the tray at once"),
)


class Illustration(QWidget):
    """A section with a dimension and a balloon: what a characteristic looks like."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(460, 150)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The profile of a simulated part, its datum plane, used data, and a height."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        base, top = 120.0, 46.0
        pen = QPen(theme.colour("anchor"), 1.2)
        pen.setDashPattern([6, 4])
        painter.setPen(pen)
        painter.drawLine(QPointF(10, base), QPointF(450, base))
        corners = [(20, base), (110, base), (110, top), (190, top), (190, base), (330, base)]
        bead = [(330 + 3 * k, base - 34 * (1 - ((k - 10) / 10) ** 2)) for k in range(21)]
        profile = [*corners, *bead, (390, base), (440, base)]
        painter.setPen(QPen(theme.colour("ink"), 2))
        painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in profile]))
        painter.setPen(QPen(theme.colour("copper"), 4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(122, top), QPointF(178, top))
        painter.setPen(QPen(theme.colour("passed"), 1.2))
        painter.drawLine(QPointF(194, top), QPointF(226, top))
        painter.drawLine(QPointF(220, top), QPointF(220, base))
        draw_arrow(painter, QPointF(220, base), QPointF(220, top))
        draw_arrow(painter, QPointF(220, top), QPointF(220, base))
        draw_balloon(painter, QPointF(246, 72), "1", Verdict.PASS)
        painter.setFont(theme.font(15, bold=True))
        painter.drawText(QPointF(266, 78), "4.01 mm")
        painter.end()


class EmptyState(QFrame):
    """Offers the demo, a plan, or scans."""

    def __init__(
        self, trigger: Callable[[str], None], recent: list[str], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        heading = QLabel("Measure a part from its scan")
        heading.setStyleSheet("font-size: 22px; font-weight: bold;")
        layout = QVBoxLayout(self)
        layout.addStretch(2)
        layout.addWidget(Illustration(), alignment=Qt.AlignmentFlag.AlignHCenter)
        layout.addSpacing(10)
        layout.addWidget(heading, alignment=Qt.AlignmentFlag.AlignHCenter)
        layout.addSpacing(18)
        steps = QVBoxLayout()
        steps.setSpacing(10)
        for number, what, how in STEPS:
            text = QLabel(f"<b>{number}&nbsp;&nbsp; {what}</b>: {how}")
            steps.addWidget(text)
        holder = QWidget()
        holder.setLayout(steps)
        layout.addWidget(holder, alignment=Qt.AlignmentFlag.AlignHCenter)
        layout.addSpacing(22)
        buttons = QHBoxLayout()
        buttons.setSpacing(12)
        buttons.addStretch()
        for label, action, name in (
            ("Open the demo", "plan.demo", "primary"),
            ("Take the tour", "help.tour", "secondary"),
            ("Open a plan…", "plan.open", "secondary"),
            ("Add scans…", "tray.add", "secondary"),
        ):
            button = QPushButton(label)
            button.setObjectName(name)
            button.clicked.connect(lambda _=False, wanted=action: trigger(wanted))
            buttons.addWidget(button)
        buttons.addStretch()
        layout.addLayout(buttons)
        layout.addSpacing(20)
        for path in recent[:4]:
            link = QPushButton(f"{Path(path).stem}   in {Path(path).parent}")
            link.setObjectName("action")
            link.setToolTip(f"Open {path} again.")
            link.clicked.connect(lambda _=False, wanted=path: trigger(f"recent:{wanted}"))
            layout.addWidget(link, alignment=Qt.AlignmentFlag.AlignHCenter)
        layout.addStretch(3)
