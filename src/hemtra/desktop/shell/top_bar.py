"""The band across the top: all commands, the workspaces, what is open, command search, help."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QToolButton


class TopBar(QFrame):
    """Shows where one is; what is clicked in it is an action by its id."""

    workspace_chosen = Signal(str)

    def __init__(
        self,
        workspaces: tuple[str, ...],
        trigger: Callable[[str], None],
        fill_menu: Callable[[QMenu], None],
    ) -> None:
        super().__init__()
        self.setObjectName("band")
        self.setFixedHeight(44)
        brand = QToolButton()
        brand.setObjectName("brand")
        brand.setText("Hemtra")
        brand.setToolTip("All commands")
        brand.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._menu = QMenu(brand)
        self._menu.aboutToShow.connect(lambda: fill_menu(self._menu))
        brand.setMenu(self._menu)
        self.tabs = {name: self._make_tab(name) for name in workspaces}
        self._title = QLabel()
        self.search = QPushButton("Find a command   Ctrl+K")
        self.search.setObjectName("search")
        self.search.clicked.connect(lambda: trigger("help.search"))
        self.unit = QPushButton("mm")
        self.unit.setObjectName("help")
        self.unit.clicked.connect(lambda: trigger("view.unit"))
        help_button = QPushButton("?")
        help_button.setObjectName("help")
        help_button.setFixedWidth(28)
        help_button.setToolTip("Shortcuts and symbols")
        help_button.clicked.connect(lambda: trigger("help.keys"))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 0, 14, 0)
        layout.setSpacing(16)
        layout.addWidget(brand)
        for tab in self.tabs.values():
            layout.addWidget(tab)
        layout.addStretch(1)
        layout.addWidget(self._title)
        layout.addStretch(1)
        for widget in (self.search, self.unit, help_button):
            layout.addWidget(widget)

    def show_open(self, workspace: str, name: str, place: str, *, unsaved: bool) -> None:
        """Show the workspace one is in, and the name and place of what is open there."""
        for tab_name, tab in self.tabs.items():
            tab.setChecked(tab_name == workspace)
        self._title.setText(f"{name} {'•' if unsaved else ''}".strip())
        dot = ". The dot: there are unsaved changes." if unsaved else ""
        self._title.setToolTip(f"{place}{dot}")

    def lock(self, closed: set[str], *, searches: bool) -> None:
        """Close workspaces while editing is locked; searches: whether commands may be searched."""
        for name, tab in self.tabs.items():
            tab.setEnabled(name not in closed)
        self.search.setEnabled(searches)

    def show_unit(self, name: str) -> None:
        """Show the unit of lengths, which a click changes."""
        self.unit.setText(name)
        self.unit.setToolTip("Millimetres or inches for display; files and limits stay in millimetres.")

    def _make_tab(self, name: str) -> QPushButton:
        tab = QPushButton(name.capitalize())
        tab.setObjectName("workspaceTab")
        tab.setCheckable(True)
        tab.setFixedHeight(28)
        tab.clicked.connect(lambda: self.workspace_chosen.emit(name))
        return tab
