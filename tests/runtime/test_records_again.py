"""What is on record, seen again: identical numbers, other plans, reports, and the twenty lots of the demo."""

import io
import json
import re
import shutil
from collections import Counter
from pathlib import Path

import numpy as np
import openpyxl
import pytest
from pypdf import PdfReader

from hemtra import FileError, HemtraError, Scan, load_plan, load_scan, save_plan, save_scan
from hemtra.cli import main
from hemtra.core.plan.limits import Verdict
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.core.statistics import statistics
from hemtra.runtime.crews import ProcessCrew, ThreadCrew
from hemtra.runtime.demo import PLAN_FILE
from hemtra.runtime.demo_records import RECORDS, SCANNED, records_of_demo
from hemtra.runtime.feeds import Arrived, FolderFeed
from hemtra.runtime.lot_reevaluation import reevaluate, save_changes
from hemtra.runtime.many_reports import Reporting, report_lots
from hemtra.runtime.production import Production, Setup
from hemtra.runtime.reevaluation import reevaluate_part
from hemtra.runtime.reporting import first_article, report_lot, report_part
from hemtra.runtime.scan_store import folder_of
from hemtra.runtime.workers import ThreadWorkers
from hemtra.storage.records import Records
from hemtra.storage.records.kept_scans import forget_scans
from hemtra.storage.records.pages import NOT_PASS, Filter, lot_views, page
from hemtra.storage.records.reevaluations import kept
from hemtra.storage.records.trends import failures, trends
from hemtra.storage.reports.drawing import round_length
from hemtra.storage.settings import Settings, save_settings
from hemtra.virtual.demo import STATION
from hemtra.virtual.lots import BAD_BATCH, TOOL_CHANGE, lot_name
from lots import BEGAN, DAY, made_lot, two_rows
from makers import sloped

PLAN = two_rows()
KEEP_ALL = STATION.model_copy(update={"keeping": ScanRetention(scans="all", minimum_free=0.0)})


def no_word(done, of, what):
    return True


class Feed:
    """Scans that come from memory, as those of a line do."""

    live = False

    def __init__(self, rises):
        rng = np.random.default_rng(3)
        self._scans = [Scan(sloped(slope_x=r / 2, noise=0.01, seed=int(rng.integers(1e6)))) for r in rises]

    def run(self, put, stopping, paused):
        for scan in self._scans:
            put(Arrived("line", 1.0, 2.0, scan))

    def travel(self):
        return None


@pytest.fixture
def records(tmp_path):
    found = Records(str(tmp_path / "records.db"))
    yield found
    found.close()


def produced(records, tmp_path, rises, feed=None, station=KEEP_ALL, plan=PLAN):
    setup = Setup(plan, station, tmp_path / "scans" if feed is None else None)
    run = Production(setup, feed or Feed(rises), ThreadWorkers(plan), records)
    run.start()
    assert run.wait(60)
    assert run.trouble == ""
    return run.lot, records.parts_of(run.lot)


def pdf_text(path):
    return "\n".join(sheet.extract_text() for sheet in PdfReader(path).pages)


def test_a_kept_scan_gives_the_very_numbers_of_that_day(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.4, 0.25])
    for one in parts:
        seen = reevaluate_part(records, one.id)
        then = [(row.value, row.verdict) for row in seen.sheet.rows]
        assert [(row.value, row.verdict) for row in seen.again.result.characteristics] == then
        assert seen.differences == ()
        assert seen.again.plan == PLAN
        assert seen.sheet.station == STATION.name
    assert records.events_of(lot) == []


def test_a_number_that_differs_is_an_event_once(records, tmp_path):
    lot, (one,) = produced(records, tmp_path, [0.2])
    scan = load_scan(one.scan)
    save_scan(Scan(sloped(slope_x=0.4 / 2), scan.name), one.scan)
    seen = reevaluate_part(records, one.id)
    assert len(seen.differences) == 2
    assert re.match(
        r"1 Rise gives 0\.4\d* mm \(FAIL\) now, on record is 0\.\d+ mm \(PASS\)\.", seen.differences[0]
    )
    reevaluate_part(records, one.id)
    assert [(e.kind, e.number) for e in records.events_of(lot)] == [("differs", 1)] * 2
    assert reevaluate_part(records, one.id).sheet.rows[0].verdict is Verdict.PASS, "what is on record stays"


