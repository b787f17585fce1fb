"""Requirement lists in the window: asked once what the columns hold, remembered, and balloons with parts."""

from PySide6.QtCore import Qt
from test_window import card, message, retype

from hemtra.storage.settings import load_settings

LIST = (
    "Pos.;Merkmal;Nennmass;oberes Abmass;unteres Abmass\n4.1;Breite;5,0;0,1;-0,2\n12a;Stufe;1,25;0,05;-0,05\n"
)


def given(window, qtbot, path, text=LIST):
    path.write_text(text)
    window.workspaces["plan"].commands.import_requirements(path)
    qtbot.waitUntil(lambda: not window.session.tasks.running, timeout=120_000)
    return window.workspaces["plan"].workspace.requirements


def test_what_columns_hold_is_asked_once(demo, qtbot, settled, tmp_path):
    bench = demo.session.bench
    asked = given(demo, qtbot, tmp_path / "list.csv")
    form = asked.form
    assert form.isVisible()
    assert form.fields["balloon"].currentText() == "Pos."
    qtbot.keyClick(form, Qt.Key.Key_Return)
    assert form.trouble.text() == "Choose the column that holds the name."
    form.fields["name"].setCurrentText("Merkmal")
    qtbot.keyClick(form, Qt.Key.Key_Return)
    assert form.trouble.text() == "Choose a column for a limit, a deviation or the tolerance."
    for field, name in (("nominal", "Nennmass"), ("plus", "oberes Abmass"), ("minus", "Merkmal")):
        form.fields[field].setCurrentText(name)
    qtbot.keyClick(form, Qt.Key.Key_Return)
    assert form.trouble.text() == "Line 2: “Breite” is not a number."
    form.fields["minus"].setCurrentText("unteres Abmass")
    qtbot.keyClick(form, Qt.Key.Key_Return)
    assert asked.form is None
    settled(demo)
    rows = {str(row.balloon): row for row in bench.document.plan.sheet}
    assert (rows["4.1"].lower, rows["4.1"].upper, rows["12a"].upper) == (4.8, 5.1, 1.3)
    assert [str(item.row.balloon) for item in demo.workspaces["plan"].workspace.sheet.items][-2:] == [
        "4.1",
        "12a",
    ]
    # the next list with these columns is taken at once, also after a restart
    demo.session.plans.keep_settings_now()
    assert load_settings().columns == demo.session.settings.columns
    asked = given(demo, qtbot, tmp_path / "next.csv", LIST.replace("12a;Stufe", "13;Absatz"))
    assert asked.form is None
    assert bench.document.plan.characteristic(13).name == "Absatz"


def test_a_list_that_has_a_balloon_twice_is_refused(demo, qtbot, tmp_path):
    form = given(demo, qtbot, tmp_path / "twice.csv", LIST.replace("12a", "4.1")).form
    if form is not None:  # no other list has told yet what these columns hold
        chosen = {"name": "Merkmal", "nominal": "Nennmass", "plus": "oberes Abmass", "minus": "unteres Abmass"}
        for field, name in chosen.items():
            form.fields[field].setCurrentText(name)
        qtbot.keyClick(form, Qt.Key.Key_Return)
    said = message(demo) if form is None else form.trouble.text()
    assert said == "The list has balloon 4.1 twice."


def test_a_balloon_is_renumbered_to_part_of_another(demo, qtbot, settled):
    bench = demo.session.bench
    retype(qtbot, card(demo).number, "2b")
    settled(demo)
    assert str(bench.row.balloon) == "2b"
    assert bench.row.name == "Boss NE"
    assert {str(j.balloon) for j in bench.shown.result.characteristics} >= {"2", "2b"}
    retype(qtbot, card(demo).number, "2.x")
    assert card(demo).number.text() == "2b"
    demo.workspaces["plan"].workspace.stage.grab()
