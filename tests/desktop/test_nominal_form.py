"""The nominal surface from the window: placed beside it, one edit of the plan, the colours follow."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from hemtra import Scan, save_plan
from hemtra.core.proposals.nominal_placing import by_points
from hemtra.desktop.plan.panels.nominal_form import NominalForm
from makers import step_plan
from meshes import part, pose, scanned

trimesh = pytest.importorskip("trimesh")


@pytest.fixture
def form(window, settled, tmp_path):
    """A plan is open whose reference lies turned by 20°; its mesh is beside it."""
    mesh = part()
    trimesh.Trimesh(mesh.corners, mesh.faces, process=False).export(tmp_path / "part.stl")
    data = scanned(mesh, pose((20.0, 0.0, 0.0), (1.0, 2.0, 0.5)))
    save_plan(step_plan(), tmp_path / "part.hplan", Scan(data, "reference"))
    window.session.plans.open(tmp_path / "part.hplan")
    settled(window)
    window.trigger("plan.nominal")
    return window.session.window.findChild(NominalForm)


def test_a_mesh_is_placed_shown_and_removed_again(window, settled, form, tmp_path):
    document = window.session.bench.document
    form.place()
    assert form.message.text() == "Choose the mesh of the drawing."
    form.mesh.setText(str(tmp_path / "part.stl"))
    form.place()
    settled(window)
    nominal = document.plan.nominal
    assert (nominal.name, nominal.placed) == ("part.stl", "best fit")
    assert nominal.rotation == pytest.approx(20.0, abs=0.2)
    assert form.message.text().startswith("part.stl is placed by best fit. The reference scan lies")
    window.workspaces["plan"].workspace.stage.colour_by("nominal")
    settled(window)
    off = window.session.bench.shown.coloured
    assert np.nanmedian(np.abs(off.z)) < 0.02
    QTest.mouseClick(form.remove, Qt.MouseButton.LeftButton)
    assert document.plan.nominal is None
    window.trigger("edit.undo")
    assert document.plan.nominal == nominal
    form.close()


def test_three_points_are_typed_and_what_is_wrong_is_said(window, settled, form, tmp_path):
    form.mesh.setText(str(tmp_path / "part.stl"))
    form.way.setCurrentIndex(form.way.findData("points"))
    form.place()
    assert form.message.text() == "Point 1 needs three numbers on the mesh and three on the scan."
    true = pose((20.0, 0.0, 0.0), (1.0, 2.0, 0.5))
    points = np.array([(-15, -8, 5), (15, -8, 5), (0, 9, 5)], float)
    for fields, point in zip(form.points, points, strict=True):
        for field, numbers in zip(fields, (point, true.matrix @ point + true.offset), strict=True):
            # as it is written in one country, and in another
            written = ", ".join(f"{number:.6f}" for number in numbers)
            field.setText(written if field is fields[0] else written.replace(",", ";").replace(".", ","))
    form.place()
    settled(window)
    found = window.session.bench.document.plan.nominal
    assert found.placed == "points"
    expected = by_points([(p, true.matrix @ p + true.offset) for p in points]).numbers
    assert found.rotation == pytest.approx(expected["rotation"], abs=1e-3)
    form.mesh.setText(str(tmp_path / "none.stl"))
    form.place()
    settled(window)
    assert "none.stl cannot be read" in form.message.text()
    assert window.session.bench.document.plan.nominal == found
    form.close()


def test_what_was_placed_on_another_reference_or_for_a_closed_window_is_dropped(
    window, settled, form, tmp_path
):
    bench = window.session.bench
    form.mesh.setText(str(tmp_path / "part.stl"))
    form.place()
    other = Scan(scanned(part(), pose((50.0, 0.0, 0.0))), "other")
    bench.document.change_reference("reference", bench.document.plan, other)
    settled(window)
    assert bench.document.plan.nominal is None
    assert form.message.text() == "The reference scan has changed meanwhile; place the mesh again."
    form.place()
    form.close()
    settled(window)
    assert bench.document.plan.nominal is None