def test_without_a_scan_there_is_the_sheet_and_why_there_is_no_picture(records, tmp_path):
    lot, (one,) = produced(records, tmp_path, [0.2])
    (tmp_path / "scans" / folder_of(lot) / "0000001.x3p").unlink()
    seen = reevaluate_part(records, one.id)
    assert seen.again is None
    assert "scan missing" in seen.missing
    assert len(seen.sheet.rows) == 2
    forget_scans(records, [one.scan])
    assert "scan not stored" in reevaluate_part(records, one.id).missing
    with records.writing() as db:
        db.exec_driver_sql("update revisions set document = replace(document, '\"step\"', '\"gone\"')")
        db.exec_driver_sql("update parts set scan = ?", (str(tmp_path / "there.x3p"),))
    save_scan(Scan(sloped()), tmp_path / "there.x3p")
    assert "cannot be evaluated here" in reevaluate_part(records, one.id).missing
    (tmp_path / "there.x3p").write_bytes(b"half of it")
    with records.writing() as db:
        db.exec_driver_sql("update revisions set document = replace(document, '\"gone\"', '\"step\"')")
    assert "there.x3p" in reevaluate_part(records, one.id).missing


def test_a_part_of_a_folder_is_seen_in_the_file_it_came_from(records, tmp_path):
    (tmp_path / "in").mkdir()
    save_scan(Scan(sloped(slope_x=0.1)), tmp_path / "in" / "a.x3p")
    _, (one,) = produced(records, tmp_path, [], FolderFeed.of(tmp_path / "in"))
    assert one.scan is None
    assert reevaluate_part(records, one.id).differences == ()


# -- another plan ---------------------------------------------------------------------------------


def changes_of(found):
    return [(change.part.number, change.now) for change in found.changes]


def test_other_limits_are_told_from_values_and_other_steps_from_scans(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.28, 0.5])
    closer = PLAN.with_characteristic(PLAN.sheet[0].edited(upper=0.25))
    found = reevaluate(records, lot, closer, no_word)
    assert changes_of(found) == [(2, Verdict.FAIL)]
    assert (found.by_values, found.by_scans, found.undecided) == (3, 0, ())
    assert found.changes[0].flips
    assert re.search(r"1 Rise PASS → FAIL 0\.280, above 0\.250", found.changes[0].words)
    turned = PLAN.with_characteristic(PLAN.sheet[0].edited(step="back", lower=-0.3, upper=0.0))
    forget_scans(records, [parts[2].scan])
    found = reevaluate(records, lot, turned, no_word)
    assert (found.by_values, found.by_scans) == (0, 2)
    assert changes_of(found) == []
    assert [(one.number, "not stored" in why) for one, why in found.undecided] == [(3, True)]
    assert "nothing changes. Not re-evaluated: 1" in found.words
    assert [one.verdict for one in records.parts_of(lot)] == [one.verdict for one in parts]


def test_scans_that_were_moved_are_found_by_their_names(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.28, 0.5])
    turned = PLAN.with_characteristic(PLAN.sheet[0].edited(step="back", lower=-0.3, upper=0.0))
    moved = tmp_path / "archive"
    moved.mkdir()
    for part in parts[:2]:
        Path(part.scan).rename(moved / Path(part.scan).name)
    for place in (str(moved), moved.as_uri()):
        found = reevaluate(records, lot, turned, no_word, scans=place)
        assert found.by_scans == 2
        ((third, why),) = found.undecided
        assert third.number == 3
        assert "issing" in why or "no such file" in why
    assert len(reevaluate(records, lot, turned, no_word).undecided) == 2, "where they were they are no more"
    # under the name of another part, as in the folder of another lot
    with records.writing() as db:
        db.exec_driver_sql("update parts set serial = 'P' || number")
    save_scan(Scan(sloped(), serial="P9"), moved / Path(parts[0].scan).name)
    found = reevaluate(records, lot, turned, no_word, scans=str(moved))
    told = {part.number: why for part, why in found.undecided}
    assert told[1] == "The scan there is of another part, P9."


def test_the_list_of_changes_is_saved_and_a_stopped_one_gives_none(records, tmp_path):
    lot, _ = produced(records, tmp_path, [0.2, 0.28])
    closer = PLAN.with_characteristic(PLAN.sheet[0].edited(upper=0.25))
    found = reevaluate(records, lot, closer, no_word)
    save_changes(tmp_path / "changes.csv", found)
    lines = (tmp_path / "changes.csv").read_text().splitlines()
    assert len(lines) == 2
    assert lines[1].startswith(f"{lot.name},2,,PASS,FAIL,1,Rise,PASS,FAIL,0.27")
    assert reevaluate(records, lot, closer, lambda done, of, what: False) is None
    other = PLAN.with_characteristic(PLAN.sheet[0].edited(step="back"))
    assert reevaluate(records, lot, other, lambda done, of, what: not what.startswith("scan")) is None
    assert len(reevaluate(records, lot, other, no_word, lambda n: ProcessCrew(1)).changes) == 2


