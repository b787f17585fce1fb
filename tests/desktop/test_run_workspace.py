"""The Run workspace in the real window: a line that runs, the lock on editing, signals and the I/O window."""

import socket
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit
from test_window import message, retype

from hemtra import HemtraError, load_plan, save_plan
from hemtra.core.plan.limits import Verdict
from hemtra.desktop.models.edit_lock import EditLock, is_pin, known_by
from hemtra.desktop.models.versioned import Refused
from hemtra.desktop.run.pin_form import PinForm
from hemtra.desktop.run.signals_form import SignalsForm
from hemtra.desktop.shell.window import MainWindow
from hemtra.outputs.modbus_addresses import line_coil
from hemtra.runtime.belt_mark import BeltMark
from hemtra.runtime.run_setup import LOCK_FILE, RunRequest, records_folder
from hemtra.storage.records import Records
from hemtra.storage.records.lock_note import is_noted, note
from hemtra.storage.settings import settings_path
from hemtra.virtual.demo import STATION

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def line(demo, tmp_path):
    """The demo's window with a fast belt, no I/O module, and records of its own."""
    station = STATION.with_part("travel", speed=1500.0).with_part("io", host="")
    demo.session.station_bench.document.edit("fast", station)
    demo.workspaces["run"].page.db, demo.workspaces["run"].page.jobs = str(tmp_path / "records.db"), 0
    return demo


def until(qtbot, condition):
    qtbot.waitUntil(lambda: bool(condition()), timeout=60_000)


def stopped(qtbot, window):
    if window.workspaces["run"].page.bench.state != "idle":
        window.workspaces["run"].page.start_or_stop()
    qtbot.waitUntil(lambda: window.workspaces["run"].page.bench.state == "idle", timeout=60_000)


def painted(view) -> bool:
    """Whether more is to be seen than its ground and border."""
    image = view.grab().toImage()
    places = ((x, y) for x in range(0, image.width(), 2) for y in range(0, image.height(), 2))
    return len({image.pixel(x, y) for x, y in places}) > 12


def test_one_click_runs_the_tray_and_shows_each_verdict(line, qtbot):
    run = line.workspaces["run"].page
    line.workspaces["run"].starts_at_once = True  # as in the demo
    qtbot.mouseClick(line.band.tabs["run"], LEFT)
    assert run.isVisible()
    until(qtbot, lambda: len(run.bench.parts) >= 4)
    assert [d.record.verdict for d in list(run.bench.parts)[:4]] == ["PASS", "PASS", "FAIL", "PASS"]
    assert run.bench.counts.failed >= 1
    third = run.bench.parts[2]
    assert third.record.reason.startswith("1 Boss NE 3.71, below 3.90")
    qtbot.mouseClick(run.ribbon, LEFT, pos=run.ribbon.place_of(2).center().toPoint())
    assert run.bench.shown is third
    assert run.verdict.accessibleName().startswith("Part 3: FAIL. 1 Boss NE")
    before = len(run.bench.parts)
    until(qtbot, lambda: len(run.bench.parts) > before)
    assert run.bench.shown is third, "the line goes on while a part is held"
    run.ribbon.setFocus()
    qtbot.keyClick(run.ribbon, Qt.Key.Key_Left)
    assert run.bench.shown.record.number == 2
    qtbot.keyClick(run.ribbon, Qt.Key.Key_Escape)
    assert run.bench.shown is run.bench.parts[-1]
    stopped(qtbot, line)
    assert run.start_button.text() == "Start the line"


def test_the_views_of_a_run_show_its_lot_and_then_a_new_one(line, qtbot):
    run = line.workspaces["run"].page
    line.show_workspace("run")
    qtbot.mouseClick(run.start_button, LEFT)
    until(qtbot, lambda: len(run.bench.parts) >= 4)
    third = run.bench.parts[2]
    for view in (run.verdict, run.part, run.ribbon, run.trends, run.status):
        assert painted(view), view
    assert 1 in run.bench.rows_by_margin(0, 4), "what failed is shown first"
    assert 1 not in run.bench.rows_by_margin(4, 99)
    qtbot.keyClick(run.trends, Qt.Key.Key_Down)
    assert run.trends.first > 0
    qtbot.mouseClick(run.lot_button, LEFT)
    until(qtbot, lambda: any(e.kind == "new lot" for e in run.bench.events))
    until(qtbot, lambda: 0 < run.bench.counts.all < 4)
    stopped(qtbot, line)
    records = Records(run.db)
    first = records.all_lots()[-1]
    assert len(records.all_lots()) == 2
    assert records.parts_of(first)[2].reason == third.record.reason
    records.close()


