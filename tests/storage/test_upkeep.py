"""Records that are checked, copied, brought back, saved from damage and archived."""

import sqlite3
import sys
import time

import numpy as np
import pytest
from sqlalchemy import update
from test_records import evaluated_rows, part

from hemtra import save_plan
from hemtra.cli import main
from hemtra.core.events import Event
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.runtime.upkeep import Upkeep, evaluated_sources, kept_scans
from hemtra.storage.records import Records
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.schema import parts
from hemtra.storage.records.upkeep import MOST_TOLD, Rescued, archive, backup, check, rescue, restore
from lots import two_rows
from makers import step_plan

PLAN = step_plan()


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """Two lots of 300 parts each; the first has ended."""
    path = tmp_path_factory.mktemp("made") / "r.db"
    records = Records(str(path))
    revision, rows = records.revision(PLAN), evaluated_rows(PLAN)
    for _ in range(2):
        lot = records.open_lot(PLAN.name, new=True)
        for number in range(1, 301):
            records.add(lot, part(number, rows), revision, None)
    records.close()
    return path


@pytest.fixture
def path(made, tmp_path):
    """A copy of its own."""
    db, copy = sqlite3.connect(made), sqlite3.connect(tmp_path / "r.db")
    db.backup(copy)
    db.close()
    copy.close()
    return tmp_path / "r.db"


def counted(path, table="parts"):
    db = sqlite3.connect(path)
    found = db.execute(f"select count(*) from {table}").fetchone()[0]
    db.close()
    return found


def test_sound_records_have_nothing_wrong_and_a_gap_is_told(path):
    assert check(path) == ()
    db = sqlite3.connect(path)
    db.execute("delete from parts where number = 7 and lot_id = 1")
    db.commit()
    db.close()
    told = check(path)
    assert any("299 parts of the numbers 1 to 300" in words for words in told)
    assert any("belongs to one of parts that is gone" in words for words in told)
    with pytest.raises(RecordsError, match="no records"):
        check(path.with_name("nothing.db"))


def test_copies_are_made_while_a_line_writes_and_only_our_own_go(path, tmp_path):
    folder = tmp_path / "copies"
    folder.mkdir()
    stranger = folder / "r-2020-01-01.db"
    stranger.write_text("somebody else's")
    records = Records(str(path))
    lot = records.open_lot(PLAN.name)
    made = []
    for number in range(301, 305):
        records.add(lot, part(number), records.revision(PLAN), None)
        made.append(backup(path, folder, keep=2))
    records.close()
    kept = sorted(p for p in folder.iterdir() if p != stranger)
    assert len(kept) == 2
    assert stranger.read_text() == "somebody else's"
    assert counted(made[-1]) == 604
    assert check(made[-1]) == ()


def test_a_copy_comes_back_proven_and_what_stood_there_stays(path, tmp_path):
    copy = backup(path, tmp_path / "copies")
    records = Records(str(path))
    records.add(records.open_lot(PLAN.name), part(301), records.revision(PLAN), None)
    records.close()
    records = Records(str(path))
    with pytest.raises(RecordsError, match="open in another program"):
        restore(copy, path)
    records.close()
    assert counted(path) == 601
    aside = restore(copy, path)
    assert counted(path) == 600
    assert counted(aside) == 601
    raw = bytearray(copy.read_bytes())
    for at in range(4096 * 3, len(raw), 4096):
        raw[at : at + 8] = b"\xff" * 8
    copy.write_bytes(raw)
    with pytest.raises(RecordsError, match="not copied"):
        restore(copy, path)
    assert counted(path) == 600, "nothing is changed by a copy that is damaged"
    assert list(path.parent.glob(".*.part*")) == [], "nothing half is left"


