"""The command line: what it prints, and its exit codes."""

import csv
import json
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from hemtra import HeightMap, Scan, load_plan, load_scan, save_plan, save_scan
from hemtra.cli import main
from hemtra.core.plan.document import ByProfile, Follow
from hemtra.core.plan.master_part import MasterPart, shifts_typed
from hemtra.runtime.batch import inspect_files
from hemtra.runtime.crews import ThreadCrew
from hemtra.runtime.demo import (
    DOOR_FILE,
    PLAN_FILE,
    RUNNER_PLAN_FILE,
    RUNNER_TRAY,
    STATION_FILE,
    TRAY,
    TRUTH,
    is_complete,
)
from hemtra.virtual.demo import PARTS
from makers import sloped, step_plan
from meshes import part as part_mesh
from meshes import pose, scanned


@pytest.fixture
def hemtra(monkeypatch, capfd):
    """Runs a command in this process: (exit code, standard output, standard error)."""
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("COLUMNS", "200")

    def run(*arguments):
        monkeypatch.setattr(sys, "argv", ["hemtra", *map(str, arguments)])
        code = 0
        try:
            main()
        except SystemExit as stopped:
            code = stopped.code or 0
        out, err = capfd.readouterr()
        assert "Traceback" not in err
        return code, out, err

    return run


BEAD = range(18, 23)
"""Balloons whose values along the bead have tests of their own."""


@pytest.fixture
def cover(demo_folder):
    return demo_folder / PLAN_FILE


def test_the_demo_plan_evaluates_every_part_as_its_truth_says(demo_folder, cover):
    assert is_complete(demo_folder)
    known = json.loads((demo_folder / TRUTH).read_text())
    assert len(known) == 24
    for item in inspect_files(
        load_plan(cover), sorted(map(str, (demo_folder / TRAY).iterdir())), ThreadCrew(2)
    ):
        failing = [c.balloon for c in item.result.characteristics if c.verdict != "PASS"]
        assert failing == known[item.name]["fails"], item.name
        for c in item.result.characteristics:
            true = known[item.name]["values"][str(c.balloon)]
            bound = {7: 0.015, 8: 0.09, 9: 0.13, 10: 0.11, 13: 0.08, 14: 0.13, 16: 0.11, 17: 0.5}.get(
                c.balloon, 0.006
            )
            if c.balloon in BEAD:
                continue
            if isinstance(true, str):
                assert c.text == (true or "no code")
            elif true is None:
                assert c.verdict != "PASS", "there is no gap without a plug"
            else:
                assert c.value == pytest.approx(true, abs=bound), (item.name, c.name)


def test_values_along_a_run_are_saved(hemtra, demo_folder, tmp_path):
    plan, part = demo_folder / RUNNER_PLAN_FILE, demo_folder / RUNNER_TRAY / "runner-10.x3p"
    code, *_ = hemtra("inspect", plan, part, "--series", tmp_path / "along.csv")
    assert code == 1
    with (tmp_path / "along.csv").open() as file:
        rows = [row for row in csv.DictReader(file) if row["balloon"] == "9"]
    at, values = (np.array([float(row[name]) for row in rows]) for name in ("at", "value"))
    assert np.diff(at) == pytest.approx(np.full(499, 0.16), abs=2e-4)
    assert np.polyfit(at, values, 1)[0] == pytest.approx(0.6 / 90, rel=0.1), "the slit widens by 0.6 over 90 mm"