def test_a_part_without_a_readable_scan_says_so_across_the_room(line, qtbot, tmp_path):
    run, folder = line.workspaces["run"].page, tmp_path / "in"
    folder.mkdir()
    (folder / "bad.x3p").write_bytes(b"no scan at all" * 400)
    station = line.session.station_bench.document.value.with_part("incoming", give_up=0.5)
    line.session.station_bench.document.edit("impatient", station)
    line.show_workspace("run")
    run.start(RunRequest(watch=folder, db=run.db, jobs=0, looked_at=True))
    until(qtbot, lambda: run.bench.parts)
    assert run.bench.shown.record.verdict is Verdict.NOT_MEASURED
    assert "bad.x3p" in run.verdict.accessibleName()
    assert painted(run.verdict)
    assert painted(run.part)
    assert run.bench.events[0].kind == "faulty scan"
    qtbot.mouseClick(run.pause_button, LEFT)
    assert run.bench.state == "paused"
    stopped(qtbot, line)


def test_what_keeps_a_line_from_starting_is_said(line, qtbot, settled, tmp_path):
    run = line.workspaces["run"].page
    line.show_workspace("run")
    run.db = str(tmp_path)
    qtbot.mouseClick(run.start_button, LEFT)
    until(qtbot, lambda: run.bench.state == "idle" and message(line))
    assert "cannot be opened" in message(line)
    assert "cannot be opened" in run.bench.trouble


@pytest.fixture
def locked(line):
    """The line's window, locked with the PIN 4711."""
    line.trigger("run.lock")
    form = line.workspaces["run"].forms.pin
    for field in (form.pin, form.again):
        field.setText("12")
    form.agree()
    assert "4 digits" in form.wrong.text()
    for field in (form.pin, form.again):
        field.setText("4711")
    form.agree()
    assert line.session.lock.locked
    return line


def test_a_locked_window_runs_and_shows_and_edits_nothing(locked, settled):
    line = locked
    assert line.workspaces["run"].page.isVisible()
    assert not line.band.tabs["plan"].isEnabled()
    plan = line.session.bench.document.plan
    for action in ("plan.new", "characteristic.delete", "plan.show", "edit.undo", "plan.open"):
        line.trigger(action)
    assert "Editing is locked" in message(line)
    assert line.session.bench.document.plan is plan
    assert line.workspaces["run"].page.isVisible()
    settled(line)
    with pytest.raises(Refused, match="Editing is locked"):
        line.session.bench.document.edit("by another way", plan.edited(name="other"))
    with pytest.raises(Refused):
        line.session.station_bench.document.undo()
    assert line.session.bench.document.plan is plan
    assert line.session.lock.unlock("4711") == ""


def test_a_lock_lasts_until_its_pin_is_typed(locked, qtbot):
    line = locked
    kept = records_folder() / LOCK_FILE
    assert kept.stat().st_mode & 0o777 == 0o600
    assert "4711" not in kept.read_text()
    settings_path().unlink(missing_ok=True)
    again = MainWindow()
    qtbot.addWidget(again)
    again.show()
    assert again.workspaces["run"].page.isVisible(), "it is locked at the next start, too"
    again.close()
    line.trigger("run.lock")
    line.workspaces["run"].forms.pin.pin.setText("1234")
    line.workspaces["run"].forms.pin.agree()
    assert line.session.lock.locked
    assert "not the PIN" in line.workspaces["run"].forms.pin.wrong.text()
    line.workspaces["run"].forms.pin.pin.setText("4711")
    line.workspaces["run"].forms.pin.agree()
    assert not line.session.lock.locked
    assert not kept.exists()
    line.trigger("plan.show")
    assert line.workspaces["plan"].workspace.isVisible()


def test_a_pin_is_known_only_by_what_scrypt_makes_of_it():
    kept = known_by("geheim")
    assert is_pin("geheim", kept)
    assert not is_pin("Geheim", kept)
    assert known_by("geheim") != kept, "salted"
    assert not is_pin("", "")
    assert not is_pin("x", "no salt")


@pytest.fixture
def form(line):
    """The form of the demo plan's signals."""
    line.trigger("plan.signals")
    yield line.workspaces["run"].forms.signals
    line.workspaces["run"].forms.signals.close()