def test_a_stopped_reevaluation_continues_where_it_was_and_its_result_is_kept(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.28, 0.5])
    other = PLAN.with_characteristic(PLAN.sheet[0].edited(step="back", lower=None, upper=0.0))

    def stop_after_two(done, of, what):
        return not (what.startswith("scan") and done == 2)

    assert reevaluate(records, lot, other, stop_after_two, author="Ann") is None
    (stopped,) = kept(records)
    assert (stopped.author, stopped.lot, stopped.ended, stopped.result) == ("Ann", lot.name, None, None)
    asked = []

    class Counted(ThreadCrew):
        def map(self, work, items):
            asked.extend(items)
            return super().map(work, items)

    found = reevaluate(records, lot, other, no_word, lambda n: Counted(), author="Ann")
    assert len(asked) == 1, "only what was missing"
    at_once = reevaluate(records, lot, other, no_word)
    assert found.as_json() == at_once.as_json()
    assert found.words == at_once.words
    (whole,) = kept(records)
    assert whole.result == json.loads(json.dumps(found.as_json()))
    assert whole.ended >= whole.began
    assert [one.verdict for one in records.parts_of(lot)] == [one.verdict for one in parts]
    # once more is another one; another plan, too
    reevaluate(records, lot, other, no_word, author="Bob")
    assert [one.author for one in kept(records)] == ["Bob", "Ann"]


# -- reports --------------------------------------------------------------------------------------


def test_the_report_of_a_part_has_its_sheet_its_picture_and_what_failed(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.4])
    report_part(records, parts[1].id, tmp_path / "part.pdf")
    told = pdf_text(tmp_path / "part.pdf")
    for words in (
        f"Part 2 of {lot.name}",
        "FAIL",
        "Rise",
        "0.10 … 0.30",
        "above 0.30",
        STATION.name,
        "Evidence",
    ):
        assert words in told
    images = [image for sheet in PdfReader(tmp_path / "part.pdf").pages for image in sheet.images]
    assert len(images) == 3, "the part, the colours of its heights, and the place that failed"
    assert " mm" in told
    structure = tagged(tmp_path / "part.pdf", f"Part 2 of {lot.name}")
    assert [role for role in structure if role.startswith("H")] == ["H1", "H2", "H2"]
    assert structure.count("Figure") == 1
    assert {"Table", "TR", "TH", "TD", "P"} <= set(structure)
    forget_scans(records, [parts[0].scan])
    report_part(records, parts[0].id, tmp_path / "sheet.pdf")
    told = pdf_text(tmp_path / "sheet.pdf")
    assert "No image: scan not stored" in told
    assert "Rise" in told
    assert not [image for sheet in PdfReader(tmp_path / "sheet.pdf").pages for image in sheet.images]


def tagged(path, title):
    """Roles of the structure of a PDF in reading order, once it is proven that it covers every page."""
    reader = PdfReader(path)
    catalogue = reader.trailer["/Root"]
    assert catalogue["/MarkInfo"]["/Marked"]
    assert catalogue["/Lang"] == "en-GB"
    assert reader.metadata.title == title
    assert f">{title}<" in catalogue["/Metadata"].get_object().get_data().decode()
    tree = catalogue["/StructTreeRoot"]
    nums = tree["/ParentTree"]["/Nums"]
    owners = {nums[k]: nums[k + 1] for k in range(0, len(nums), 2)}
    for number, sheet in enumerate(reader.pages):
        assert sheet["/StructParents"] == number
        code = sheet.get_contents().get_data().decode("latin-1")
        marks = [int(found) for found in re.findall(r"/MCID (\d+)>> BDC", code)]
        assert sorted(marks) == list(range(len(owners[number])))
        assert code.count(" BDC") + code.count(" BMC") == code.count("EMC")
        # all that is shown stands within a mark
        outside = re.sub(r"(?s)(BDC|BMC).*?EMC", "", code)
        assert " Tj" not in outside
        assert " Do" not in outside
    roles = []

    def walk(node):
        roles.append(node["/S"].lstrip("/"))
        inner = node["/K"]
        if isinstance(inner, list):
            for one in inner:
                walk(one.get_object())

    walk(tree["/K"].get_object())
    assert roles[0] == "Document"
    return roles


