"""Every save of a plan is a revision that can be gone back to; nothing about them can spoil a save."""

import json
import zipfile

import numpy as np
import pytest

from hemtra import Engine, Scan, load_plan, save_plan
from hemtra.core.errors import FileError
from hemtra.core.plan.limits import Verdict
from hemtra.runtime.plan_comparison import on_lot, on_parts
from hemtra.storage import revisions
from hemtra.storage.plans import load_plan_file
from hemtra.storage.records import Records
from hemtra.storage.revisions import INDEX, read_revisions
from lots import made_lot, two_rows
from makers import sloped, step_plan

LIMITS = ({"lower": -1.0, "upper": 1.0}, {"lower": -1.0, "upper": 2.0}, {"lower": 0.0, "upper": 3.0})


def saved(path, *limits, comments=("", "", "")):
    plans = [step_plan().with_characteristic(step_plan().sheet[0].edited(**one)) for one in limits]
    for plan, comment in zip(plans, comments, strict=False):
        save_plan(plan, path, Scan(sloped()), comment=comment)
    return plans


def test_each_save_is_a_revision_and_can_be_gone_back_to(tmp_path, monkeypatch):
    monkeypatch.setattr("getpass.getuser", lambda: "ada")
    monkeypatch.setattr(revisions.time, "time", lambda: 1e9)
    path = tmp_path / "a.hplan"
    plans = saved(path, *LIMITS, comments=("first", "", "wider \n again"))
    found = read_revisions(path)
    assert [(r.number, r.author, r.saved) for r in found] == [(k, "ada", 1e9) for k in (1, 2, 3)]
    assert [r.comment for r in found] == ["first", "", "wider ␊ again"]
    assert [load_plan(path, r.number) for r in found] == plans
    assert load_plan(path) == plans[-1]
    assert np.array_equal(load_plan_file(path).reference.data.z, sloped().z)
    # the same again is no revision, but it may get a comment
    save_plan(plans[-1], path)
    save_plan(plans[-1], path, comment="as agreed")
    assert [r.comment for r in read_revisions(path)] == ["first", "", "as agreed"]
    # under another name it continues from there
    save_plan(plans[0], tmp_path / "b.hplan", before=path)
    assert [r.number for r in read_revisions(tmp_path / "b.hplan")] == [1, 2, 3, 4]
    with pytest.raises(FileError, match="has no revision 9"):
        load_plan(path, 9)


def test_the_oldest_go_where_there_are_too_many_or_too_large(tmp_path, monkeypatch):
    path = tmp_path / "a.hplan"
    monkeypatch.setattr(revisions, "MOST", 3)
    saved(path, *({"lower": 0.0, "upper": 1.0 + k} for k in range(5)), comments=[""] * 5)
    assert [r.number for r in read_revisions(path)] == [3, 4, 5]
    monkeypatch.setattr(revisions, "MOST_BYTES", 10)
    saved(path, {"lower": 0.0, "upper": 9.0})
    assert [r.number for r in read_revisions(path)] == [6]
    assert load_plan(path).sheet[0].upper == 9.0


def test_the_most_revisions_still_open(tmp_path):
    path = tmp_path / "a.hplan"
    saved(path, {"lower": 0.0, "upper": 1.0})
    with zipfile.ZipFile(path) as archive:
        document = archive.read("plan.json")
    kept = []
    for k in range(revisions.MOST + 5):
        kept = revisions.with_revision(kept, document + b" " * k, "x" * 500)
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("plan.json", document)
        revisions.write_revisions(kept, archive)
    assert len(read_revisions(path)) == revisions.MOST
    assert load_plan(path).sheet[0].upper == 1.0


@pytest.mark.parametrize("index", ["", "[1]", "[]", '[{"number": -1}]', '{"a": 1}', "[" * 9999])
def test_a_damaged_list_of_revisions_spoils_no_plan_and_no_save(tmp_path, index):
    path = tmp_path / "a.hplan"
    (plan,) = saved(path, LIMITS[0])
    with zipfile.ZipFile(path) as archive:
        document = archive.read("plan.json")
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("plan.json", document)
        archive.writestr(INDEX, index)
    assert load_plan(path) == plan
    if index != "[]":
        with pytest.raises(FileError, match="damaged list of revisions"):
            read_revisions(path)
    save_plan(plan, path)
    assert [r.number for r in read_revisions(path)] == [1]


def test_what_another_plan_does_on_parts_and_on_a_lot(tmp_path):
    before, after = two_rows(), two_rows(upper=0.25)
    parts = [(str(rise), Engine(sloped(slope_x=rise / 2))) for rise in (0.2, 0.28, 0.4)]
    found = on_parts(before, after, parts, lambda *_: True)
    assert [(c.part, c.before, c.after) for c in found.changes] == [("0.28", Verdict.PASS, Verdict.FAIL)]
    assert found.changes[0].rows[0].startswith("1 Rise PASS → FAIL 0.28")
    assert found.words == "The verdict changes on 1 of 3 parts."
    assert on_parts(before, before, parts, lambda *_: True).words == "The verdict changes on none of 3 parts."
    stopped = on_parts(before, after, parts, lambda done, *_: done < 1)
    assert (stopped.parts, stopped.changes) == (1, ()), "what was not tried is not counted"
    records = Records(str(tmp_path / "line.db"))
    lot = made_lot(records, "one", [0.2, 0.28, 0.4, None])
    on = on_lot(before, after, records, lot, lambda *_: True)
    assert [(c.part.split()[0], c.before, c.after) for c in on.changes] == [("2", Verdict.PASS, Verdict.FAIL)]
    # compared the other way round, and with what is not the plan on record
    back = on_lot(after, before, records, lot, lambda *_: True)
    assert [(c.before, c.after) for c in back.changes] == [(Verdict.FAIL, Verdict.PASS)]
    wider = on_lot(after, two_rows(upper=0.5), records, lot, lambda *_: True)
    assert [c.part.split()[0] for c in wider.changes] == ["2", "3"]
    assert on_lot(before, after, records, lot, lambda *_: False) is None
    records.close()


def test_the_command_line_compares_and_lists(tmp_path, capsys, monkeypatch):
    from hemtra.cli import main

    def hemtra(*words):
        monkeypatch.setattr("sys.argv", ["hemtra", *map(str, words)])
        with pytest.raises(SystemExit) as left:
            main()
        return left.value.code, capsys.readouterr()

    path = tmp_path / "a.hplan"
    saved(path, *LIMITS, comments=("first", "", "wider"))
    code, said = hemtra("plan", "revisions", path)
    assert (code, "wider" in said.out) == (0, True)
    code, said = hemtra("plan", "diff", f"{path}@1", path, "--json")
    found = json.loads(said.out)["differences"]
    assert (code, [(d["id"], d["what"], d["after"]) for d in found]) == (1, [("1", "limits", "0.00 … 3.00")])
    assert hemtra("plan", "diff", path, f"{path}@3")[0] == 0
    assert "no revision 7" in hemtra("plan", "diff", path, f"{path}@7")[1].err
    assert "is no revision" in hemtra("plan", "diff", path, f"{path}@x")[1].err
