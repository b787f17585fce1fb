"""The command of gauge studies: lists of scans, what cannot be evaluated, and its answer to other programs."""

import datetime
import json
import shutil

import numpy as np
import pytest
from test_cli import hemtra  # noqa: F401

from hemtra import HeightMap, Scan, Verdict, load_plan, save_plan, save_scan
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.storage.records import Records
from hemtra.storage.records.store import PartRecord
from makers import sloped, step_plan


@pytest.fixture(scope="module")
def study(tmp_path_factory):
    """Three parts of known rise, measured by two operators twice; the second reads 0.01 mm more."""
    folder = tmp_path_factory.mktemp("study")
    save_plan(step_plan(), folder / "rise.hplan")
    lines, base = ["scan;part;operator;trial;tag"], sloped()
    x = np.broadcast_to(base.x, base.shape)
    for part, rise in (("p1", 0.16), ("p2", 0.20), ("p3", 0.24)):
        for operator, more in (("Ada", 0.0), ("Ben", 0.01)):
            for trial, noise in ((1, -0.001), (2, 0.001)):
                name = f"{part}-{operator}-{trial}.x3p"
                z = np.array(base.z)
                z[x > 0] += rise + more + noise
                grid = base.grid
                data = HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0)
                save_scan(Scan(data, name, part), folder / name)
                lines.append(f"{name};{part};{operator};{trial};good")
    (folder / "study.csv").write_text("\n".join(lines))
    return folder


def test_what_was_put_in_is_found(hemtra, study):  # noqa: F811
    code, out, err = hemtra("gauge", study / "rise.hplan", study / "study.csv", "--json")
    found = json.loads(out)
    (row,) = found["rows"]
    spread = row["repeatability_and_reproducibility"]
    # two readings 2 µm apart, two operators 10 µm apart, parts 40 µm apart
    assert spread["repeatability"]["deviation"] == pytest.approx(0.001 * np.sqrt(2) * np.sqrt(6 / 8), rel=0.01)
    assert spread["reproducibility"]["deviation"] == pytest.approx(0.01 / np.sqrt(2), rel=0.01)
    assert spread["parts"]["deviation"] == pytest.approx(0.04, rel=0.01)
    assert (found["parts"], found["operators"], found["trials"]) == (3, 2, 2)
    assert found["verdicts"]["share"] == 1.0
    assert code == (1 if row["grade"] == "not capable" else 0)
    assert err == ""
    code, out, _ = hemtra("gauge", study / "rise.hplan", study / "study.csv", "--method", "ranges")
    assert "average and range" in out
    assert "Verdicts of one part agree in 100.0 %" in out


def test_one_part_is_held_against_its_reference(hemtra, study, tmp_path):  # noqa: F811
    names = [f"{study}/p2-Ada-{1 + k % 2}.x3p,p2" for k in range(12)]
    (tmp_path / "one.csv").write_text("\n".join(["scan,part", *names]))
    _, out, _ = hemtra("gauge", study / "rise.hplan", tmp_path / "one.csv", "--reference", "1=0.195", "--json")
    (row,) = json.loads(out)["rows"]
    assert row["bias"]["bias"] == pytest.approx(0.005, abs=2e-5)
    assert row["bias"]["count"] == 12
    assert row["bias"]["chance"] < 0.001
    _, out, _ = hemtra("gauge", study / "rise.hplan", tmp_path / "one.csv")
    assert "give its reference" in out


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        ("", "The list is empty"),
        ("scan,operator\na.x3p,Ada", "has no column “part”"),
        ("scan,part", "lists no scans"),
        ("scan,part\n,p1", "Line 2 of list.csv names no scan or no part"),
        ("scan,part,trial\na.x3p,p1,zero", "Line 2 of list.csv: “zero” is no trial"),
        ("scan,part,tag\na.x3p,p1,fine", "the tag is good, bad or empty, not “fine”"),
    ],
)
def test_a_list_that_cannot_be_used_is_refused_in_words(hemtra, study, tmp_path, lines, words):  # noqa: F811
    (tmp_path / "list.csv").write_text(lines)
    code, out, err = hemtra("gauge", study / "rise.hplan", tmp_path / "list.csv")
    assert (code, out) == (2, "")
    assert words in err


