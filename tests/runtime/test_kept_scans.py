"""Scans that a run keeps: its own files only, each where no other lot comes, and none replaced."""

import os
from dataclasses import replace

import pytest

from hemtra import Scan
from hemtra.core.station.io_and_storage import ScanRetention
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.scan_keeper import ScanKeeper
from hemtra.runtime.scan_store import ScanStore, folder_of
from hemtra.storage.records import Records
from hemtra.storage.records.store import Lot
from hemtra.storage.scans import save_scan
from lots import made_lot
from makers import sloped

ALL = ScanRetention(scans="all", budget=1e-6, minimum_free=0.0)
LOT = Lot(7, "A/7", "plan", 1.0)


@pytest.fixture
def arrived(tmp_path):
    path = tmp_path / "in.x3p"
    save_scan(Scan(sloped()), path)
    return Arrived(str(path), 1.0, 2.0, path=path)


def test_what_others_put_there_is_not_listed_counted_or_deleted(tmp_path, arrived):
    folder = tmp_path / "kept"
    theirs = [folder / "photos" / "holiday.jpg", folder / folder_of(LOT) / "notes.pdf", folder / "a.txt"]
    for path in theirs:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x" * 5000)
        os.utime(path, (0, 0))
    (folder / "photos" / "gone").symlink_to(tmp_path / "nowhere")
    (folder / "photos" / "link.x3p").symlink_to(theirs[0])
    known = [
        str(folder / "photos" / "link.x3p"),
        str(folder / "photos"),
        str(tmp_path / "in.x3p"),
        "/etc/passwd",
    ]
    store = ScanStore(folder, ALL, known)
    assert store.size == 0
    kept = [store.keep(arrived, LOT, number) for number in (1, 2, 3)]
    assert [gone for _, gone in kept] == [[], [kept[0][0]], [kept[1][0]]], "the budget holds one"
    assert all(path.read_bytes() == b"x" * 5000 for path in theirs)
    assert arrived.path.exists()
    assert (folder / "photos" / "link.x3p").is_symlink()


def test_each_lot_has_a_folder_of_its_own_and_none_leads_out(tmp_path, arrived):
    store = ScanStore(tmp_path / "kept", ALL.model_copy(update={"budget": 1.0}))
    lots = [
        replace(LOT, id=k, name=name)
        for k, name in enumerate(("A/7", "A:7", "..", ".", "A-7", "x" * 300, "\n"))
    ]
    paths = [store.keep(arrived, lot, 1)[0] for lot in lots]
    assert len({path.parent for path in paths}) == len(lots)
    assert all(path.parent.parent == tmp_path / "kept" for path in paths)


def test_a_file_that_is_there_is_never_replaced(tmp_path, arrived):
    folder = tmp_path / "kept" / folder_of(LOT)
    folder.mkdir(parents=True)
    (folder / "0000001.x3p").write_bytes(b"of another database")
    path, _ = ScanStore(tmp_path / "kept", ALL).keep(arrived, LOT, 1)
    assert path == folder / "0000001-2.x3p"
    assert (folder / "0000001.x3p").read_bytes() == b"of another database"
    assert path.read_bytes() == arrived.path.read_bytes()


def test_what_could_not_be_kept_leaves_no_name_behind(tmp_path):
    store = ScanStore(tmp_path / "kept", ALL)
    with pytest.raises(Exception, match="not kept"):
        store.keep(Arrived("gone", 1.0, 2.0, path=tmp_path / "gone.x3p"), LOT, 1)
    assert list((tmp_path / "kept").rglob("*.x3p")) == []


def test_why_a_scan_is_not_kept_is_said_once_until_one_is(tmp_path, arrived):
    gone = Arrived("gone", 1.0, 2.0, path=tmp_path / "gone.x3p")
    records = Records(str(tmp_path / "r.db"))
    lot = made_lot(records, "lot", [0.2])
    (record,) = records.parts_of(lot)
    keeper = ScanKeeper(records, tmp_path / "kept", ALL)
    said = [bool(keeper.keep(record, one, lot)[1]) for one in (gone, gone, arrived, gone)]
    records.close()
    assert said == [True, False, False, True]