def test_a_condition_is_typed_and_what_it_cannot_be_is_said(line, form, qtbot):
    assert len(form.rows) == len(line.session.bench.document.plan.signals) == 4
    field = form.rows[0]["when"]
    assert isinstance(field, QLineEdit)
    retype(qtbot, field, "fails_1 or missing_1")
    assert line.session.bench.document.plan.signals[0].when == "fails_1 or missing_1"
    field = form.rows[0]["when"]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "boss > 3")
    assert "not a variable of a signal" in form.wrong[0].text(), "while it is typed"
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert "not a variable of a signal" in form.message.text()
    retype(qtbot, form.rows[1]["line"], "0")
    assert "igital line 0 is used twice" in form.message.text()
    form.rows[0]["unknown"].click()
    assert not line.session.bench.document.plan.signals[0].unknown
    line.trigger("edit.undo")
    form.add_digital()
    assert line.session.bench.document.plan.signals[-1].line == 3, "the lowest line that is free"
    form.remove(4)
    line.trigger("edit.undo")
    line.trigger("edit.undo")
    line.trigger("edit.undo")
    assert line.session.bench.document.plan.signals[0].when == "not_passed"


def test_signals_say_what_they_are_for_the_last_parts(line, form, qtbot):
    """Before the first run those of the tray: three good ones and two bad."""
    tags = [part.tag for part in line.session.bench.tray.parts]
    gate, good = (timeline.shares for _, timeline in form.states[:2])
    assert gate == [float(tag == "bad") for tag in tags]
    assert good == [float(tag == "good") for tag in tags]
    assert form.states[0][0].text() == ("on" if tags[-1] == "bad" else "off")
    assert form.states[3][0].text().endswith(" mA")
    words = form.rows[0]["when"].completer()
    words.setCompletionPrefix("missing or fails_1")
    offered = [words.pathFromIndex(words.completionModel().index(k, 0)) for k in range(words.completionCount())]
    assert all(name.startswith("fails_1") for name in offered)
    assert "fails_11" in offered


def test_an_analogue_output_is_typed(line, form, qtbot, tmp_path):
    form.add_analogue()
    save_plan(line.session.bench.document.plan, tmp_path / "saved.hplan")
    saved = load_plan(tmp_path / "saved.hplan").signals[-1]
    assert (saved.kind, saved.balloon, saved.low, saved.high) == ("analogue", 1, 3.9, 4.1)
    retype(qtbot, form.rows[-1]["fault"], "2")
    assert line.session.bench.document.plan.signals[-1].fault == 2.0
    retype(qtbot, form.rows[-1]["fault"], "")
    assert line.session.bench.document.plan.signals[-1].fault is None
    assert form.message.text() == ""
    retype(qtbot, form.rows[-1]["balloon"], "77")
    assert "uses balloon 77, which is missing or disabled" in form.message.text()


@pytest.mark.parametrize(("action", "form"), [("run.lock", PinForm), ("plan.signals", SignalsForm)])
def test_a_form_that_is_requested_again_takes_the_place_of_the_first(window, qtbot, action, form):
    for _ in range(3):
        window.trigger(action)
        qtbot.waitUntil(lambda: len(window.findChildren(form)) == 1)
    assert window.findChild(form).isVisible()


def test_the_io_window_shows_and_forces_terminals(line, qtbot, unused_port):
    station = STATION.with_part("io", port=unused_port)
    line.session.station_bench.document.edit("block", station)
    line.trigger("run.io-module")
    until(
        qtbot,
        lambda: (
            line.workspaces["run"].forms.io_window is not None
            and "off" in line.workspaces["run"].forms.io_window.states[0].text()
        ),
    )
    window = line.workspaces["run"].forms.io_window
    gate = line_coil(0)
    qtbot.mouseClick(window.buttons[gate, True], LEFT)
    until(qtbot, lambda: "on  forced" in window.states[gate].text())
    qtbot.mouseClick(window.buttons[gate, None], LEFT)
    until(qtbot, lambda: window.states[gate].text() == "○  off")
    window.close()


def test_a_belt_in_doubt_is_asked_about_before_the_line_starts(line, qtbot, unused_port):
    io = {"host": "127.0.0.1", "port": unused_port, "simulated": False, "restart": "ask"}
    line.session.station_bench.document.edit(
        "asks", line.session.station_bench.document.value.with_part("io", **io)
    )
    BeltMark(STATION.name).put()
    run = line.workspaces["run"].page
    run.start_or_stop()
    until(qtbot, lambda: run.belt_in_doubt and run.bench.state == "idle")
    assert "Clear the belt" in message(line)
    assert run.production is None
    line.trigger("run.clear")
    until(qtbot, lambda: len(run.bench.parts) >= 1)
    assert BeltMark(STATION.name).there, "parts are under way again"
    stopped(qtbot, line)
    BeltMark(STATION.name).take_away()