def test_a_first_article_lists_every_requirement_with_its_result(records, tmp_path):
    lot, parts = produced(records, tmp_path, [0.2, 0.4])
    save_settings(Settings(author="Ada L."))
    try:
        for name in ("fa.pdf", "fa.xlsx"):
            first_article(records, parts[1].id, tmp_path / name)
    finally:
        save_settings(Settings())
    told = pdf_text(tmp_path / "fa.pdf")
    for words in (
        f"First-article report: Part 2 of {lot.name}",
        "1 of 2 requirements are met",
        "Rise",
        "Ada L.",
        "0.40",
    ):
        assert words in told, words
    tagged(tmp_path / "fa.pdf", f"First article: Part 2 of {lot.name}")
    sheet = openpyxl.load_workbook(tmp_path / "fa.xlsx").active
    rows = [[cell.value for cell in row] for row in sheet.iter_rows()]
    assert rows[1][0] == "FAIL"
    assert ["inspected by", "Ada L."] in [row[:2] for row in rows]
    (line,) = [row for row in rows if row[1] == "Rise"]
    assert (line[0], line[3], line[4], line[8]) == ("1", 0.1, 0.3, "FAIL")
    assert line[6] == pytest.approx(0.4, abs=1e-3)
    assert len(sheet._images) == 1
    with pytest.raises(FileError, match=r"neither \.pdf nor \.xlsx"):
        first_article(records, parts[1].id, tmp_path / "fa.doc")
    forget_scans(records, [parts[0].scan])
    first_article(records, parts[0].id, tmp_path / "bare.xlsx")
    assert openpyxl.load_workbook(tmp_path / "bare.xlsx").active._images == []


@pytest.mark.parametrize(
    ("longest", "round_"),
    [(1.0, 1.0), (1.99, 1.0), (2.0, 2.0), (49.0, 20.0), (50.0, 50.0), (0.3, 0.2)],
)
def test_a_scale_bar_has_a_round_length(longest, round_):
    assert round_length(longest) == pytest.approx(round_)


def test_the_report_of_a_lot_counts_follows_and_shows(records, tmp_path):
    lot, _ = produced(records, tmp_path, [0.2, 0.21, 0.4, 0.22, 0.23])
    steps = []
    assert report_lot(records, lot, tmp_path / "lot.pdf", lambda done, of, what: not steps.append(done / of))
    assert steps == sorted(steps)
    told = pdf_text(tmp_path / "lot.pdf")
    (trend,) = trends(records, [lot], 1)
    found = statistics(trend.values, 0.1, 0.3)
    for words in (
        lot.name,
        "80.0 % of 5 parts pass",
        f"{found.mean:.3f}",
        f"({found.ppk:.2f})",
        "All parts",
        "above 0.30",
    ):
        assert words in told, words
    images = [image for sheet in PdfReader(tmp_path / "lot.pdf").pages for image in sheet.images]
    assert len(images) == 3, "the part, the colours of its heights, and the place that failed"
    assert not report_lot(records, lot, tmp_path / "none.pdf", lambda done, of, what: False)
    assert not (tmp_path / "none.pdf").exists()
    with pytest.raises(HemtraError, match="was not saved"):
        report_lot(records, lot, tmp_path / "nowhere" / "lot.pdf")


def test_lots_of_nothing_one_part_or_awkward_names_are_reported(records, tmp_path):
    empty = made_lot(records, "nothing <&>", [])
    odd = two_rows(name="<b>Höhe</b> & “Maß”  " + "lang " * 20)
    single = made_lot(records, "one", [None], odd)
    for lot in (empty, single):
        assert report_lot(records, lot, tmp_path / "lot.pdf")
        assert lot.name in pdf_text(tmp_path / "lot.pdf")
    assert "<b>Höhe</b> & “Maß”" in pdf_text(tmp_path / "lot.pdf")
    assert "not measured" in pdf_text(tmp_path / "lot.pdf").lower()


# -- the demo -------------------------------------------------------------------------------------


@pytest.fixture
def demo_records(demo_folder, tmp_path):
    shutil.copy(demo_folder / RECORDS, tmp_path / "demo.db")
    found = Records(str(tmp_path / "demo.db"))
    yield found
    found.close()


