"""The manual in a window of its own, at the page for what has the focus."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from PySide6.QtCore import QUrl, Slot
from PySide6.QtGui import QImage, QTextCursor, QTextDocument
from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QTextBrowser, QWidget

import hemtra

START = "index.md"
PAGES = (
    (START, "Start"),
    ("install.md", "Install Hemtra"),
    ("station.md", "Set up a station"),
    ("plan.md", "Make a plan"),
    ("measure-heights.md", "Heights, steps, surfaces"),
    ("measure-edges.md", "Holes, edges, distances"),
    ("measure-paths.md", "Beads and seams"),
    ("measure-profiles.md", "Profile sequences"),
    ("line.md", "Run a line"),
    ("look-back.md", "Review records"),
    ("signals.md", "Connect outputs"),
    ("python.md", "Use Hemtra from Python"),
    ("trouble.md", "When something fails"),
    ("glossary.md", "Glossary"),
    ("records.md", "Records"),
    ("accuracy.md", "Accuracy"),
    ("performance.md", "Performance"),
)
"""Pages in the list at the left; the others are reached by links."""
ASKED_BY = "manual"
"""Property of a widget that names its page, maybe with a “#” and the heading."""


def manual_folder() -> Path:
    """Folder of the pages: in the package, or in the checkout it runs from."""
    package = Path(hemtra.__file__).parent
    shipped = package / "manual"
    return shipped if shipped.is_dir() else package.parents[1] / "docs"


def page_for(focused: QWidget | None, otherwise: str) -> str:
    """Page of a widget, or of the one that contains it."""
    while focused is not None:
        wanted = focused.property(ASKED_BY)
        if wanted:
            return str(wanted)
        focused = focused.parentWidget()
    return otherwise


def slug(heading: str) -> str:
    """A heading as it is named in links."""
    return re.sub(r"[^\w]+", "-", heading.lower()).strip("-")


class _Page(QTextBrowser):
    """A page; pictures take the width available."""

    def loadResource(self, kind: int, name: QUrl | str) -> Any:
        """Pictures no wider than the page."""
        found = super().loadResource(kind, name)
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return found
        picture = QImage(str(Path(self.source().toLocalFile()).parent / QUrl(name).path()))
        room = self.viewport().width() - 40
        return picture if picture.isNull() or picture.width() <= room else picture.scaledToWidth(room)


class Manual(QDialog):
    """The pages beside a list of them."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self.setWindowTitle("Manual")
        self.resize(1000, 720)
        self.pages, self.page = QListWidget(), _Page()
        self.pages.setAccessibleName("Pages of the manual")
        self.pages.setFixedWidth(210)
        for name, title in PAGES:
            item = QListWidgetItem(title)
            item.setToolTip(name)
            self.pages.addItem(item)
        self.page.setOpenExternalLinks(True)
        self.page.document().setDocumentMargin(18)
        self.pages.itemClicked.connect(self._chosen)
        self.page.sourceChanged.connect(self._moved)
        layout = QHBoxLayout(self)
        layout.addWidget(self.pages)
        layout.addWidget(self.page, 1)

    def open_at(self, wanted: str) -> None:
        """Show a page, at a heading where one is named after “#”."""
        name, _, heading = wanted.partition("#")
        url = QUrl.fromLocalFile(str(manual_folder() / name))
        self.page.setSource(url, QTextDocument.ResourceType.MarkdownResource)
        self._go_to(heading)
        self.show()
        self.raise_()

    def _go_to(self, heading: str) -> None:
        block = self.page.document().begin()
        while heading and block.isValid():
            if block.blockFormat().headingLevel() and slug(block.text()) == heading:
                # from the end upward, so that the heading comes to stand at the top
                self.page.moveCursor(QTextCursor.MoveOperation.End)
                self.page.setTextCursor(QTextCursor(block))
                self.page.ensureCursorVisible()
                return
            block = block.next()

    @Slot(QListWidgetItem)
    def _chosen(self, item: QListWidgetItem) -> None:
        self.open_at(item.toolTip())

    @Slot(QUrl)
    def _moved(self, url: QUrl) -> None:
        """A link was followed, or a page chosen."""
        names = [name for name, _ in PAGES]
        shown = url.fileName()
        self.pages.setCurrentRow(names.index(shown) if shown in names else -1)
        if url.hasFragment():
            self._go_to(url.fragment())
