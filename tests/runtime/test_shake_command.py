"""`hemtra shake`: a plan tried on worse copies, on the command line."""

import json

import pytest
from test_cli import hemtra  # noqa: F401

from hemtra import Scan, save_plan, save_scan
from hemtra.storage.trays import TrayEntry, save_tray
from makers import levels, sloped


@pytest.fixture
def bench(tmp_path):
    """A plan with its tray: a good and a bad part."""
    save_plan(levels(lower=-0.06, upper=0.06), tmp_path / "step.hplan")
    for name, slope in (("good", 0.0), ("bad", 0.05)):
        save_scan(Scan(sloped(slope_x=slope, noise=0.004)), tmp_path / f"{name}.x3p")
    save_tray(tmp_path / "step.hplan", [TrayEntry(tmp_path / f"{tag}.x3p", tag) for tag in ("good", "bad")])
    return tmp_path


def test_a_tray_is_shaken_and_the_same_seed_says_the_same(hemtra, bench):  # noqa: F811
    wanted = (
        bench / "step.hplan",
        "--only",
        "tilted",
        "--only",
        "noise",
        "--copies",
        40,
        "--jobs",
        2,
        "--json",
    )
    code, out, _ = hemtra("shake", *wanted)
    assert code == 1, "the bad part passes where it is tilted level"
    tilted, noise = json.loads(out)
    assert tilted["disturbance"] == "tilted"
    assert [at["copies"] for at in tilted["amounts"]] == [10] * 4
    assert tilted["amounts"][-1]["refused"] > 0
    assert tilted["amounts"][-1]["first"]["name"] == "Rise"
    assert noise["holds_to"] == 8.0
    # however many processes share the work
    alone = *wanted[:-3], "--jobs", 1
    assert hemtra("shake", *alone, "--json")[1] == out
    _, out, _ = hemtra("shake", *alone)
    assert "copies of bad parts pass" in out
    assert "80 copies of 2 parts" in out


def test_scans_that_are_named_count_as_good(hemtra, bench):  # noqa: F811
    code, out, _ = hemtra(
        "shake", bench / "step.hplan", bench / "good.x3p", "--only", "dropouts", "--copies", 4, "--jobs", 1
    )
    assert code == 0
    assert "4 copies of 1 part\n" in out


def test_what_cannot_be_shaken_is_said_in_a_line(hemtra, bench):  # noqa: F811
    for arguments, words in (
        ((bench / "step.hplan", "--only", "wind"), "“wind” is no disturbance; take one of moved, turned"),
        ((bench / "none.hplan",), "none.hplan"),
        ((bench / "step.hplan", bench / "gone.x3p", "--jobs", 1), "gone.x3p"),
    ):
        code, _, err = hemtra("shake", *arguments)
        assert code == 2
        assert words in err
        assert err.count("\n") == 1
    (bench / "step.tray.json").unlink()
    assert "step.hplan has no tray" in hemtra("shake", bench / "step.hplan")[2]