def test_the_signals_window_closes_and_forcing_takes_the_pin(line, qtbot, unused_port):
    station = line.session.station_bench.document.value.with_part(
        "io", host="127.0.0.1", port=unused_port, simulated=True
    )
    line.session.station_bench.document.edit("block", station)
    line.trigger("plan.signals")
    line.session.lock.lock("4711")
    line.workspaces["run"].forms.close()
    assert not line.workspaces["run"].forms.signals.isVisible()
    line.trigger("run.io-module")
    until(
        qtbot,
        lambda: (
            line.workspaces["run"].forms.io_window is not None
            and line.workspaces["run"].forms.io_window.isVisible()
        ),
    )
    window = line.workspaces["run"].forms.io_window
    until(qtbot, lambda: "●" in window.states[0].text() or "○" in window.states[0].text())
    qtbot.mouseClick(window.buttons[0, True], LEFT)
    assert window.forced == {}, "not without the PIN"
    line.workspaces["run"].forms.pin.pin.setText("4711")
    line.workspaces["run"].forms.pin.agree()
    until(qtbot, lambda: "●  on  forced" in window.states[0].text())
    window.close()
    line.workspaces["run"].forms.stop_block()
    assert line.session.lock.unlock("4711") == ""


def test_wrong_pins_take_longer_each_time_and_a_lock_that_is_gone_is_no_open_door(tmp_path, monkeypatch):
    now, noted = [1000.0], []
    monkeypatch.setattr("hemtra.desktop.models.edit_lock.time.time", lambda: now[0])

    def lock():
        return EditLock(tmp_path, noted=lambda: bool(noted and noted[-1]), note=noted.append)

    held = lock()
    assert not held.locked
    held.lock("2580")
    assert [held.wrong_with("0000") for _ in range(3)] == ["That is not the PIN."] * 3
    waits = []
    for _ in range(4):
        waits.append(float(lock().wrong_with("2580").removeprefix("Wait ").split()[0]))
        now[0] += waits[-1] + 0.01
        assert lock().wrong_with("0000") == "That is not the PIN."
    assert waits == [2.0, 4.0, 8.0, 16.0]
    (tmp_path / LOCK_FILE).unlink()
    gone = lock()
    assert gone.locked
    assert "unlock --forgotten" in gone.unlock("2580")
    (tmp_path / LOCK_FILE).write_text("[" * 50_000)
    assert "missing or damaged" in lock().unlock("2580")
    assert gone.locked


def test_a_disk_that_cannot_be_written_makes_no_try_free_and_lifts_no_lock(tmp_path, monkeypatch):
    held = EditLock(tmp_path, noted=lambda: True, note=lambda locked: None)
    held.lock("2580")
    monkeypatch.setattr("hemtra.desktop.models.edit_lock.time.time", lambda: 1000.0)

    def full(*_):
        raise HemtraError("the disk is full")

    monkeypatch.setattr("hemtra.desktop.models.edit_lock.write_private", full)
    assert [held.wrong_with("0000") for _ in range(3)] == ["That is not the PIN."] * 3
    assert held.unlock("2580") == "Wait 2 s before the next try."
    monkeypatch.setattr("hemtra.desktop.models.edit_lock.time.time", lambda: 1010.0)
    monkeypatch.setattr(
        Path, "unlink", lambda self, missing_ok: (_ for _ in ()).throw(OSError(30, "read-only"))
    )
    assert "read-only" in held.unlock("2580")
    assert held.locked


def test_records_say_that_a_line_is_locked(tmp_path):
    records = Records(str(tmp_path / "r.db"))
    assert not is_noted(tmp_path / "none.db")
    for locked in (True, False, True):
        note(records, locked=locked)
        assert is_noted(tmp_path / "r.db") is locked
    records.close()
    assert not (tmp_path / "none.db").exists()


def test_a_station_file_opens_no_door_to_other_computers(line, qtbot, unused_port):
    station = line.session.station_bench.document.value.with_part(
        "io", host="0.0.0.0", port=unused_port, simulated=True
    )
    line.session.station_bench.document.edit("open", station)
    line.workspaces["run"].page.start_or_stop()
    until(qtbot, lambda: "other computers reach it" in message(line))
    with socket.socket() as probe:
        assert probe.connect_ex(("127.0.0.1", unused_port)) != 0
