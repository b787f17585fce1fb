"""The command of gauge studies: lists of scans, what cannot be evaluated, and its answer to other programs."""

import json

import numpy as np
import pytest
from test_cli import hemtra  # noqa: F401

from hemtra import HeightMap, Scan, save_plan, save_scan
from hemtra.core.plan.document import Plan
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
        ((), "Name the list of the study, or take --demo"),
        (("study.csv", "--demo"), "not both"),
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
