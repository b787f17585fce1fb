"""Plans, stations, trays, TIFF and results on disk; and saves that fail without loss."""

import errno
import json
import math
import os
import stat
import zipfile
from pathlib import Path

import numpy as np
import pytest
import tifffile

from hemtra import FileError, HeightMap, PlanError, Scan, inspect, load_plan, load_scan, save_plan, save_scan
from hemtra.core.plan.document import SCHEMA
from hemtra.core.station.scale_uncertainty import ScaleUncertainty
from hemtra.storage import plans
from hemtra.storage.files import atomic_write, write_text
from hemtra.storage.results import save_csv, to_dict
from hemtra.storage.stations import load_station, save_station
from hemtra.storage.trays import TrayEntry, load_tray, save_tray, tray_path
from hemtra.virtual.demo import STATION

SMALL = Scan(HeightMap(np.arange(12.0).reshape(3, 4), np.full((3, 4), 9), 0.1, 0.2, -1, -2), name="small")


def test_a_plan_comes_back_with_its_reference(tmp_path, plan):
    path = tmp_path / "cover.hplan"
    save_plan(plan, path, SMALL)
    held = plans.load_plan_file(path)
    assert held.plan == plan == load_plan(path)
    assert np.array_equal(held.reference.data.z, SMALL.data.z)


def test_plan_text_is_sorted_and_changes_where_the_plan_does(plan):
    text = plans.to_json(plan)
    assert json.loads(text)["schema"] == SCHEMA
    changed = plan.with_characteristic(plan.sheet[0].edited(upper=4.2))
    lines = zip(text.splitlines(), plans.to_json(changed).splitlines(), strict=True)
    assert [new.strip() for old, new in lines if old != new] == ['"upper": 4.2']


def changed_document(plan, change) -> str:
    content = json.loads(plans.to_json(plan))
    change(content)
    return json.dumps(content)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda c: c.update(schema=SCHEMA + 1), "newer Hemtra"),
        (lambda c: c.pop("schema"), "names no schema"),
        (lambda c: c["steps"][0].update(kind="plain"), "“plain” is not a kind"),
        (lambda c: c["steps"].append(c["steps"][1]), "step id outline is used twice"),
        (lambda c: c["sheet"].append(c["sheet"][0]), "balloon 1 is used twice"),
        (lambda c: c["sheet"][0].update(upper=float("nan")), "sheet › 0 › upper"),
        (lambda c: c["sheet"][0].update(lower=9), "above its upper"),
        (lambda c: c["sheet"][0].update(lower=None, upper=None), "needs a lower or an upper"),
        (lambda c: c["steps"][1]["zone"].update(width=-1), "width"),
        (lambda c: c["steps"][1]["zone"].update(shape="star"), "star"),
        (lambda c: c["steps"][0].update(id="Not An Id"), "id"),
        (lambda c: c.update(extra=1), "extra"),
        (lambda c: c["steps"][3]["inputs"].update(plane=["ghost"]), "“ghost”, which does not exist"),
    ],
)
def test_plans_that_do_not_hold_are_refused_at_the_place(tmp_path, plan, change, message):
    path = tmp_path / "bad.hplan"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("plan.json", changed_document(plan, change))
    with pytest.raises(PlanError, match=message) as caught:
        load_plan(path)
    assert str(caught.value).startswith("bad.hplan")
    assert "\n" not in str(caught.value)


def test_a_cycle_in_a_file_is_told(plan):

    def close_the_circle(content):
        steps = {s["id"]: s for s in content["steps"]}
        steps["plane-a"].update(kind="tilt", zone=None, params={}, inputs={"plane": ["hub-tilt"]})

    with pytest.raises(PlanError, match=r"p\.hplan.*circle"):
        plans.from_json(changed_document(plan, close_the_circle), "p.hplan")


@pytest.mark.parametrize("content", [b"", b"PK\x03\x04 not really", b"{}"])
def test_what_is_no_plan_file_is_refused(tmp_path, content):
    path = tmp_path / "odd.hplan"
    path.write_bytes(content)
    with pytest.raises(FileError, match=r"odd\.hplan is damaged"):
        load_plan(path)
    with pytest.raises(FileError, match=r"gone\.hplan cannot be read: there is no"):
        load_plan(tmp_path / "gone.hplan")


