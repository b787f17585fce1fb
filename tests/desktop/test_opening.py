"""Files open however they come: dropped, pasted as files or as a path, or named when the program starts."""

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication

from hemtra import Scan, save_plan, save_scan
from hemtra.core import balloon_layout
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.storage.plans import load_plan_file
from hemtra.storage.stations import save_station
from hemtra.storage.trays import TrayEntry, save_tray
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


def test_the_first_answer_is_by_what_the_file_teaches(window, settled, demo_folder, tmp_path, monkeypatch):
    """It waits neither for the reference scan to teach again nor for balloons; then comes what counts."""
    monkeypatch.setattr(balloon_layout, "is_loaded", lambda: False)
    held = load_plan_file(demo_folder / PLAN_FILE)
    moved = [
        s if s.home is None else s.model_copy(update={"home": s.home.model_copy(update={"x": s.home.x + 0.5})})
        for s in held.plan.steps
    ]
    old = held.plan.model_copy(update={"steps": tuple(moved)})
    assert old.steps != held.plan.steps
    save_plan(old, path := tmp_path / "old.hplan", held.reference)
    save_tray(path, [TrayEntry(demo_folder / TRAY / "cover-01.x3p")])
    bench, marks, seen = window.session.bench, window.workspaces["plan"].workspace.stage.marks, []

    def see():
        window.grab()
        seen.append((bench.shown, [p.result for p in bench.tray.parts], len(marks.balloons)))

    bench.shown_changed.connect(see)
    window.open_files([path])
    settled(window)
    answers = [one for one in seen if one[0] is not None]
    assert answers[0][0].plan.steps == old.steps
    assert (answers[0][2], answers[-1][2]) == (0, len(old.sheet))
    assert answers[0][1] == [None], "the tray waits for the part on the stage"
    assert bench.document.plan.steps == bench.shown.plan.steps == held.plan.steps
    assert bench.tray.parts[0].result.verdict is bench.shown.result.verdict
    assert {row.balloon for row in bench.shown.result.characteristics if row.value is not None} == {
        row.balloon for row in bench.tray.parts[0].result.characteristics if row.value is not None
    }
