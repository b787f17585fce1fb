"""Every colour, font and measure of the desktop."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QApplication

from hemtra.core.plan.limits import Verdict

RESOURCES = files("hemtra.desktop") / "resources"
ARROW = str(RESOURCES / "arrow.svg")
"""Colour of a field with choices; its grey is visible on light and dark."""


@dataclass(frozen=True)
class Theme:
    """A set of colours; the dark one is a swap of values, nothing else."""

    paper: str
    fog: str
    line: str
    ink: str
    muted: str
    spruce: str
    on_spruce: str
    copper: str
    copper_wash: str
    anchor: str
    passed: str
    passed_wash: str
    failed: str
    failed_wash: str
    unmeasured: str
    field: str
    edge: str
    """Border of fields and boxes, so that they are visible."""
    stage: str
    stage_ink: str


LIGHT = Theme(
    paper="#FBFAF6",
    fog="#ECEFEB",
    line="#D3D9D2",
    ink="#1C2A28",
    muted="#586560",
    spruce="#17403A",
    on_spruce="#F2F5F0",
    copper="#98501F",
    copper_wash="#F4E6DB",
    anchor="#2B5C9E",
    passed="#1A7349",
    passed_wash="#BFDFCF",
    failed="#B4332A",
    failed_wash="#F7E3DF",
    unmeasured="#6B5D8A",
    field="#F1F3EF",
    edge="#87938E",
    stage="#232C2B",
    stage_ink="#DFE6E1",
)
DARK = Theme(
    paper="#202826",
    fog="#171D1C",
    line="#3A4643",
    ink="#E6ECE8",
    muted="#A3B1AC",
    spruce="#0F2C28",
    on_spruce="#E6ECE8",
    copper="#DD8A51",
    copper_wash="#3A2C22",
    anchor="#7FA8E0",
    passed="#4DBB8A",
    passed_wash="#2C4A3D",
    failed="#EF7E71",
    failed_wash="#47292A",
    unmeasured="#AC9DD0",
    field="#2A3431",
    edge="#71807B",
    stage="#111615",
    stage_ink="#DFE6E1",
)

_current = LIGHT


def current() -> Theme:
    """The theme in use."""
    return _current


def use(theme: Theme) -> None:
    """Switch; views take the colours when they next paint."""
    global _current
    _current = theme


@contextmanager
def undressed() -> Iterator[None]:
    """Without the style sheet meanwhile.

    While a window is put together, each widget that gets a parent is styled anew with all that it holds.
    """
    application = QApplication.instance()
    assert isinstance(application, QApplication)
    worn = application.styleSheet()
    application.setStyleSheet("")
    try:
        yield
    finally:
        application.setStyleSheet(worn)


def colour(name: str, alpha: int = 255) -> QColor:
    """A colour of the theme by its name."""
    found = QColor(getattr(_current, name))
    found.setAlpha(alpha)
    return found


def verdict_colour(verdict: Verdict) -> QColor:
    """The colour of a verdict; never its only sign."""
    return colour({Verdict.PASS: "passed", Verdict.FAIL: "failed"}.get(verdict, "unmeasured"))


def load_fonts() -> None:
    """Make B612 known to Qt."""
    for entry in (RESOURCES / "fonts").iterdir():
        if entry.name.endswith(".otf"):
            QFontDatabase.addApplicationFontFromData(QByteArray(entry.read_bytes()))


def font(pixels: int = 13, *, bold: bool = False) -> QFont:
    """The text font; its digits all have one width."""
    found = QFont("B612")
    found.setPixelSize(pixels)
    found.setBold(bold)
    return found


@cache
def glyph(name: str, ink: str, size: int = 16) -> QPixmap:
    """A line glyph in a colour, for screens of up to double density."""
    svg = (RESOURCES / "glyphs" / f"{name}.svg").read_text().replace("#000", ink)
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(svg.encode())).render(painter, QRectF(0, 0, size * 2, size * 2))
    painter.end()
    pixmap.setDevicePixelRatio(2.0)
    return pixmap


def stylesheet() -> str:
    """The Qt style sheet of the theme in use."""
    t = _current
    return f"""
* {{ font-family: B612; font-size: 13px; color: {t.ink}; }}
#mainWindow, #workspace {{ background: {t.fog}; }}
#panel {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: 6px; }}
#panel:focus {{ border-color: {t.copper}; }}
#band {{ background: {t.spruce}; }}
#band QLabel, #band QToolButton, #band QPushButton {{ color: {t.on_spruce}; background: transparent;
    border: none; }}
#band #brand {{ font-size: 15px; font-weight: bold; padding: 4px 8px; border-radius: 4px; }}
#band #brand:hover, #band #brand:focus, #band #help:hover, #band #help:focus {{
    background: rgba(255, 255, 255, 30); }}
#band #brand::menu-indicator {{ image: none; }}
#band #workspaceTab {{ border-radius: 13px; padding: 0 20px; }}
#band #workspaceTab:hover, #band #workspaceTab:focus {{ background: rgba(255, 255, 255, 30); }}
#band #workspaceTab:checked {{ background: {t.on_spruce}; color: {t.spruce}; font-weight: bold; }}
#band #search {{ background: rgba(255, 255, 255, 26); border-radius: 12px; padding: 5px 14px;
    text-align: left; }}
#band #search:hover, #band #search:focus {{ background: rgba(255, 255, 255, 50); }}
#band #brand:focus, #band #help:focus, #band #search:focus {{
    border: 1px solid {t.on_spruce}; }}
