"""The folder of a guided study: nothing lost, nothing of others touched; and the run that fills it."""

import json
import zipfile

import numpy as np
import pytest

from hemtra import HeightMap, Scan, save_scan
from hemtra.core.errors import FileError
from hemtra.core.gauge.guided import GuidedStudy
from hemtra.core.gauge.study import studied
from hemtra.runtime.guided_study import IncomingScans, Run, StudyRun
from hemtra.storage.study_folders import begin_study, entries_of, keep_run, load_study, scan_of
from hemtra.storage.study_lists import study_in_folder
from makers import sloped, step_plan


def study(parts=2, operators=("Ada",), trials=2):
    return GuidedStudy.asked([str(k + 1) for k in range(parts)], operators, trials, 3)


def rising(by):
    base = sloped()
    g, z = base.grid, np.array(base.z)
    z[:, base.x > 0] += by
    return Scan(HeightMap(z, None, g.dx, g.dy, g.x0, g.y0))


def test_a_study_is_kept_run_by_run_and_read_again(tmp_path):
    folder, held = tmp_path / "study", study()
    begin_study(folder, held)
    for one in held.order[:3]:
        held = keep_run(folder, held, one, rising(0.2))
    assert load_study(folder) == held
    assert [e.scan for e in entries_of(folder, held)] == [scan_of(folder, one) for one in held.order[:3]]
    # without its study.json the folder is as good a study of its scans
    assert {(e.part, e.operator, e.trial) for e in study_in_folder(folder)} == {
        (o.part, o.operator, o.trial) for o in held.taken
    }


def test_a_folder_with_anything_in_it_is_not_taken(tmp_path):
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/notes.txt").write_text("mine")
    with pytest.raises(FileError, match="not empty"):
        begin_study(tmp_path / "mine", study())
    assert [p.name for p in (tmp_path / "mine").iterdir()] == ["notes.txt"]
    begin_study(tmp_path / "new", study())
    with pytest.raises(FileError, match="To take up the study in it, continue that"):
        begin_study(tmp_path / "new", study())


def test_a_strangers_scan_of_that_name_stays_as_it_is(tmp_path):
    folder, held = tmp_path / "study", study()
    begin_study(folder, held)
    path = scan_of(folder, held.order[0])
    path.parent.mkdir()
    path.write_bytes(b"mine")
    with pytest.raises(FileError, match="is not of this study"):
        keep_run(folder, held, held.order[0], rising(0.2))
    assert path.read_bytes() == b"mine"
    assert load_study(folder).taken == ()


@pytest.mark.parametrize(
    "text", ["", "{", "[]", '{"parts": ["1"]}', '{"parts": ["1", "../../2"], "operators": ["A"], "trials": 2}']
)
def test_a_damaged_study_says_so(tmp_path, text):
    (tmp_path / "study.json").write_text(text)
    with pytest.raises(FileError, match="damaged"):
        load_study(tmp_path)
    with pytest.raises(FileError, match="no guided study"):
        load_study(tmp_path / "elsewhere")


def test_runs_that_were_never_asked_for_are_not_believed(tmp_path):
    held = json.loads(study().model_dump_json())
    held["taken"] = [{"part": "9", "operator": "Ada", "trial": 1}]
    (tmp_path / "study.json").write_text(json.dumps(held))
    with pytest.raises(FileError, match="damaged"):
        load_study(tmp_path)


class Given:
    """Presents parts whose rise is known; the second time that part 1 is asked for it is the wrong part."""

    def __init__(self, by_itself=True):
        self.by_itself, self.asked = by_itself, []

    def scan_of(self, one, go_on):
        self.asked.append(one)
        wrong = one.part == "1" and one.trial == 3 and self.asked.count(one) == 1
        return rising(0.1 * int(one.part) + 0.001 * one.trial + (0.05 if wrong else 0.0))


def test_a_doubtful_run_is_repeated_once_and_the_study_is_graded(tmp_path):
    begin_study(tmp_path / "s", study(parts=8, trials=3))
    presenter, said = Given(), []
    run = StudyRun.of(step_plan(), tmp_path / "s", presenter, lambda *_: True)
    assert run.work(lambda: True, said.append)
    doubtful = [what for what in said if isinstance(what, Run) and what.doubts]
    assert [(what.one.part, what.one.trial) for what in doubtful] == [("1", 3)]
    assert len(presenter.asked) == 25
    result = studied(run.plan, run.results)
    assert (result.parts, result.trials) == (8, 3)
    assert result.rows[0].spread.repeatability.deviation == pytest.approx(0.001, abs=1e-5)


def test_a_study_that_was_left_goes_on_where_it_was(tmp_path):
    folder, held = tmp_path / "s", study(parts=3, trials=2)
    begin_study(folder, held)
    first = StudyRun.of(step_plan(), folder, Given(), lambda *_: True)
    rounds = iter([True, True, True, False])
    assert not first.work(lambda: next(rounds), lambda what: None)
    again = Given()
    second = StudyRun.of(step_plan(), folder, again, lambda *_: True)
    assert second.work(lambda: True, lambda what: None)
    assert again.asked == list(held.order[3:])
    assert [(o.part, o.trial) for o in second.results] == [(p, t) for p in "123" for t in (1, 2)]


def test_scans_that_arrive_are_the_parts_that_were_asked_for(tmp_path):
    incoming, folder, held = tmp_path / "in", tmp_path / "s", study()
    incoming.mkdir()
    save_scan(rising(0.9), incoming / "old.x3p")
    begin_study(folder, held)
    run = StudyRun.of(step_plan(), folder, IncomingScans(incoming), lambda *_: True)
    put = []

    def said(what):
        if not isinstance(what, Run):
            put.append(what)
            path = incoming / f"{len(put)}.x3p"
            if len(put) == 2:  # whole, but no scan
                with zipfile.ZipFile(path, "w") as other:
                    other.writestr("main.xml", "<nothing/>")
            else:
                save_scan(rising(0.1 * int(what.part)), path)

    assert run.work(lambda: True, said)
    assert len(put) == 5, "the one that could not be read was asked for again"
    assert [round(o.rows[0].value, 3) for o in run.results] == [0.1, 0.1, 0.2, 0.2]
    with pytest.raises(FileError, match="no folder"):
        IncomingScans(tmp_path / "none")
