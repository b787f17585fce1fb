"""Looking after a file of records: checked, copied while a line continues, brought back, saved from damage."""

from __future__ import annotations

import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import delete, select

from hemtra.core.progress import Progress
from hemtra.storage.files import make_folder, shown
from hemtra.storage.records.merging import copied_lots
from hemtra.storage.records.opening import RecordsError
from hemtra.storage.records.packed import pack_ended, unpack
from hemtra.storage.records.schema import events, lots, metadata, packed_values, parts, values
from hemtra.storage.records.store import Records

CHUNK = 4096
"""Rows read at a time from a damaged table; where that fails, half as many."""
EMPTY = 64
"""Stretches without a row, one after the other, that are the end of a damaged table."""
MOST_TOLD = 20
"""Findings of a check that are listed; more of the same say nothing new."""

BESIDE = ("-wal", "-shm")
"""Files that SQLite keeps beside one that is written."""
GAPS = """select l.name, count(*), min(p.number), max(p.number) from parts p join lots l on l.id = p.lot_id
group by p.lot_id having max(p.number) - min(p.number) + 1 <> count(*)"""


@dataclass(frozen=True)
class Rescued:
    """Rows saved from damaged records by table, and the keys that could not be read."""

    kept: dict[str, int] = field(default_factory=dict)
    lost: dict[str, list[tuple[int, int]]] = field(default_factory=dict)

    @property
    def words(self) -> str:
        """Summarise in sentences, the lost rows by their keys."""
        text = f"{self.kept.get('parts', 0)} parts with {self.kept.get('part_values', 0)} values were saved."
        for table, spans in self.lost.items():
            message = ", ".join(f"{a}" if a == b else f"{a} to {b}" for a, b in spans[:MOST_TOLD])
            text += f" Not readable in {table}: {message}{', …' if len(spans) > MOST_TOLD else ''}."
        return text


def check(path: Path) -> tuple[str, ...]:
    """Problems of a records file, a sentence each; the file is only read. Raises `RecordsError`."""
    with _open(path) as db:
        try:
            found = [row[0] for row in db.execute(f"pragma integrity_check({MOST_TOLD})")]
            wrong = [] if found == ["ok"] else [f"The file is damaged: {text}." for text in found]
            orphans = db.execute("pragma foreign_key_check").fetchmany(MOST_TOLD)
            wrong += [f"A row of {one} belongs to one of {other} that is gone." for one, _, other, _ in orphans]
            gaps = db.execute(GAPS).fetchmany(MOST_TOLD)
            wrong += [f"Lot {name} has {n} parts of the numbers {a} to {b}." for name, n, a, b in gaps]
        except sqlite3.DatabaseError as error:
            return (f"The file is damaged: {error}.",)
    return tuple(wrong)


def backup(path: Path, folder: Path, keep: int | None = None) -> Path:
    """Copy records into a folder while others write them, prove the copy, and keep so many of the newest.

    Only copies that were made so are ever taken out. Raises `RecordsError` or `FileError`.
    """
    make_folder(folder)
    stamp = time.strftime("%Y-%m-%dT%H-%M-%S", time.localtime())
    target = _free(folder / f"{path.stem}-{stamp}.db")
    _copy(path, target)
    if keep is not None:
        name = re.compile(re.escape(path.stem) + r"-\d{4}-\d\d-\d\dT\d\d-\d\d-\d\d(-\d+)?\.db")
        ours = (p for p in folder.iterdir() if name.fullmatch(p.name) and not p.is_symlink())
        made = sorted((p for p in ours if p.is_file()), key=lambda p: p.stat().st_mtime_ns)
        for old in made[: max(len(made) - keep, 0)]:
            old.unlink(missing_ok=True)
    return target


def restore(copy: Path, path: Path) -> Path | None:
    """Put a copy in the place of records, once it is proven; what stood there goes aside, and is answered.

    Raises `RecordsError`, also where another program has the records open; nothing is changed then.
    """
    aside = None
    _check_unused(path)
    fresh = _free(path.with_name(f"{path.name}.restored"))
    _copy(copy, fresh)
    if path.exists():
        aside = _free(path.with_name(f"{path.stem}-before-{time.strftime('%Y-%m-%dT%H-%M-%S')}{path.suffix}"))
        _copy_or_move(path, aside)
    for tail in BESIDE:
        path.with_name(path.name + tail).unlink(missing_ok=True)
    fresh.replace(path)
    return aside


def rescue(path: Path, target: Path, progress: Progress = lambda done, of, what: True) -> Rescued:
    """Save what can be read of damaged records into a new file. Raises `RecordsError`."""
    if target.exists():
        raise RecordsError(f"{shown(target)} is there already; name another file.")
    Records(str(target)).close()
    kept: dict[str, int] = {}
    lost: dict[str, list[tuple[int, int]]] = {}
    with _open(path) as old, closing(sqlite3.connect(target)) as new:
        # what is packed repeats what may be lost
        tables = [table for table in metadata.sorted_tables if table is not packed_values]
        for done, table in enumerate(tables):
            progress(done, len(tables), f"reading {table.name}")
            # what an older Hemtra wrote lacks some of today's columns
            there = {row[1] for row in old.execute(f"pragma table_info({table.name})")}
            names = [column.name for column in table.columns if column.name in there]
            marks = ", ".join("?" * len(names))
            into = f"insert or ignore into {table.name} ({', '.join(names)}) values ({marks})"
            key = "id" if "id" in names else "part_id"
            kept[table.name] = 0
            for rows in _readable(old, table.name, names, key, lost.setdefault(table.name, [])):
                kept[table.name] += new.executemany(into, rows).rowcount
            new.commit()
        # what belongs to something that is lost can be shown nowhere
        for of, other, key in (
            ("parts", "lots", "lot_id"),
            ("parts", "revisions", "revision_id"),
            ("part_values", "parts", "part_id"),
            ("part_values", "characteristics", "characteristic_id"),
        ):
            gone = f"delete from {of} where {key} not in (select id from {other})"
            kept[of] -= new.execute(gone).rowcount
        new.execute("update lots set packed = null")
        new.execute("update events set part_id = null where part_id not in (select id from parts)")
        new.execute("update events set lot_id = null where lot_id not in (select id from lots)")
        new.commit()
    return Rescued(kept, {table: _joined(spans) for table, spans in lost.items() if spans})