#band #workspaceTab:focus {{ border: 2px solid {t.on_spruce}; padding: 0 18px; }}
#band #workspaceTab:checked:focus {{ border-color: {t.copper}; }}
QSplitter::handle {{ background: transparent; image: none; }}
#stageTools {{ background: rgba(16, 22, 21, 215); border-radius: 5px; }}
#stageTools QPushButton {{ color: {t.stage_ink}; background: transparent; border: none; border-radius: 4px;
    padding: 3px 10px; font-size: 12px; }}
#stageTools QPushButton:focus {{ border: 1px solid {t.stage_ink}; padding: 2px 9px; }}
#stageTools QPushButton:checked {{ background: {t.stage_ink}; color: {t.stage}; }}
#heading {{ font-size: 14px; font-weight: bold; }}
#asked {{ font-size: 21px; font-weight: bold; }}
#muted {{ color: {t.muted}; }}
#action {{ color: {t.copper}; font-weight: bold; border: 1px solid transparent; background: transparent;
    text-align: left; padding: 3px; border-radius: 4px; }}
#action[small="true"] {{ font-size: 12px; padding: 1px 3px; }}
#action:hover, #action:focus {{ background: {t.copper_wash}; }}
#action:focus {{ border-color: {t.copper}; }}
#action:disabled {{ color: {t.muted}; }}
#pageTab {{ border: none; border-bottom: 2px solid transparent; border-radius: 0; background: transparent;
    color: {t.muted}; padding: 3px 8px; font-weight: bold; }}
#pageTab:hover, #pageTab:focus {{ color: {t.ink}; }}
#pageTab:focus {{ border-bottom-color: {t.edge}; }}
#pageTab:checked:focus {{ background: {t.copper_wash}; }}
#pageTab:checked {{ color: {t.ink}; border-bottom-color: {t.copper}; }}
#primary {{ background: {t.copper}; color: {t.paper}; border: none; border-radius: 5px; padding: 8px 20px;
    font-weight: bold; }}
#primary:hover, #primary:focus {{ border: 2px solid {t.ink}; padding: 6px 18px; }}
#primary:disabled {{ background: {t.fog}; color: {t.muted}; }}
QSlider::groove:horizontal {{ height: 4px; background: {t.line}; border-radius: 2px; }}
QSlider::handle:horizontal {{ width: 12px; margin: -5px 0; border-radius: 6px; background: {t.copper}; }}
QSlider::handle:horizontal:focus {{ background: {t.ink}; }}
#secondary {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: 5px; padding: 8px 16px; }}
#secondary:hover, #secondary:focus {{ border-color: {t.copper}; }}
QLineEdit, QComboBox {{ background: {t.field}; border: 1px solid {t.edge};
    border-radius: 3px; padding: 2px 6px; selection-background-color: {t.copper};
    placeholder-text-color: {t.muted}; }}
QLineEdit[small="true"] {{ font-size: 12px; padding: 2px 3px; }}
#card QLineEdit, #card QComboBox {{ padding: 0 5px; min-height: 20px; max-height: 20px; }}
QLineEdit:focus, QComboBox:focus {{ border-color: {t.copper}; background: {t.paper}; }}
QLineEdit[wrong="true"] {{ border-color: {t.failed}; background: {t.failed_wash}; }}
QComboBox::drop-down {{ border: none; width: 18px; }}
QComboBox::down-arrow {{ image: url({ARROW}); width: 9px; height: 9px; }}
QCheckBox:focus, QRadioButton:focus {{ color: {t.copper}; }}
QComboBox QAbstractItemView {{ background: {t.paper}; border: 1px solid {t.line};
    selection-background-color: {t.copper_wash}; selection-color: {t.ink}; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
QScrollBar:vertical {{ width: 8px; background: transparent; }}
QScrollBar:horizontal {{ height: 8px; background: transparent; }}
QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-width: 24px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QMenu {{ background: {t.paper}; border: 1px solid {t.line}; padding: 4px; }}
QMenu::item {{ padding: 5px 24px 5px 12px; border-radius: 3px; }}
QMenu::item:selected {{ background: {t.copper_wash}; }}
QMenu::item:disabled {{ color: {t.muted}; }}
QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 8px; }}
QToolTip {{ background: {t.ink}; color: {t.paper}; border: none; padding: 4px 6px; }}
#messageBar {{ background: {t.failed_wash}; border-left: 4px solid {t.failed}; }}
#messageBar[severity="info"] {{ background: {t.copper_wash}; border-left-color: {t.copper}; }}
#dialog {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: 6px; }}
#plainList, #plainTable {{ background: {t.paper}; border: none; outline: none;
    selection-background-color: {t.copper_wash}; selection-color: {t.ink}; }}
#plainTable QHeaderView::section {{ background: {t.paper}; color: {t.muted}; border: none;
    border-bottom: 1px solid {t.line}; padding: 4px 6px; font-size: 12px; }}
#plainTable::item {{ padding: 0 6px; border: none; }}
#plainList:focus, #plainTable:focus {{ border: 1px solid {t.copper}; border-radius: 4px; }}
QTableCornerButton::section {{ background: {t.paper}; border: none; }}
QListWidget {{ background: {t.paper}; border: none; outline: none; }}
QListWidget::item {{ padding: 5px 8px; border-radius: 3px; }}
QListWidget::item:selected {{ background: {t.copper_wash}; color: {t.ink}; }}
QProgressBar {{ background: {t.line}; border: none; border-radius: 3px; height: 6px; }}
QProgressBar::chunk {{ background: {t.copper}; border-radius: 3px; }}
"""
