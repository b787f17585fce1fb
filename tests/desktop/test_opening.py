"""Files open however they come: dropped, pasted as files or as a path, or named when the program starts."""

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication

from hemtra import Scan, save_plan, save_scan
from hemtra.storage.stations import save_station
from hemtra.virtual.demo import STATION
from makers import sloped, step_plan


@pytest.fixture
def files(tmp_path):
    """A plan, a station and a folder with two scans."""
    save_plan(step_plan(), tmp_path / "rise.hplan", Scan(sloped(), "reference"))
    save_station(STATION.model_copy(update={"name": "bench Z"}), tmp_path / "z.hstation")
    (tmp_path / "a b").mkdir()
    for name in ("one", "two"):
        save_scan(Scan(sloped(), name), tmp_path / f"a b/{name}.x3p")
    return tmp_path


def dropped(window, *paths):
    held = QMimeData()
    held.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    both = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    window.dropEvent(QDropEvent(QPointF(9, 9), Qt.DropAction.CopyAction, held, *both))


def names(window):
    return [part.scan.name for part in window.session.bench.tray.parts]


def test_what_is_dropped_is_opened(window, settled, files):
    dropped(window, files / "rise.hplan")
    settled(window)
    assert window.session.bench.document.plan.name == "steps"
    before = len(names(window))
    dropped(window, files / "a b")
    settled(window)
    assert len(names(window)) == before + 2
    dropped(window, files / "z.hstation")
    settled(window)
    assert window.session.station_bench.document.value.name == "bench Z"
    assert window.session.shown == "station"


@pytest.mark.parametrize("form", ["{}", '"{}"', "  {}  \nno path", "file://{}"])
def test_a_path_that_was_copied_is_pasted(window, settled, files, form):
    QApplication.clipboard().setText(form.format(files / "a b" / "one.x3p"))
    assert window.actions_by_id["file.paste"].enabled()
    window.trigger("file.paste")
    settled(window)
    assert len(names(window)) == 1


def test_text_that_is_no_path_opens_nothing(window, settled, files):
    for text in ("", "12.5", "one.x3p", "/no/such/file.x3p", "/\0", "/" + "x" * 5000):
        QApplication.clipboard().setText(text)
        assert not window.actions_by_id["file.paste"].enabled(), text[:20]
    QApplication.clipboard().clear()
    assert not window.actions_by_id["file.paste"].enabled()


def test_files_that_were_copied_are_pasted(window, settled, files):
    held = QMimeData()
    held.setUrls([QUrl.fromLocalFile(str(files / f"a b/{name}.x3p")) for name in ("one", "two")])
    QApplication.clipboard().setMimeData(held)
    window.trigger("file.paste")
    settled(window)
    assert names(window) == ["one.x3p", "two.x3p"]
