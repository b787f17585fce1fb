"""The manual: built without a broken link, and opened at the page for what has the focus."""

import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from hemtra.desktop.shell.manual import PAGES, manual_folder, slug

ROOT = Path(__file__).parents[2]


def headings(page):
    lines = (manual_folder() / page).read_text().splitlines()
    return {slug(line.lstrip("# ")) for line in lines if line.startswith("#")}


def test_it_is_built_without_a_broken_link(tmp_path):
    command = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "-d", str(tmp_path)]
    assert subprocess.run(command, cwd=ROOT, capture_output=True, text=True).returncode == 0
    assert {page.replace(".md", ".html") for page, _ in PAGES} <= {file.name for file in tmp_path.iterdir()}


def test_every_page_and_heading_that_a_widget_asks_for_is_there(window):
    asked = {str(w.property("manual")) for w in window.findChildren(QWidget) if w.property("manual")}
    asked |= {workspace.manual for workspace in window.workspaces.values()}
    assert len(asked) >= 10
    for wanted in asked | {page for page, _ in PAGES}:
        page, _, heading = wanted.partition("#")
        assert not heading or heading in headings(page), wanted


@pytest.mark.parametrize(
    ("workspace", "page", "title"),
    [
        ("station", "station.md", "Set up a station"),
        ("plan", "plan.md", "Make a plan"),
        ("run", "line.md", "Run a line"),
        ("records", "look-back.md", "Review records"),
    ],
)
def test_f1_opens_the_page_of_the_workspace(window, workspace, page, title):
    window.show_workspace(workspace)
    window.setFocus()
    QTest.keyClick(window, Qt.Key.Key_F1)
    manual = window.manual
    assert manual.isVisible()
    assert manual.page.source().toLocalFile().endswith(f"/{page}")
    assert manual.pages.currentItem().text() == title
    assert manual.page.toPlainText().startswith(title)
    manual.close()


def test_f1_opens_the_heading_about_what_has_the_focus_and_links_lead_on(demo, qtbot):
    sheet = demo.workspaces["plan"].workspace.sheet
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_F1)
    manual = demo.manual
    assert manual.page.textCursor().block().text() == "Set limits"
    manual.page.setSource("line.md")
    assert manual.pages.currentItem().text() == "Run a line"
    manual.close()
