"""All that Hemtra remembers of how somebody likes to work, in one form."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QLabel,
    QLineEdit,
    QWidget,
)

from hemtra.core.units import INCH, MM
from hemtra.desktop.documents.session import Session
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.path_field import path_field
from hemtra.storage.settings import LOG_LEVELS, TEXT_SIZES, settings_path
from hemtra.storage.tables import STYLES

CHOICES: Mapping[str, tuple[str, Mapping[str, str], str]] = {
    "unit": (
        "lengths",
        {MM.name: "millimetres", INCH.name: "inches"},
        "For display; files stay in millimetres.",
    ),
    "decimal_sign": (
        "numbers",
        {".": "with a point, 12.5", ",": "with a comma, 12,5"},
        "In the window; fields take both, files keep the point, and tables are chosen below.",
    ),
    "dark": ("colours", {"": "light", "dark": "dark"}, "Of the window."),
    "text_size": ("text size", {str(s): f"{s} %" for s in TEXT_SIZES}, "From the next start on."),
    "csv": ("tables", {name: style.title for name, style in STYLES.items()}, "How CSV files are written."),
    "log_level": ("log", {name: name for name in LOG_LEVELS}, "From which level on; from the next start on."),
}
"""By setting: its label, what can be chosen, and what it is for."""
TEXTS = {
    "author": ("author", "Whose name revisions of plans get; empty for the name of the computer's user.", ""),
    "folder": (
        "folder",
        "Where dialogs begin without an open plan; empty for your own.",
        "folder",
    ),
    "database": ("records", "A file, or the address of a server; empty for the usual file.", "file"),
    "cluster": ("cluster", "Where many parts are evaluated, like tcp://scheduler:8786; empty for none.", ""),
}


class SettingsWindow(QDialog):
    """Each change counts at once and is kept; there is nothing to confirm."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Settings")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setMinimumWidth(min(520, parent.width() - 40))
        self._session = session
        self.choices = {name: QComboBox() for name in CHOICES}
        self.texts = {name: QLineEdit(getattr(session.settings, name)) for name in TEXTS}
        form = QFormLayout(self)
        form.setContentsMargins(18, 16, 18, 16)
        for name, (label, known, help_text) in CHOICES.items():
            box = self.choices[name]
            for value, title in known.items():
                box.addItem(title, value)
            box.setCurrentIndex(max(0, box.findData(self._now(name))))
            box.setAccessibleName(label)
            box.setToolTip(help_text)
            box.activated.connect(lambda _, name=name: self._choose(name))
            form.addRow(label, box)
        for name, (label, help_text, kind) in TEXTS.items():
            field = self.texts[name]
            field.setAccessibleName(label)
            field.setToolTip(help_text)
            field.setPlaceholderText(help_text.partition("; ")[2].removesuffix("."))
            field.editingFinished.connect(lambda name=name: self._type(name))
            form.addRow(label, self._with_button(name, kind) if kind else field)
        self.message = QLabel(f"Kept in {settings_path()}.")
        self.message.setWordWrap(True)
        form.addRow(self.message)

    def _with_button(self, name: str, kind: str) -> QWidget:
        field = self.texts[name]

        def ask() -> str:
            if kind == "folder":
                return QFileDialog.getExistingDirectory(self, "Folder", field.text())
            return QFileDialog.getSaveFileName(
                self, "Records", field.text(), "Records (*.db)", options=ANY_FILE
            )[0]

        return path_field(field, TEXTS[name][0], ask)

    def _now(self, name: str) -> str:
        value = getattr(self._session.settings, name)
        return ("dark" if value else "") if name == "dark" else str(value)

    def _choose(self, name: str) -> None:
        value, session = self.choices[name].currentData(), self._session
        if name == "unit":
            if value != session.unit.name:
                session.change_unit()
        elif name == "decimal_sign":
            session.show_numbers(session.unit, value)
        elif name == "dark":
            use_colours(session, dark=value == "dark")
        else:
            setattr(session.settings, name, int(value) if name == "text_size" else value)
            session.plans.keep_settings()

    def _type(self, name: str) -> None:
        """Take what was typed; what cannot be is said, and the field keeps it."""
        text, settings = self.texts[name].text().strip(), self._session.settings
        wrong = _wrong(name, text)
        self.message.setText(wrong or f"Kept in {settings_path()}.")
        if wrong or text == getattr(settings, name):
            return
        setattr(settings, name, text)
        self._session.plans.keep_settings_now()
        if name == "database":
            self._session.use_records("")

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter ends a field."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()


ANY_FILE = QFileDialog.Option.DontConfirmOverwrite
"""Records that are there are used, not written over."""


def _wrong(name: str, text: str) -> str:
    """Why a text cannot be; '' where it can."""
    if name == "folder" and text and not Path(text).expanduser().is_dir():
        return f"There is no folder {text}."
    if name == "database" and text and "://" not in text and not Path(text).expanduser().parent.is_dir():
        return f"There is no folder {Path(text).parent} for the records."
    if name == "database" and "://" in text and "@" in text and ":" in text.split("://")[1].split("@")[0]:
        return "The address holds a password; leave it out, and keep it in ~/.pgpass."
    if name == "cluster" and text and ("://" not in text or "@" in text):
        return "The address of a cluster is like tcp://scheduler:8786, without a password."
    return ""


def use_colours(session: Session, *, dark: bool) -> None:
    """Paint light or dark from now on."""
    session.settings.dark = dark
    theme.use(theme.DARK if dark else theme.LIGHT)
    session.plans.keep_settings()
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    application.setStyleSheet(theme.stylesheet())