def test_scans_that_cannot_be_read_are_named_and_their_cell_too(hemtra, study, tmp_path):  # noqa: F811
    text = (study / "study.csv").read_text().replace("p1-", f"{study}/p1-").replace("p2-", f"{study}/p2-")
    (tmp_path / "holes.csv").write_text(text)
    code, out, err = hemtra("gauge", study / "rise.hplan", tmp_path / "holes.csv")
    assert code == 0
    assert "Part p3, Ada, trial 1: " in err
    assert "Part p3, Ada, trial 1 was not measured" in out


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ((), "Name the list or folder of the study, its lots, or take --demo"),
        (("study.csv", "--demo"), "one of them"),
        (("--lot", "Ada=1", "--lot", "Ada=2"), "One operator has two lots"),
        (("study.csv", "--reference", "1:2"), "“1:2” is no reference"),
        (("study.csv", "--reference", "9=2"), "The plan has no row 9"),
    ],
)
def test_arguments_that_make_no_sense(hemtra, study, arguments, words):  # noqa: F811
    told = [study / a if a.endswith(".csv") else a for a in arguments]
    code, _, err = hemtra("gauge", study / "rise.hplan", *told)
    assert code == 2
    assert words in err


def test_a_plan_without_rows_studies_nothing(hemtra, study, tmp_path):  # noqa: F811
    save_plan(Plan(), tmp_path / "empty.hplan")
    code, out, _ = hemtra("gauge", tmp_path / "empty.hplan", study / "study.csv", "--json")
    assert (code, json.loads(out)["rows"]) == (0, [])


def test_sizes_that_are_known_tell_the_linearity(hemtra, study):  # noqa: F811
    sizes = [f"--reference={part}:1={size}" for part, size in (("p1", 0.16), ("p2", 0.20), ("p3", 0.24))]
    _, out, _ = hemtra("gauge", study / "rise.hplan", study / "study.csv", *sizes, "--json")
    line = json.loads(out)["rows"][0]["linearity"]
    # every part reads 5 µm too much in the mean of both operators
    assert [at["bias"] for at in line["sizes"]] == pytest.approx([0.005] * 3, abs=2e-5)
    assert line["slope"] == pytest.approx(0.0, abs=1e-3)
    _, out, _ = hemtra("gauge", study / "rise.hplan", study / "study.csv", *sizes)
    assert "1 Rise: bias +0.005" in out
    code, _, err = hemtra("gauge", study / "rise.hplan", study / "study.csv", "--reference", "p9:1=0.2")
    assert (code, err) == (2, "hemtra: The study has no part p9, for which a reference was given.\n")
    code, _, err = hemtra("gauge", study / "rise.hplan", study / "study.csv", "--good", 40, "--usable", 20)
    assert code == 2
    assert err == "hemtra: A gauge that is good up to 40 % cannot be usable up to 20 % only.\n"


def test_a_part_is_followed_over_time(hemtra, study, tmp_path):  # noqa: F811
    lines = ["scan;part;operator"]
    for day in range(6):
        for trial in (1, 2):
            lines.append(f"{study}/p1-{'Ada' if day < 5 else 'Ben'}-{trial}.x3p;p1;day {day}")
    (tmp_path / "days.csv").write_text("\n".join(lines))
    code, out, _ = hemtra("gauge", study / "rise.hplan", tmp_path / "days.csv", "--stability")
    assert code == 1
    assert "one part over time" in out
    assert "not stable: occasion 6 beyond its limits" in out


def test_scans_in_a_folder_of_each_operator_are_the_same_study(hemtra, study, tmp_path):  # noqa: F811
    for scan in study.glob("*.x3p"):
        part, operator, trial = scan.stem.split("-")
        (tmp_path / operator).mkdir(exist_ok=True)
        shutil.copy(scan, tmp_path / operator / f"{part}-{trial}.x3p")
    of_list, of_folder = (
        json.loads(hemtra("gauge", study / "rise.hplan", source, "--json")[1])
        for source in (study / "study.csv", tmp_path)
    )
    assert of_folder["rows"] == of_list["rows"]
    (tmp_path / "Ada" / "p1-1.x3p").rename(tmp_path / "Ada" / "p1.x3p")
    code, _, err = hemtra("gauge", study / "rise.hplan", tmp_path)
    assert (code, "Ada/p1.x3p says no trial; name it PART-TRIAL" in err) == (2, True)