def test_the_demo_works_with_its_lots_beside_what_was_recorded_before(demo_folder):
    first = Records(records_of_demo(demo_folder))
    before = len(lot_views(first))
    made_lot(first, "mine", [0.2])
    first.close()
    again = Records(records_of_demo(demo_folder))
    names = [view.lot.name for view in lot_views(again)]
    again.close()
    assert len(names) == before + 1
    assert {"mine", lot_name(0), lot_name(19)} <= set(names)


def test_the_twenty_lots_have_something_to_find(demo_records):
    lots = {view.lot.name: view for view in lot_views(demo_records)}
    assert len(lots) == 20
    assert {view.counts.all for view in lots.values()} == {60}
    held = sorted((view.lot for view in lots.values()), key=lambda lot: lot.started)
    bad = lots[lot_name(BAD_BATCH[0])]
    assert bad.counts.share < 0.8
    assert failures(demo_records, [bad.lot])[0].balloon == 12
    (bore,) = trends(demo_records, held, 8)
    change = TOOL_CHANGE[0] * 60 + TOOL_CHANGE[1]
    assert bore.values[change - 60 : change].mean() - bore.values[:60].mean() > 0.07, "the tool wears"
    assert bore.values[change : change + 60].mean() - bore.values[change - 60 : change].mean() < -0.07
    width, widest = trends(demo_records, held, 18)
    assert (width.name, widest.name) == ("Bead width, min", "Bead width, max"), "not the worse of both"
    assert (width.values <= widest.values).all()
    assert width.values[-60:].mean() < width.values[:60].mean() - 0.25, "the bead gets narrower"
    assert [(t.upper, t.values.size) for t in trends(demo_records, held, 6)] == [(8.15, 990), (8.1, 210)]
    (text,) = trends(demo_records, held, 23)
    assert text.reads


def test_kept_parts_of_the_demo_are_seen_as_they_were(demo_records):
    kept = [one for one in page(demo_records, Filter(), most=2000).parts if one.scan]
    assert len(kept) == sum(SCANNED.values()) + 1
    for one in kept:
        seen = reevaluate_part(demo_records, one.id)
        assert seen.differences == ()
        assert seen.again.result.verdict is one.verdict
    assert Counter(one.verdict is Verdict.PASS for one in kept)[True] == 1


@pytest.fixture
def hemtra(capsys, monkeypatch):
    """The command with some arguments: its exit code, and what it wrote to either stream."""

    def run(*arguments):
        monkeypatch.setattr("sys.argv", ["hemtra", *map(str, arguments)])
        with pytest.raises(SystemExit) as end:
            main()
        wrote = capsys.readouterr()
        return end.value.code, wrote.out, wrote.err

    return run


def test_lots_are_evaluated_by_another_plan_on_the_command_line(hemtra, demo_records, demo_folder):
    db, name = str(demo_folder / RECORDS), lot_name(BAD_BATCH[0])
    plan = load_plan(demo_folder / PLAN_FILE)
    (row,) = [row for row in plan.sheet if row.name == "Plug flush"]
    closer = demo_folder / "closer.hplan"
    save_plan(plan.with_characteristic(row.edited(upper=0.06)), closer)
    code, out, _ = hemtra("records", "reevaluate", closer, "--db", db, "--lot", name, "--json")
    found = json.loads(out)
    assert (code, found["lot"], found["by_values"]) == (1, name, 60)
    assert found["flips"] == len([one for one in found["changes"] if one["then"] == "PASS"]) > 30
    assert next(iter(found["flips_by_row"])) == f"{row.balloon} Plug flush"
    code, out, _ = hemtra("records", "reevaluations", "--db", db, "--json")
    assert (code, json.loads(out.splitlines()[0])["result"]["flips"]) == (0, found["flips"])
    code, _, err = hemtra("records", "reevaluate", closer, "--db", db, "--since", "2999-01-01")
    assert (code, "No lot was begun on these days" in err) == (2, True)
    assert (
        "is no day; write it like" in hemtra("records", "reevaluate", closer, "--db", db, "--until", "soon")[2]
    )


