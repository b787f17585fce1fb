"""What the stage shows before there is anything: the next steps."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

STEPS = (
    ("1", "Record a few parts", "good ones and bad ones, as X3P or float TIFF, and put them in the tray"),
    ("2", "Say what the drawing asks for", "press N, click the data; zone, nominal and limits are proposed"),
    ("3", "See every part judged", "each change is tried on all parts of the tray at once"),
)


class EmptyState(QFrame):
    """Offers the demo, a plan, or scans."""

    def __init__(self, trigger: Callable[[str], None], recent: list[str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        heading = QLabel("Measure a part from its scan")
        heading.setStyleSheet("font-size: 22px; font-weight: bold;")
        layout = QVBoxLayout(self)
        layout.addStretch(2)
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
            link = QPushButton(path)
            link.setObjectName("action")
            link.setToolTip("Open this plan again.")
            link.clicked.connect(lambda _=False, wanted=path: trigger(f"recent:{wanted}"))
            layout.addWidget(link, alignment=Qt.AlignmentFlag.AlignHCenter)
        layout.addStretch(3)