@pytest.mark.parametrize("seed", range(2))
def test_what_is_readable_of_damaged_records_is_saved_and_the_rest_named(seed, path, tmp_path):
    records = Records(str(path))
    for lot in records.all_lots():
        for one in records.parts_of(lot, most=1000):
            records.event(lot, Event("note", time.time(), one.number, {"text": "seen"}), one.id)
    records.close()
    db = sqlite3.connect(path)
    db.execute("pragma wal_checkpoint(truncate)")
    whole = {row[0]: row[1:] for row in db.execute("select id, serial, number from parts")}
    size = db.execute("pragma page_size").fetchone()[0]
    db.close()
    raw, rng = bytearray(path.read_bytes()), np.random.default_rng(seed)
    # pages of data, not those that say what the tables are
    for page in rng.integers(30, len(raw) // size, 3):
        raw[page * size : page * size + 200] = rng.bytes(200)
    path.write_bytes(raw)
    said = []
    found = rescue(path, tmp_path / "saved.db", lambda done, of, what: said.append((done < of, what)) or True)
    assert (True, "reading parts") in said
    assert all("parts of the numbers" in words for words in check(tmp_path / "saved.db")), "gaps alone are left"
    db = sqlite3.connect(tmp_path / "saved.db")
    kept = {row[0]: row[1:] for row in db.execute("select id, serial, number from parts")}
    orphans = "select count(*) from events where part_id not in (select id from parts)"
    assert db.execute(orphans).fetchone() == (0,)
    assert db.execute("select count(part_id) from events").fetchone()[0] > 100
    db.close()
    assert len(kept) > 300, "most of it"
    assert found.kept["parts"] == len(kept)
    for first, last in found.lost.get("parts", []):
        assert (f"{first} to {last}" if first < last else f" {first}") in found.words
    assert "were saved" in found.words
    records = Records(str(tmp_path / "saved.db"))
    assert sum(records.counts(lot).all for lot in records.all_lots()) == len(kept)
    records.close()
    assert set(kept) <= set(whole)
    with pytest.raises(RecordsError, match="there already"):
        rescue(path, tmp_path / "saved.db")


def test_old_lots_go_to_a_file_of_their_own(path, tmp_path):
    records = Records(str(path))
    for lot in records.all_lots():
        records.event(lot, Event("new lot", time.time(), fields={"lot": lot.name}))
    assert "nothing was moved" in archive(records, 0.0, tmp_path / "old.db")
    words = archive(records, time.time() + 1.0, tmp_path / "old.db")
    assert "1 lots with 300 parts" in words
    assert [records.counts(lot).all for lot in records.all_lots()] == [300], "the open one stays"
    for table in ("part_values", "lots", "events"):
        assert counted(path, table) == counted(tmp_path / "old.db", table) != 0, table
    records.close()
    assert check(path) == check(tmp_path / "old.db") == ()


def test_they_are_looked_after_from_the_command_line(path, tmp_path, monkeypatch, capsys):
    def hemtra(*words):
        monkeypatch.setattr(sys, "argv", ["hemtra", "records", *map(str, words)])
        with pytest.raises(SystemExit) as ended:
            main()
        return ended.value.code, "".join(capsys.readouterr())

    assert hemtra("check", "--db", path) == (0, "The records are sound.\n")
    save_plan(two_rows(), tmp_path / "plan.hplan")
    moved = ("reevaluate", tmp_path / "plan.hplan", "--db", path, "--scans", tmp_path)
    code, words = hemtra(*moved)
    assert (code, "name one lot" in words) == (2, True), "its two lots may hold scans of the same name"
    code, _ = hemtra("backup", "--db", path, "--keep", 3)
    (copy,) = (path.parent / "backups").iterdir()
    assert (code, counted(copy)) == (0, 600)
    assert "was checked and replaces r.db" in hemtra("restore", copy, "--db", path)[1]
    assert "The values of one ended lot are packed now." in hemtra("pack", "--db", path)[1].replace("\n", " ")
    assert "packed already" in hemtra("pack", "--db", path)[1]
    assert "600 parts" in hemtra("rescue", "-o", tmp_path / "saved.db", "--db", path)[1]
    assert hemtra("archive", "--before", "[/left]", "-o", tmp_path / "old.db", "--db", path)[0] == 2
    tomorrow = time.strftime("%Y-%m-%d", time.localtime(time.time() + 86_400))
    assert "300 parts" in hemtra("archive", "--before", tomorrow, "-o", tmp_path / "old.db", "--db", path)[1]
    assert hemtra("check", "--db", tmp_path / "none.db")[0] == 2
    assert not (tmp_path / "none.db").exists()


def test_a_running_line_copies_its_records_and_says_where_it_cannot(path, tmp_path):
    told = []
    copies = Upkeep(path, ScanRetention(backups=2), told.append)
    for _ in range(3):
        copies.once()
    assert len(list((path.parent / "backups").iterdir())) == 2
    assert told == []
    Upkeep(tmp_path / "gone.db", ScanRetention(), told.append).once()
    assert "no records in gone.db" in told[0]


def test_a_running_line_archives_old_lots_and_still_knows_their_files(path, tmp_path, monkeypatch):
    """Each part is on record or in the archive, once; a watched folder is not re-evaluated."""
    told, folder = [], tmp_path / "in"
    records = Records(str(path))
    sources = [str(folder / f"p{k}.x3p") for k in range(counted(path))]
    with records.writing() as db:
        for k, source in enumerate(sources, start=1):
            kept = f"{tmp_path}/scans/{k}.x3p"
            db.execute(update(parts).where(parts.c.id == k).values(source=source, scan=kept))
    ended = sum(lot.ended is not None for lot in records.all_lots())
    assert 0 < ended < len(records.all_lots()), "the one that is open stays"
    looking = Upkeep(path, ScanRetention(backup=0.0, archive=10.0), told.append)
    looking.once()
    assert counted(path) == len(sources), "nothing is that old"
    later = time.time() + 11 * 86_400
    monkeypatch.setattr("hemtra.runtime.upkeep.time.time", lambda: later)
    looking = Upkeep(path, ScanRetention(backup=0.0, archive=0.5), told.append)
    looking.once()
    looking.once()
    (held,) = (path.parent / "archives").iterdir()
    assert 0 < counted(path) < len(sources)
    assert counted(path) + counted(held) == len(sources)
    assert len(records.all_lots()) == 1
    (path.parent / "archives" / "family.db").write_bytes(b"photos of another program")
    assert set(evaluated_sources(records, folder)) == set(sources), "files that are not ours are not opened"
    scans = kept_scans(records, tmp_path / "scans")
    assert scans == [f"{tmp_path}/scans/{k}.x3p" for k in range(1, len(sources) + 1)], "they go on to make room"
    assert told == []
    records.close()


def test_of_many_lost_rows_the_first_are_named_and_the_rest_is_hinted_at():
    few, many = (Rescued(lost={"parts": [(3 * k, 3 * k + 1) for k in range(n)]}) for n in (2, MOST_TOLD + 1))
    assert few.words.endswith("Not readable in parts: 0 to 1, 3 to 4.")
    assert many.words.endswith(f"{3 * MOST_TOLD - 3} to {3 * MOST_TOLD - 2}, ….")