def test_a_lot_and_a_part_are_reported(hemtra, demo_records, demo_folder, tmp_path):
    db, name = str(demo_folder / RECORDS), lot_name(BAD_BATCH[0])
    code, out, _ = hemtra("report", "--db", db, "--lot", name, "-o", tmp_path / "lot.pdf")
    assert (code, f"The report is in {tmp_path / 'lot.pdf'}" in out) == (0, True)
    told = pdf_text(tmp_path / "lot.pdf")
    assert "70.0 % of 60 parts pass" in told
    assert "12 Plug flush" in told
    (lot,) = [view.lot for view in lot_views(demo_records) if view.lot.name == name]
    bad = page(demo_records, Filter(lots=(lot.id,), verdicts=NOT_PASS)).parts[-1]
    code, _, _ = hemtra("report", "--db", db, "--lot", name, "--part", bad.number, "-o", tmp_path / "part.pdf")
    assert code == 0
    tagged(tmp_path / "lot.pdf", name)
    assert f"Part {bad.number} of {name}" in pdf_text(tmp_path / "part.pdf")
    assert hemtra("report", "--db", db, "--lot", name, "--part", 99, "-o", tmp_path / "x.pdf")[0] == 2
    one = "report", "--db", db, "--lot", name, "--first-article", "-o", tmp_path / "fa.xlsx"
    assert "say which with --part" in hemtra(*one)[2]
    assert hemtra(*one, "--part", bad.number)[0] == 0
    assert openpyxl.load_workbook(tmp_path / "fa.xlsx").active["A2"].value == str(bad.verdict)
    assert hemtra("report", "--db", tmp_path / "none.db", "-o", tmp_path / "x.pdf")[0] == 2
    assert not (tmp_path / "x.pdf").exists()


def test_many_lots_are_reported_into_a_folder_by_whoever_does_it(hemtra, records, tmp_path):
    for name, values in (("one/a", [0.2, 0.4]), ("two", [0.2]), ("later", [0.2])):
        made_lot(records, name, values, started=BEGAN + (name == "later") * DAY)
    several = "report", "--db", tmp_path / "records.db", "-o", tmp_path / "all"
    assert hemtra(*several, "--lot", "one/a", "--lot", "two", "--on", "local", "--jobs", 1)[0] == 0
    made = sorted((tmp_path / "all").iterdir())
    assert [path.name for path in made] == ["000001 one-a.pdf", "000002 two.pdf"]
    assert "50.0 % of 2 parts pass" in pdf_text(made[0])
    at_once = Reporting(records.url)(records.all_lots()[-1])
    # but for the minute in which each was made
    first, again = (
        re.sub(r"\d\d:\d\d · page", "page", pdf_text(one)) for one in (made[0], io.BytesIO(at_once.pdf))
    )
    assert first == again
    assert hemtra(*several, "--since", "2026-01-13")[0] == 0
    assert (tmp_path / "all" / "000003 later.pdf").exists()
    assert "name that alone" in hemtra(*several, "--since", "2026-01-13", "--part", 1)[2]
    assert "--on is for the reports of several lots" in hemtra(*several, "--lot", "two", "--on", "local")[2]
    (tmp_path / "all" / "000002 two.pdf").unlink()
    (tmp_path / "file").touch()
    assert hemtra(*several[:-1], tmp_path / "file", "--since", "2026-01-01")[0] == 2
    gone = Reporting(str(tmp_path / "none.db"))
    found = list(report_lots(gone, records.all_lots(), tmp_path / "all", ThreadCrew(), no_word))
    assert ["There are no records" in trouble for _, trouble in found] == [True] * 3
    assert not (tmp_path / "all" / "000002 two.pdf").exists()


def test_a_lot_is_exported_and_records_merged(hemtra, demo_records, demo_folder, tmp_path):
    db, name = str(demo_folder / RECORDS), lot_name(BAD_BATCH[0])
    code, _, _ = hemtra("export", "--db", db, "--lot", name, "-o", tmp_path / "lot.csv")
    assert code == 0
    assert len((tmp_path / "lot.csv").read_text().splitlines()) == 61
    code, _, err = hemtra("export", "--db", db, "--lot", "gone", "-o", tmp_path / "x.csv")
    assert (code, "There is no lot “gone”" in err) == (2, True)
    code, out, _ = hemtra("merge", db, "--db", tmp_path / "mine.db")
    assert (code, "1200 parts merged, 0 were here already." in out) == (0, True)


def test_inspecting_writes_a_report_too(demo_folder, tmp_path, monkeypatch):
    parts = [demo_folder / "tray" / f"cover-{k:02d}.x3p" for k in (1, 3)]
    plan = demo_folder / "rain-pump-cover.hplan"
    monkeypatch.setattr(
        "sys.argv", ["hemtra", "inspect", *map(str, (plan, *parts)), "--report", str(tmp_path / "r.pdf")]
    )
    with pytest.raises(SystemExit) as end:
        main()
    assert end.value.code == 1
    told = pdf_text(tmp_path / "r.pdf")
    assert "cover-01.x3p" in told
    assert "3.71, below 3.90" in told
