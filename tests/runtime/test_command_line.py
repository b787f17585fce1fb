"""What holds for every command: patterns, pipes, quiet and verbose, errors, exit codes, manual pages."""

import csv
import io
import json
import signal
import subprocess
import sys

import pytest
import typer
from test_cli import hemtra  # noqa: F401

from hemtra import Scan, save_plan, save_scan
from hemtra.cli import app
from hemtra.commands import terminal
from hemtra.commands.man_pages import man_pages
from hemtra.core.progress import pace
from makers import sloped, step_plan


@pytest.fixture
def tray(tmp_path, monkeypatch):
    """A plan, a folder of three scans, and nothing else."""
    save_plan(step_plan(), tmp_path / "step.hplan")
    (tmp_path / "tray").mkdir()
    for name in ("a", "b", "c"):
        save_scan(Scan(sloped()), tmp_path / f"tray/{name}.x3p")
    monkeypatch.chdir(tmp_path)
    yield tmp_path
    terminal.settings.update(quiet=False, verbose=False)


def test_patterns_and_folders_name_scans(hemtra, tray):  # noqa: F811
    for wanted, count in (("tray/*.x3p", 3), ("tray", 3), ("tray/[ab].x3p", 2), (tray / "tray" / "?.x3p", 3)):
        code, out, _ = hemtra("inspect", "step.hplan", wanted, "--json")
        assert (code, len(out.splitlines())) == (0, count), wanted
    code, _, err = hemtra("inspect", "step.hplan", "tray/*.tif")
    assert (code, err) == (2, "hemtra: No file fits tray/*.tif; check the pattern.\n")
    # a file whose name looks like a pattern is that file
    save_scan(Scan(sloped()), tray / "tray/[a].x3p")
    assert hemtra("inspect", "step.hplan", "tray/[a].x3p", "--json")[1].count("\n") == 1


def test_a_pipe_gets_one_output_and_nothing_else(hemtra, tray):  # noqa: F811
    code, out, err = hemtra("inspect", "step.hplan", "tray", "--csv", "-")
    assert (code, err) == (0, "")
    rows = list(csv.DictReader(io.StringIO(out)))
    assert [row["name"] for row in rows] == ["Rise"] * 3
    assert not (tray / "-").exists()
    code, out, err = hemtra("inspect", "step.hplan", "tray", "--csv", "-", "--json")
    assert code == 2
    assert "Only one output can go to standard output" in err
    code, _, err = hemtra("export", "-o", "-", "--db", "none.sqlite")
    assert "Say in which format with --format" in err
    assert not (tray / "none.sqlite").exists()


def test_records_go_to_a_pipe_in_the_format_asked_for(hemtra, tray):  # noqa: F811
    ran = ("run", "step.hplan", "--replay", "tray", "--db", "r.sqlite", "--scans", "kept", "--jobs", 0)
    assert hemtra(*ran)[0] == 0
    code, out, _ = hemtra("-q", "export", "-o", "-", "--format", "csv", "--db", "r.sqlite")
    assert code == 0
    assert len(list(csv.DictReader(io.StringIO(out)))) == 3
    code, _, err = hemtra("export", "-o", "-", "--format", "doc", "--db", "r.sqlite")
    assert code == 2
    assert "has no format that records are exported in" in err


@pytest.mark.parametrize(
    "arguments",
    [
        ("export", "-o", "out.csv"),
        ("report", "-o", "out.pdf"),
        ("records", "check"),
        ("gauge", "step.hplan", "--lot", "L"),
    ],
)
def test_what_only_reads_creates_no_records(hemtra, tray, arguments):  # noqa: F811
    code, _, err = hemtra(*arguments, "--db", "none.sqlite")
    assert code == 2
    assert err.startswith("hemtra: ")
    assert sorted(path.name for path in tray.iterdir()) == ["step.hplan", "tray"]


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("inspect", "gone.hplan", "tray"), "gone.hplan"),
        (("inspect", "step.hplan", "tray", "--jobs", "0"), "greater than or equal to 1"),
        (("plan", "show", "step.hplan", "--no-such"), "No such option"),
    ],
)
def test_with_json_an_error_is_an_object_too(hemtra, tray, arguments, words):  # noqa: F811
    code, out, err = hemtra(*arguments, "--json")
    assert code == 2
    held = json.loads(out)
    assert words in held["error"]
    assert held["exit_code"] == 2
    assert words in err
    code, out, _ = hemtra(*arguments)
    assert (code, out) == (2, "")


def test_quiet_says_results_only_and_verbose_every_step(hemtra, tray):  # noqa: F811
    assert hemtra("-q", "inspect", "step.hplan", "tray", "--json")[2] == ""
    _, _, err = hemtra("-v", "--log-file", tray / "log.txt", "inspect", "step.hplan", "tray", "--json")
    assert err.count("inspect: ") == 3
    assert "inspect: 3 of 3, " in err
    assert (tray / "log.txt").exists()
    assert hemtra("-q", "-v", "inspect", "step.hplan", "tray")[0] == 2


def test_pace_is_what_was_done_and_what_is_left_at_that_speed():
    assert [pace(*given) for given in ((0, 40, 3.0), (10, 40, 4.0), (40, 40, 5.0))] == [
        "",
        "2.5/s, 12 s left",
        "8/s, 0 s left",
    ]


def test_progress_for_a_log_comes_now_and_then_with_rate_and_time_left(capfd):
    now = [0.0]
    lines = terminal._Lines("demo", lambda: now[0])
    for done in range(1, 31):
        now[0] += 1.0
        lines(done, 40, f"part {done}")
    said = capfd.readouterr().err.splitlines()
    assert said == [
        "demo: 10 of 40, 1/s, 30 s left: part 10",
        "demo: 20 of 40, 1/s, 20 s left: part 20",
        "demo: 30 of 40, 1/s, 10 s left: part 30",
    ]


def test_an_interrupt_ends_with_130(tray):
    lines = (
        "import hemtra.cli as cli",
        "def app(**_): raise KeyboardInterrupt",
        "cli.app = app",
        "cli.main()",
    )
    ended = subprocess.run([sys.executable, "-c", "\n".join(lines)], capture_output=True, text=True)
    assert (ended.returncode, ended.stderr) == (128 + signal.SIGINT, "hemtra: Interrupted.\n")


def test_every_command_has_a_manual_page_with_its_exit_codes():
    pages = man_pages(typer.main.get_command(app))
    assert {"hemtra.1", "hemtra-inspect.1", "hemtra-plan-check.1", "hemtra-records-backup.1"} <= set(pages)
    assert "hemtra-io-block.1" not in pages, "hidden names have none"
    for name, text in pages.items():
        assert text.startswith('.TH "HEMTRA'), name
        assert all(f".B {code}\n" in text for code in (0, 1, 2, 70, 130)), name
        # what begins with a point is a request of roff; only those that are meant may
        requests = {line.split(" ")[0] for line in text.splitlines() if line.startswith(".")}
        assert requests <= {".TH", ".SH", ".TP", ".B", ".BR", ".I"}, name
    assert "\\-\\-json" in pages["hemtra-inspect.1"]
