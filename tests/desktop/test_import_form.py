"""Scans of other programs in the window: what they do not say is asked once, beside a picture of the result."""

import numpy as np
import pytest
import tifffile
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from hemtra.desktop.documents.import_form import ImportForm


@pytest.fixture
def pictures(tmp_path):
    """Two images of 16 bits: steps of a micrometre, a boss of 1.5 mm on a plate at 1 mm, one corner missing."""
    y, x = np.mgrid[0:40, 0:60]
    z = np.where((x - 30) ** 2 + (y - 20) ** 2 < 100, 2500, 1000)
    z[:4, :5] = 0
    for name in ("one.png", "two.png"):
        Image.fromarray(z.astype(np.uint16)).save(tmp_path / name)
    return tmp_path


def asked(window, settled):
    settled(window)
    return window.findChild(ImportForm)


def test_what_a_picture_does_not_say_is_asked_once(window, settled, pictures):
    window.session.plans.add_scans([pictures / "one.png", pictures / "two.png"])
    form = asked(window, settled)
    assert form.unit.currentText() == "µm"
    assert form.facts.text() == "heights 0 … 2.5 mm; 5.9 × 3.9 mm; 100 % with data"
    form.fields["no_data"].setText("0")
    form.fields["dx"].setText("0,2")
    assert form.facts.text() == "heights 1 … 2.5 mm; 11.8 × 3.9 mm; 99 % with data"
    form.fields["dy"].setText("-1")
    assert form.facts.text() == "row spacing, mm: “-1” does not hold."
    QTest.keyClick(form.fields["dy"], Qt.Key.Key_Return)
    assert form.isVisible(), "nothing is imported with that"
    form.fields["dy"].setText("0.1")
    QTest.keyClick(form.fields["dy"], Qt.Key.Key_Return)
    settled(window)
    parts = window.session.bench.tray.parts
    assert [part.scan.name for part in parts] == ["one.png", "two.png"], "the second has the same answers"
    data = parts[1].scan.data
    assert (data.grid.dx, data.grid.dy) == (0.2, 0.1)
    assert data.height_at(30 * 0.2, 20 * 0.1) == pytest.approx(2.5)
    assert np.isnan(data.z).sum() == 20
    assert (pictures / "folder.import.json").is_file()


def test_left_alone_a_file_is_not_read_and_nothing_is_written(window, settled, pictures):
    window.session.plans.add_scans([pictures / "one.png"])
    form = asked(window, settled)
    QTest.keyClick(form, Qt.Key.Key_Escape)
    settled(window)
    assert len(window.session.bench.tray.parts) == 0
    assert not list(pictures.glob("*.json"))


def test_a_cloud_proposes_its_spacing_and_is_levelled_on_request(window, settled, tmp_path):
    rng = np.random.default_rng(1)
    places = rng.uniform(0.0, 20.0, (20_000, 2))
    z = 0.2 * places[:, 0] + np.where(np.hypot(*(places - 10).T) < 3.0, 2.0, 0.0)
    np.save(tmp_path / "cloud.npy", np.column_stack([places, z]) * 1000.0)
    window.session.plans.add_scans([tmp_path / "cloud.npy"])
    form = asked(window, settled)
    assert form.unit.currentText() == "µm"
    assert float(form.fields["dx"].text()) == pytest.approx(0.14, rel=0.1)
    assert "no_data" not in form.fields
    form.level.setChecked(True)
    form.folder.setChecked(False)
    QTest.keyClick(form.fields["dx"], Qt.Key.Key_Return)
    settled(window)
    (part,) = window.session.bench.tray.parts
    known = part.scan.data.z[~np.isnan(part.scan.data.z)]
    assert np.median(known) == pytest.approx(0.0, abs=0.01)
    assert float(known.max()) == pytest.approx(2.0, abs=0.1)
    assert (tmp_path / "cloud.npy.import.json").is_file()


def test_of_several_pages_one_is_asked_for_once(window, settled, tmp_path, monkeypatch):
    z = np.where(np.arange(60)[None, :] < 30, 1000, 2500) + np.zeros((40, 1))
    for name in ("one.tif", "two.tif"):
        with tifffile.TiffWriter(tmp_path / name) as file:
            for lift in (0, 7000):
                file.write((z + lift).astype(np.uint16))
    questions = []

    def answer(*asked):
        questions.append(asked[2])
        return 2, len(questions) > 1

    monkeypatch.setattr(QInputDialog, "getInt", answer)
    window.session.plans.add_scans([tmp_path / "one.tif", tmp_path / "two.tif"])
    settled(window)
    assert window.findChild(ImportForm) is None, "left alone, nothing is read"
    window.session.plans.add_scans([tmp_path / "one.tif", tmp_path / "two.tif"])
    form = asked(window, settled)
    assert questions[1] == "one.tif: page that holds the heights"
    QTest.keyClick(form.fields["dy"], Qt.Key.Key_Return)
    settled(window)
    parts = window.session.bench.tray.parts
    assert [part.scan.name for part in parts] == ["one.tif", "two.tif"]
    assert float(parts[1].scan.data.z.max()) == pytest.approx(9.5)
    assert len(questions) == 2