@pytest.mark.parametrize(
    ("code", "words"),
    [(errno.ENOSPC, "is full"), (errno.EROFS, "not open to you"), (errno.EACCES, "not open to you")],
)
@pytest.mark.parametrize("where", ["os.fsync", "tempfile.mkstemp", "pathlib.Path.replace"])
def test_a_save_that_fails_leaves_the_old_file_and_nothing_else(
    tmp_path, monkeypatch, plan, code, words, where
):
    path = tmp_path / "cover.hplan"
    save_plan(plan, path)
    before = path.read_bytes()

    def fail(*args, **kwargs):
        raise OSError(code, os.strerror(code))

    monkeypatch.setattr(where, fail)
    with pytest.raises(FileError, match=rf"cover\.hplan was not saved.*{words}"):
        save_plan(plan.edited(name="other"), path, SMALL)
    monkeypatch.undo()
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["cover.hplan"]


def test_a_bug_while_saving_also_leaves_the_old_file(tmp_path):
    path = tmp_path / "a.txt"
    write_text(path, "old")

    def crash():
        with atomic_write(path) as stream:
            stream.write(b"half")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        crash()
    assert path.read_text() == "old"
    assert [p.name for p in tmp_path.iterdir()] == ["a.txt"]


def test_saved_files_have_the_mode_others_expect(tmp_path):
    path = tmp_path / "a.txt"
    previous = os.umask(0o022)
    try:
        write_text(path, "x")
        assert stat.S_IMODE(path.stat().st_mode) == 0o644
        path.chmod(0o600)
        write_text(path, "y")
        assert stat.S_IMODE(path.stat().st_mode) == 0o600
    finally:
        os.umask(previous)


def test_tiff_keeps_heights_and_grid(tmp_path):
    path = tmp_path / "part.tif"
    z = np.array([[1.5, np.nan, -2.25], [0.0, 1e-3, 100.0]])
    save_scan(Scan(HeightMap(z, dx=0.107, dy=0.16, x0=-68.5, y0=3)), path)
    data = load_scan(path).data
    np.testing.assert_allclose(data.z, z, rtol=1e-7)
    assert data.grid == HeightMap(z, dx=0.107, dy=0.16, x0=-68.5, y0=3).grid
    assert tifffile.imread(path).dtype == np.float32


def test_tiff_of_others_needs_a_spacing_and_of_whole_numbers_a_scale(tmp_path):
    path = tmp_path / "other.tiff"
    tifffile.imwrite(path, np.ones((4, 5), np.float32), resolution=(50, 100), resolutionunit="CENTIMETER")
    assert (load_scan(path).data.grid.dx, load_scan(path).data.grid.dy) == pytest.approx((0.2, 0.1))
    tifffile.imwrite(path, np.ones((4, 5), np.float32))
    with pytest.raises(FileError, match="does not say the spacing of its columns"):
        load_scan(path)
    tifffile.imwrite(path, np.ones((4, 5), np.uint8))
    with pytest.raises(FileError, match="how much height a step of its numbers is"):
        load_scan(path, dx=0.1, dy=0.2)
    path.write_bytes(path.read_bytes()[:60])
    with pytest.raises(FileError, match=r"other\.tiff"):
        load_scan(path)


def test_unknown_suffixes_are_told(tmp_path):
    with pytest.raises(FileError, match=r"“\.docx” is not a scan format"):
        load_scan(tmp_path / "part.docx")
    with pytest.raises(FileError, match="scan format"):
        save_scan(SMALL, tmp_path / "part")


def test_stations_come_back_or_are_refused(tmp_path):
    path = tmp_path / "a.hstation"
    save_station(STATION, path)
    assert load_station(path) == STATION
    for text, message in (
        ("nonsense", "not JSON"),
        ("[]", "not a valid station file"),
        (path.read_text().replace('"schema": 6', '"schema": 9'), "newer"),
        (path.read_text().replace("160.0", "-160.0"), "travel › encoder › wheel › circumference"),
        (path.read_text().replace("2000.0", "NaN"), "travel › encoder › wheel › pulses_per_turn"),
        (path.read_text().replace('"counts_per_profile": 2', '"counts_per_profile": 0'), "counts_per_profile"),
        (path.read_text().replace('"hang": {', '"hang": {"spin": 1, '), "sensors › 0 › hang › spin"),
        (path.read_text().replace('"by": "eye"', '"by": "ear"'), "trigger › by"),
        (
            path.read_text()
            .replace('"delay": 50.0', '"delay": -5')
            .replace('"delay_in": "mm"', '"delay_in": "ms"'),
            "below zero",
        ),
        ('{"schema": 1, "travel": 3}', "not a valid station file"),
    ):
        path.with_name("b.hstation").write_text(text)
        with pytest.raises(FileError, match=message):
            load_station(path.with_name("b.hstation"))