def test_every_section_along_a_path_is_saved_and_told(hemtra, demo_folder, cover, tmp_path):
    part = next(p for p in PARTS if p.defects == {"bead-broken": None})
    scan = demo_folder / TRAY / part.file
    code, out, _ = hemtra("inspect", cover, scan, "--json", "--sections", tmp_path / "sections.csv")
    assert code == 1
    (path,) = json.loads(out)["paths"]
    (true,) = part.cover.bead.stretches()[21]
    (told,) = path["breaks"]
    assert (told["start"], told["length"]) == (pytest.approx(true[0], abs=0.5), pytest.approx(true[1], abs=0.5))
    with (tmp_path / "sections.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == path["sections"]
    assert sum(row["state"] == "measured" for row in rows) == path["measured"]
    gone = [row for row in rows if row["state"] == "there is no bead"]
    assert len(gone) == path["absent"]
    assert all(float(row["width (mm)"]) == 0.0 and row["offset (mm)"] == "" for row in gone)
    at = np.array([float(row["at (mm)"]) for row in gone])
    assert true[0] - 0.5 < at.min() < at.max() < true[0] + true[1] + 0.5


def test_exit_codes_tell_pass_fail_and_error(hemtra, demo_folder, cover):
    good, bad = demo_folder / TRAY / "cover-01.x3p", demo_folder / TRAY / "cover-03.x3p"
    assert hemtra("inspect", cover, good)[0] == 0
    code, out, _ = hemtra("inspect", cover, good, bad)
    assert code == 1
    assert "FAIL 3.71, below 3.90" in out
    code, out, err = hemtra("inspect", cover, bad, demo_folder / "gone.x3p", good)
    assert code == 2
    assert err == f"hemtra: gone.x3p cannot be read: there is no {demo_folder / 'gone.x3p'}. Check the name.\n"
    assert out.count("PASS in") == 1, "one unreadable file does not stop the others"
    assert hemtra("inspect", demo_folder / "gone.hplan", good)[0] == 2


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda raw: raw[: len(raw) // 2], "is damaged or cut short"),
        (lambda raw: raw.replace(b"<SizeX>1280<", b"<SizeX>1281<"), "is damaged at main.xml"),
    ],
)
def test_damaged_scans_are_one_sentence(hemtra, demo_folder, cover, tmp_path, spoil, words):
    path = tmp_path / "odd.x3p"
    path.write_bytes(spoil((demo_folder / TRAY / "cover-01.x3p").read_bytes()))
    code, out, err = hemtra("inspect", cover, path, "--json")
    assert code == 2
    assert words in json.loads(out)["error"]
    assert err.startswith("hemtra: odd.x3p ")
    assert words in err
    assert err.count("\n") == 1


def test_json_is_one_object_a_part_in_the_order_given(hemtra, demo_folder, cover, tmp_path):
    parts = [demo_folder / TRAY / f"cover-0{k}.x3p" for k in (5, 1, 6)]
    code, out, _ = hemtra("inspect", cover, *parts, "--json", "--csv", tmp_path / "all.csv", "--jobs", 2)
    assert code == 1
    told = [json.loads(line) for line in out.splitlines()]
    assert [t["scan"] for t in told] == [str(p) for p in parts]
    assert [t["verdict"] for t in told] == ["FAIL", "PASS", "FAIL"]
    with (tmp_path / "all.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 3 * 24
    assert [r["name"] for r in rows if r["verdict"] == "FAIL"] == ["Hub tilt", "Pocket depth"]


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (HeightMap(np.full((20, 20), np.nan)), "the scan holds no data at all"),
        (HeightMap(np.zeros((20, 20)), x0=900.0), "the zone lies outside the scan"),
    ],
)
def test_a_scan_that_cannot_answer_is_an_error(hemtra, plan, tmp_path, data, words):
    """Where zones follow nothing; a part that is not found is no error but NOT MEASURED."""
    fixed = tuple(s.edited(follow=Follow()) for s in plan.steps if s.id != "outline")
    save_plan(plan.edited(steps=fixed), tmp_path / "fixed.hplan")
    save_scan(Scan(data), tmp_path / "odd.x3p")
    code, out, err = hemtra("inspect", tmp_path / "fixed.hplan", tmp_path / "odd.x3p", "--json")
    assert code == 2
    assert json.loads(out)["verdict"] == "NOT MEASURED"
    assert words in err
    assert err.startswith("hemtra: odd.x3p: ")


def test_a_part_that_is_not_there_is_not_measured(hemtra, cover, tmp_path):
    save_scan(Scan(HeightMap(np.zeros((200, 200)), dx=0.5, dy=0.5)), tmp_path / "empty.x3p")
    code, out, err = hemtra("inspect", cover, tmp_path / "empty.x3p", "--json")
    assert (code, err) == (1, "")
    assert json.loads(out)["verdict"] == "NOT MEASURED"
    assert "the outline was not found" in out