def narrow(study, plan):
    """The plan of the study with limits of which the gauge takes four tenths, in a file of its own."""
    made = load_plan(study / "rise.hplan")
    save_plan(made.with_characteristic(made.sheet[0].edited(lower=0.15, upper=0.25)), plan)
    return plan


def test_grades_are_kept_in_the_plan_and_doubts_are_said(hemtra, study, tmp_path):  # noqa: F811
    plan = narrow(study, tmp_path / "rise.hplan")
    assert "gauge" not in hemtra("plan", "check", plan)[1]
    code, _, _ = hemtra("gauge", plan, study / "study.csv", "--save", "--output", tmp_path / "study.pdf")
    row = load_plan(plan).sheet[0]
    today = datetime.datetime.now().date()
    # two operators 10 µm apart, and 1.2 µm of repeatability
    share = 100 * 6 * np.hypot(0.01 / np.sqrt(2), 0.001 * np.sqrt(2) * np.sqrt(6 / 8)) / 0.1
    assert row.gauge.share(row.lower, row.upper) == pytest.approx(share, rel=0.01)
    assert (code, row.gauge.made) == (1, today)
    words = f"its gauge takes {share:.0f} % of the tolerance: not capable (aiag, {today})."
    assert words in hemtra("plan", "check", plan)[1]
    assert (tmp_path / "study.pdf").read_bytes().startswith(b"%PDF")


def recorded(records, plan, lot, values):
    """A lot of parts by serial, in their order, as the plan evaluated them."""
    made = records.open_lot(plan.name, lot, new=True)
    revision, row = records.revision(plan), plan.sheet[0]
    for number, (serial, value) in enumerate(values, start=1):
        evaluated = CharacteristicResult(
            1, row.name, row.step, value, "mm", None, row.lower, row.upper, 2, Verdict.PASS, "", None
        )
        part = PartRecord(number, Verdict.PASS, "", serial, (evaluated,), 1.0, 1.0, 1.0, 1.0)
        records.add(made, part, revision)


def test_lots_on_record_are_a_study(hemtra, study, tmp_path):  # noqa: F811
    plan, db = load_plan(narrow(study, tmp_path / "rise.hplan")), f"{tmp_path}/records.db"
    records = Records(db)
    parts = {"p1": 0.16, "p2": 0.20, "p3": 0.24}
    for operator, more in (("Ada", 0.0), ("Ben", 0.01)):
        read = [(serial, rise + more + noise) for noise in (-0.001, 0.001) for serial, rise in parts.items()]
        recorded(records, plan, operator, read)
    recorded(records, plan, "nameless", [("", 0.2)])
    other = plan.with_step(plan.step("up").edited(zone=plan.step("down").zone))
    recorded(records, other, "other", [("p1", 0.2)])
    records.close()
    asked = ("gauge", tmp_path / "rise.hplan", "--db", db)
    code, out, _ = hemtra(*asked, "--lot", "A=Ada", "--lot", "Ben", "--json")
    found = json.loads(out)
    spread = found["rows"][0]["repeatability_and_reproducibility"]
    assert (code, found["parts"], found["operators"], found["trials"]) == (1, 3, 2, 2)
    assert spread["reproducibility"]["deviation"] == pytest.approx(0.01 / np.sqrt(2), rel=0.01)
    assert spread["repeatability"]["deviation"] == pytest.approx(0.001 * np.sqrt(2) * np.sqrt(6 / 8), rel=0.01)
    for lots, words in (
        (("Ada", "nameless"), "Part 1 of lot “nameless” has no serial"),
        (("Ada", "other"), "part 1 of lot “Ada” and part 1 of lot “other” were inspected with different"),
        (("other",), "was inspected with a revision of the plan that measures otherwise"),
        (("gone",), "There is no lot “gone”"),
    ):
        code, _, err = hemtra(*asked, *(x for lot in lots for x in ("--lot", lot)))
        assert code == 2
        assert words in err
