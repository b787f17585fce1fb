"""The card of the scan: where the data came from."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QLabel

from hemtra.core.maps.scan import Scan
from hemtra.core.text import percent
from hemtra.desktop.plan.panels.cards.card import Card, form_layout, muted
from hemtra.desktop.widgets import units


class ScanCard(Card):
    """Size, spacing and station of a scan."""

    def __init__(self, scan: Scan) -> None:
        super().__init__("Scan", "scan", "muted")
        self.header.aside.setText(Path(scan.name).stem)
        rows, cols = scan.data.shape
        grid = scan.data.grid
        facts = {
            "points": f"{cols} × {rows}",
            "spacing x": units.text(f"{grid.dx:.3f} mm"),
            "spacing y": units.text(f"{grid.dy:.3f} mm"),
            "no data": units.signed(percent(1 - scan.data.data_share, 1)),
            "station": str(scan.station.get("name", "unknown")),
        }
        form = form_layout()
        for line, (label, text) in enumerate(facts.items()):
            form.addWidget(muted(label), line, 0)
            form.addWidget(QLabel(text), line, 1)
        self.body.addLayout(form)
        self.body.addStretch()