def test_scan_makes_what_it_is_told(hemtra, demo_folder, tmp_path):
    station = demo_folder / STATION_FILE
    code, out, _ = hemtra("scan", station, "--defect", "boss-short=0.5", "--seed", 3, "-o", tmp_path / "p.x3p")
    assert code == 0
    assert "875 profiles of 1280 points" in out
    made = load_scan(tmp_path / "p.x3p")
    assert made.station["name"] == "bench A"
    assert made.serial == "000003"
    door = ["--part", "oven-door-frame"]
    code, out, _ = hemtra("scan", demo_folder / DOOR_FILE, *door, "-o", tmp_path / "d.x3p")
    assert code == 0
    assert load_scan(tmp_path / "d.x3p").data.extent[1] > 115, "both sensors in one map"
    for extra in (
        [*door, "--defect", "boss-short"],
        ["--defect", "boss-blue"],
        ["--part", "teapot"],
        ["--defect", "boss-short=x"],
    ):
        code, _, err = hemtra("scan", station, *extra, "-o", tmp_path / "q.x3p")
        assert code == 2
        assert err.count("\n") == 1
        assert not (tmp_path / "q.x3p").exists()


def test_plan_show_and_check(hemtra, cover, tmp_path, plan):
    code, out, _ = hemtra("plan", "show", cover)
    assert code == 0
    assert "2.50 +0.15 −0.05" in out
    assert "signal: Reject gate: on when the part does not pass" in out
    master = MasterPart(serial="M1", share=90.0, shifts=shifts_typed("6:00"))
    asked = {"not_proven": "pass", "master_part": master, "by_profile": ByProfile(average=3)}
    whole = plan.edited(**asked).with_characteristic(plan.sheet[0].edited(off=True))
    save_plan(whole, tmp_path / "asks.hplan")
    code, out, _ = hemtra("plan", "show", tmp_path / "asks.hplan")
    for words in (
        "NOT PROVEN counts as: pass",
        "master part: M1, every 8 h, at 06:00, within 90 % of each tolerance",
        "inspects: profile by profile, drawn at 0 mm, mean of 3",
        "4.00 ±0.10, switched off",
    ):
        assert words in out, words
    code, out, _ = hemtra("plan", "check", cover)
    *warned, last = out.splitlines()
    assert (code, last) == (0, f"{cover.name} holds; its reference scan evaluates to PASS.")
    because = {line.split(":")[0]: line for line in warned}
    for row in ("13 Plug gap", "16 Flange length"):
        assert because[row].endswith("most of it is grid phase.")
    elsewhere = Scan(HeightMap(np.zeros((20, 20)), x0=900.0))
    save_plan(plan, tmp_path / "off.hplan", elsewhere)
    code, _, err = hemtra("plan", "check", tmp_path / "off.hplan")
    assert code == 2
    assert "off.hplan, on its reference scan: “Cover outline”: the outline was not found" in err


def test_plan_uncertainty(hemtra, cover):
    code, out, _ = hemtra("plan", "uncertainty", cover, "--copies", 8, "--json")
    found = json.loads(out)
    assert code == 0
    assert set(found) == {str(k) for k in range(1, 25)} - {"23"}, "all but the text"
    for one in found.values():
        assert one["U"] == 2 * one["u"]
        assert sum(one["shares"].values()) == pytest.approx(1.0, abs=1e-3) or one["u"] == 0.0
    code, _, err = hemtra("plan", "uncertainty", cover, "--scale", "w=1")
    assert (code, err.count("\n")) == (2, 1)
    assert "“w=1” is no uncertainty of a scale; write it as y=0.02" in err


def test_budget_of_the_demo_station(hemtra, demo_folder, cover, tmp_path):
    station = demo_folder / STATION_FILE
    code, out, _ = hemtra("budget", station, "--plan", cover, "--part-width", 120, "--belt", -6)
    assert code == 0
    assert "2000 pulses ÷ 160.00 mm" in out
    assert "5 Boss coplanarity ±0.04 " in out
    assert "sampled unevenly: 1 : 1.53. Take a profile every count (0.080 mm)" in out
    told = json.loads(hemtra("budget", station, "--json")[1])
    assert {"label": "profiles per scan", "sum": "140 mm ÷ 0.160", "value": "875"} in told["rows"]
    (tmp_path / "odd.hstation").write_text(station.read_text().replace("Sim 130", "Sim 7"))
    code, _, err = hemtra("budget", tmp_path / "odd.hstation")
    assert (code, err) == (2, "hemtra: There is no sensor model “Sim 7”; there are Sim 60, Sim 130, Sim 250.\n")