def archive(
    records: Records, before: float, target: Path, progress: Progress = lambda done, of, what: True
) -> str:
    """Move lots that ended before a time (s since 1970) to a file of their own; returns the outcome in words.

    They go from the records only once the archive holds every part of them. Raises `RecordsError`.
    """
    with records.reading() as db:
        query = select(lots.c.id, lots.c.name).where(lots.c.ended.is_not(None), lots.c.ended < before)
        chosen = {row.id: row.name for row in db.execute(query)}
    if not chosen:
        return "No lot ended before that; nothing was moved."
    held = Records(str(target))
    try:
        with records.reading() as ours:
            merged = copied_lots(held, ours, chosen, progress)
        pack_ended(held)
    finally:
        held.close()
    if not merged.finished or merged.clashing:
        words = f"{shown(target)} does not hold all of these lots, so none was taken out."
        raise RecordsError(f"{words} {merged.words}")
    for lot in chosen:
        # one lot at a time, so that a line that writes meanwhile does not wait long
        with records.writing() as db:
            of_it = select(parts.c.id).where(parts.c.lot_id == lot)
            db.execute(delete(values).where(values.c.part_id.in_(of_it)))
            db.execute(delete(events).where(events.c.lot_id == lot))
            unpack(db, lot)
            db.execute(delete(parts).where(parts.c.lot_id == lot))
            db.execute(delete(lots).where(lots.c.id == lot))
    return f"{len(chosen)} lots with {merged.added + merged.known} parts are in {shown(target)} now."


@contextmanager
def _open(path: Path) -> Iterator[sqlite3.Connection]:
    """A file of records, only to read. Raises `RecordsError`."""
    if not path.is_file():
        raise RecordsError(f"There are no records in {shown(path)}; check the name of the file.")
    with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=30.0)) as db:
        db.text_factory = lambda raw: raw.decode("utf-8", "replace")
        yield db


def _copy(path: Path, target: Path) -> None:
    """A proven copy, as it was at one moment; nothing is left where it cannot be had."""
    part = target.with_name(f".{target.name}.part")
    try:
        with _open(path) as source, closing(sqlite3.connect(part)) as copy:
            source.backup(copy)
            copy.execute("pragma journal_mode=delete")  # so that it is one file
        wrong = check(part)
        if wrong:
            raise RecordsError(f"{shown(path)} was not copied. {wrong[0]}")
        part.replace(target)
    except (sqlite3.Error, OSError) as error:
        raise RecordsError(f"{shown(path)} was not copied to {shown(target)}: {error}.") from error
    finally:
        for tail in ("", *BESIDE):
            part.with_name(part.name + tail).unlink(missing_ok=True)


def _check_unused(path: Path) -> None:
    """Raise `RecordsError` where another program has records open, which would write to a file that is gone."""
    if not path.exists():
        return
    try:
        with closing(sqlite3.connect(path, timeout=0.0)) as db:
            # leaving the journal that others share takes all of the file
            db.execute("pragma journal_mode=delete")
    except sqlite3.OperationalError as error:
        if "locked" in str(error):
            words = f"{shown(path)} is open in another program; stop the line and close Hemtra, and try again."
            raise RecordsError(words) from error
    except sqlite3.DatabaseError:
        pass  # it is damaged, which is why it is to be replaced


def _copy_or_move(path: Path, aside: Path) -> None:
    """Text at its place, whole where it can be copied, else as it is."""
    try:
        _copy(path, aside)
    except RecordsError:
        path.replace(aside)


def _free(path: Path) -> Path:
    """The path, or with a number where it is taken."""
    found, k = path, 1
    while found.exists():
        k += 1
        found = path.with_name(f"{path.stem}-{k}{path.suffix}")
    return found


def _readable(
    db: sqlite3.Connection, table: str, names: list[str], key: str, lost: list[tuple[int, int]]
) -> Iterator[list[tuple[object, ...]]]:
    """The rows of a table by stretches of their keys; those that cannot be read are put to `lost`."""
    columns = ", ".join(names)
    waiting, empty = [(0, CHUNK - 1)], 0
    try:
        last = int(db.execute(f"select max({key}) from {table}").fetchone()[0] or 0)
    except sqlite3.Error:
        last = -1
    while waiting:
        first, end = waiting.pop()
        where = f"{key} between {first} and {end}"
        try:
            rows = db.execute(f"select {columns} from {table} where {where}").fetchall()
        except sqlite3.Error:
            rows = []
            if end > first:
                middle = (first + end) // 2
                waiting += [(middle + 1, end), (first, middle)]
            else:
                lost.append((first, end))
        if rows:
            empty = 0
            yield rows
        else:
            empty += 1
        after = end + 1
        if not waiting and (after <= last or (last < 0 and empty < EMPTY)):
            waiting.append((after, after + CHUNK - 1))


def _joined(spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Neighbouring spans as one."""
    found: list[tuple[int, int]] = []
    for first, end in sorted(spans):
        if found and first <= found[-1][1] + 1:
            found[-1] = found[-1][0], end
        else:
            found.append((first, end))
    return found