def test_stations_of_the_first_form_are_brought_up_to_date(tmp_path):
    path = tmp_path / "old.hstation"
    path.write_text(
        '{"schema": 1, "name": "old", "sensor": {"model": "Sim 130", "stand_off": 195, "exposure": 1},'
        ' "travel": {"spacing": 0.16, "profiles": 875}}'
    )
    station = load_station(path)
    assert station.scales == ScaleUncertainty(), "older stations state none"
    assert (station.travel.spacing, station.profiles) == (pytest.approx(0.16), 875)


def test_stations_of_the_second_form_keep_what_they_meant(tmp_path):
    path = tmp_path / "old.hstation"
    old = {
        "schema": 2,
        "name": "old",
        "sensor": {
            "model": "Sim 130",
            "stand_off": 195,
            "exposure": 2.0,
            "band": {"z_low": -8, "z_high": 20, "x_low": -1e6, "x_high": 50},
            "roll": 0.5,
            "pitch": -0.25,
            "levelling": {"roll": 0.49, "pitch": -0.24, "raise_by": 0.1},
        },
        "travel": {
            "encoder": {"by": "wheel", "pulses_per_turn": 2000, "circumference": 160, "edges": 4},
            "counts_per_profile": 8,
            "length": 140,
            "speed": 250,
        },
        "eye": {"distance": 80, "lead": 30, "early": "pad", "waiting": 3, "part_spacing": 250},
    }
    path.write_text(json.dumps(old))
    station = load_station(path)
    sensor = station.sensor
    assert (sensor.exposure.time, sensor.hang.roll, station.line.climb) == (2.0, 0.5, -0.25)
    assert (sensor.band.heights, sensor.band.across) == ((-8, 20), (-math.inf, 50))
    assert (sensor.calibration.roll, sensor.calibration.pitch, sensor.calibration.z) == (0.49, -0.24, 0.1)
    assert (station.lead, station.length, station.profiles) == (30, 140, 875)
    assert (station.trigger.early, station.trigger.waiting, station.line.part_spacing) == ("pad", 3, 250)
    save_station(station, path)
    assert load_station(path) == station


@pytest.mark.parametrize(("old", "now"), [("go on", "continue"), ("stop", "stop")])
def test_what_a_station_does_on_link_loss_stays_under_its_new_name(tmp_path, old, now):
    path = tmp_path / "old.hstation"
    save_station(STATION.with_part("io", lost=now), path)
    content = json.loads(path.read_text())
    path.write_text(json.dumps({**content, "schema": 5, "io": {**content["io"], "lost": old}}))
    assert load_station(path).io.lost == now
    path.write_text(json.dumps({**content, "schema": 5, "io": "plc"}))
    with pytest.raises(FileError, match="not a valid station file"):
        load_station(path)


def test_trays_lie_beside_their_plan(tmp_path):
    plan_path = tmp_path / "cover.hplan"
    assert load_tray(plan_path) == []
    entries = [TrayEntry(tmp_path / "tray/a.x3p", "good"), TrayEntry(tmp_path.parent / "b.x3p", "bad")]
    save_tray(plan_path, entries)
    assert [(e.path.resolve(), e.tag) for e in load_tray(plan_path)] == [
        (e.path.resolve(), e.tag) for e in entries
    ]
    assert str(tmp_path) not in tray_path(plan_path).read_text(), "the folder can be moved"
    for text in ("{}", "[]", "{", '{"schema": 1, "parts": [1]}'):
        tray_path(plan_path).write_text(text)
        with pytest.raises(FileError, match=r"cover\.tray\.json is damaged"):
            load_tray(plan_path)


def test_results_as_json_and_csv(tmp_path, plan, perfect):
    result = inspect(plan, perfect)
    told = json.loads(json.dumps(to_dict("a.x3p", result)))
    assert list(told) == ["scan", "verdict", "elapsed_ms", "characteristics", "paths"]
    first = told["characteristics"][0]
    assert list(first) == ["balloon", "name", "value", "unit", "lower", "upper", "verdict", "reason"]
    assert first["value"] == pytest.approx(4.0, abs=1e-3)
    path = tmp_path / "out.csv"
    save_csv(path, [("a.x3p", result), ("b.x3p", result)])
    lines = Path(path).read_text().splitlines()
    assert len(lines) == 1 + 2 * len(plan.sheet)
    assert lines[7].startswith("a.x3p,PASS,7,Hub tilt,")