def test_convert_goes_both_ways(hemtra, demo_folder, tmp_path):
    source = demo_folder / TRAY / "cover-01.x3p"
    assert hemtra("convert", source, tmp_path / "a.tif")[0] == 0
    assert hemtra("convert", tmp_path / "a.tif", tmp_path / "b.x3p")[0] == 0
    before, after = load_scan(source).data, load_scan(tmp_path / "b.x3p").data
    assert np.allclose(before.z, after.z, rtol=2e-7, equal_nan=True)
    assert before.grid == after.grid
    assert hemtra("convert", source, tmp_path / "a.jpeg")[0] == 2


def test_without_a_display_the_example_is_printed(hemtra, demo_folder, monkeypatch):
    monkeypatch.setattr("hemtra.runtime.demo.demo_folder", lambda: demo_folder)
    code, out, _ = hemtra("demo")
    assert code == 0
    assert len(re.findall(r"cover-\d\d\.x3p", out)) == 24
    assert "24 of 24 verdicts match ground truth." in out
    report = re.search(r"Report of cover lot 14 in (.*\.pdf)", out)
    assert Path(report[1]).read_bytes().startswith(b"%PDF")
    code, _, err = hemtra()
    assert code == 2
    assert "No display" in err


def test_unwritable_targets_are_one_sentence(hemtra, demo_folder, cover):
    code, _, err = hemtra(
        "inspect", cover, demo_folder / TRAY / "cover-01.x3p", "--csv", "/proc/nowhere/all.csv"
    )
    assert code == 2
    assert "all.csv was not saved" in err


def test_inspecting_loads_no_qt(demo_folder, cover):
    """The command line starts quickly, and runs where Qt's libraries are missing."""
    script = (
        "import sys; sys.argv = sys.argv[1:]\nfrom hemtra.cli import main\n"
        "try: main()\nexcept SystemExit: pass\n"
        "print([m for m in sys.modules if m.startswith(('PySide6', 'shiboken', 'tifffile'))])"
    )
    command = [sys.executable, "-c", script, "hemtra", "inspect", cover, demo_folder / TRAY / "cover-01.x3p"]
    done = subprocess.run([str(c) for c in command], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_names_are_printed_as_they_are_and_not_as_markup(hemtra, tmp_path):
    plan = step_plan()
    plan = plan.edited(name="[/left] [bold]", sheet=(plan.sheet[0].edited(name="[red]Rise[/]", upper=0.1),))
    save_plan(plan, tmp_path / "p.hplan", Scan(sloped()))
    save_scan(Scan(sloped(slope_x=0.5)), tmp_path / "[green]s[bold].x3p")
    code, out, err = hemtra("plan", "show", tmp_path / "p.hplan")
    assert (code, "[/left] [bold]" in out, "[red]Rise[/]" in out) == (0, True, True), err
    code, out, err = hemtra("inspect", tmp_path / "p.hplan", tmp_path / "[green]s[bold].x3p")
    assert code == 1, err
    assert "[red]Rise[/]" in out
    assert "[green]s[bold].x3p" in out


def test_a_master_part_is_kept_in_the_plan(hemtra, tmp_path):
    plan, scan = tmp_path / "rise.hplan", tmp_path / "M1.x3p"
    save_plan(step_plan(), plan)
    save_scan(Scan(sloped(slope_x=0.1), "", "M1"), scan)
    code, out, _ = hemtra("plan", "master", plan, scan, "--hours", 4)
    assert (code, out) == (0, "Master part M1: 1 rows, due every 4 h.\n")
    kept = load_plan(plan).master_part
    assert (kept.serial, kept.hours, kept.share) == ("M1", 4.0, 10.0)
    assert kept.values == {"1": pytest.approx(0.2, abs=1e-4)}
    assert hemtra("plan", "master", plan, "--none")[0] == 0
    assert load_plan(plan).master_part is None
    code, _, err = hemtra("plan", "master", plan)
    assert (code, "not both" in err) == (2, True)
    save_scan(Scan(sloped(slope_x=0.1)), scan)
    code, _, err = hemtra("plan", "master", plan, scan)
    assert (code, "has no serial" in err) == (2, True)
    assert hemtra("plan", "master", plan, scan, "--serial", "M2")[0] == 0


def test_scans_of_other_programs_are_converted_and_remembered(hemtra, tmp_path):
    z = np.round(1000.0 * sloped().z).astype(np.int32)
    np.save(tmp_path / "part.npy", z)
    code, _, err = hemtra("convert", tmp_path / "part.npy", tmp_path / "part.x3p")
    assert (code, "--dx 0.1 --dy 0.1 --scale 0.001" in err) == (2, True)
    said = ("--dx", 0.2, "--dy", 0.1, "--scale", 1, "--unit", "um", "--offset", 3, "--remember")
    code, out, _ = hemtra("convert", tmp_path / "part.npy", tmp_path / "part.x3p", *said)
    rows, cols = z.shape
    assert (code, f"{rows} profiles of {cols} points, 0.2 × 0.1 mm apart, 100.0 % with data" in out) == (
        0,
        True,
    )
    for name in ("part.x3p", "part.npy"):
        scan = load_scan(tmp_path / name)
        np.testing.assert_allclose(scan.data.z, z / 1000.0 + 3.0, atol=1e-5)
    plan = tmp_path / "rise.hplan"
    save_plan(step_plan(), plan)
    found = json.loads(hemtra("inspect", plan, tmp_path / "part.npy", "--json")[1])
    assert "characteristics" in found, "inspected as it lies there"


def test_folders_are_inspected_and_an_unreadable_scan_is_a_line_of_its_own(hemtra, tmp_path):
    plan, folder = tmp_path / "rise.hplan", tmp_path / "scans"
    folder.mkdir()
    save_plan(step_plan(), plan)
    for name in ("b.x3p", "a.x3p"):
        save_scan(Scan(sloped()), folder / name)
    (folder / "c.x3p").write_bytes(b"no scan")
    (folder / "notes.txt").write_text("not a scan")
    code, out, err = hemtra("inspect", plan, folder, "--json")
    lines = [json.loads(line) for line in out.splitlines()]
    assert [Path(line["scan"]).name for line in lines] == ["a.x3p", "b.x3p", "c.x3p"]
    assert code == 2
    assert lines[2]["error"] in err
    (tmp_path / "empty").mkdir()
    code, _, err = hemtra("inspect", plan, tmp_path / "empty")
    assert (code, "empty holds no scans" in err) == (2, True)
    shown = json.loads(hemtra("plan", "show", plan, "--json")[1])
    assert [row["name"] for row in shown["sheet"]] == ["Rise"]
    assert hemtra("--version")[1].startswith("hemtra ")
    assert hemtra("-h")[0] == 0


def test_the_mesh_of_a_drawing_becomes_the_nominal_surface(hemtra, tmp_path):
    trimesh = pytest.importorskip("trimesh")
    mesh = part_mesh()
    trimesh.Trimesh(mesh.corners, mesh.faces, process=False).export(tmp_path / "part.ply")
    save_plan(step_plan(), tmp_path / "p.hplan", Scan(scanned(mesh, pose((10.0, 0.0, 0.0)))))
    code, out, _ = hemtra("plan", "nominal", tmp_path / "p.hplan", tmp_path / "part.ply")
    assert code == 0
    assert "part.ply is placed by best-fit: the reference scan lies" in out
    assert load_plan(tmp_path / "p.hplan").nominal.rotation == pytest.approx(10.0, abs=0.2)
    for wrong, words in (
        (("--by", "guess"), "--by is outline, best-fit or points"),
        (("--by", "points", "--point", "1,2"), "is no pair of points"),
        (("--by", "points"), "three points are needed"),
        (("--unit", "ell"), "no unit of length"),
    ):
        code, _, err = hemtra("plan", "nominal", tmp_path / "p.hplan", tmp_path / "part.ply", *wrong)
        assert code == 2
        assert words in err
    assert hemtra("plan", "nominal", tmp_path / "p.hplan")[0] == 2
    assert hemtra("plan", "nominal", tmp_path / "p.hplan", "--remove")[0] == 0
    assert load_plan(tmp_path / "p.hplan").nominal is None
