"""Opening a records database: made or migrated, and refused in words where it cannot be used."""

from __future__ import annotations

import fcntl
import os
import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event, inspect, text
from sqlalchemy.engine import make_url
from sqlalchemy.exc import (
    ArgumentError,
    DBAPIError,
    InterfaceError,
    NoSuchModuleError,
    OperationalError,
    SQLAlchemyError,
)

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.text import plain

PATIENCE = 30.0
"""Waiting time for a database locked by another program, s."""
PASSWORD = re.compile(r"(://[^:/@]*:).*@")
DAMAGED = "put a copy in its place, or give another database; it was left as it is."
LOOK_AGAIN = 0.02
"""Interval between checks whether another program has finished opening it, s."""
MIGRATIONS = Path(__file__).parent / "migrations"


class RecordsError(FileError):
    """The records cannot be read or written; the message says why and what to do."""


class RecordsFull(RecordsError):
    """There is no room for more records."""


class RecordsAway(RecordsError):
    """The server that holds the records does not answer; what was under way may be done or not."""


@dataclass
class Patience:
    """Waiting time for a locked database, s; less once it is known to fail."""

    seconds: float = PATIENCE

    def set_on(self, connection: Any, *_: Any) -> None:
        """Notify a connection that is taken from its pool."""
        connection.execute(f"PRAGMA busy_timeout={round(1000 * self.seconds)}")


def open_engine(url: str, patience: Patience, *, create: bool) -> Engine:
    """An engine on a database in today's form. Raises `RecordsError`.

    create: make it where there is none; what only reads must not.
    """
    try:
        parsed = make_url(url if "://" in url else f"sqlite:///{url}")
    except ArgumentError:
        raise RecordsError(
            f"“{masked(url)}” is no database; give a file, or a URL like sqlite:///records.db."
        ) from None
    name = parsed.database or masked(url)
    sqlite = parsed.get_backend_name() == "sqlite"
    if sqlite and parsed.database and not create and not Path(parsed.database).is_file():
        raise RecordsError(f"There are no records in {parsed.database}; check the name of the file.")
    if sqlite and parsed.database:
        folder = Path(parsed.database).parent
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise RecordsError(f"The folder {folder} for records cannot be made: {error.strerror}.") from error
    try:
        # a connection to a server may have died while nobody asked
        engine = create_engine(
            parsed, connect_args={"timeout": PATIENCE} if sqlite else {}, pool_pre_ping=not sqlite
        )
    except (NoSuchModuleError, ImportError) as error:
        raise RecordsError(f"Records cannot be kept in {parsed.drivername}: {error}.") from None
    if sqlite:
        event.listen(engine, "connect", _prepare_sqlite)
        event.listen(engine, "checkout", patience.set_on)
    try:
        with translated_errors(name), _alone(parsed.database if sqlite else None):
            _migrate(engine, name, create=create)
    except BaseException:
        engine.dispose()  # no connection stays open to what cannot be used
        raise
    return engine


def masked(url: str) -> str:
    """A database's URL as it may be shown: without the password in it."""
    return PASSWORD.sub(r"\1***@", url)


@contextmanager
def _alone(database: str | None) -> Iterator[None]:
    """Keeps a second start from making or migrating the same file; waits as long as for a locked database."""
    if not database or database == ":memory:":
        yield
        return
    # the folder's lock leaves no file behind, and goes with the program that holds it
    try:
        folder = os.open(Path(database).absolute().parent, os.O_RDONLY)
    except OSError:
        yield  # opening the database says what is wrong
        return
    try:
        until = time.monotonic() + PATIENCE
        while True:
            try:
                fcntl.flock(folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > until:
                    raise RecordsError(
                        f"{database} is still being opened by another program after {PATIENCE:.0f} s. Close"
                        " that, and try again."
                    ) from None
                time.sleep(LOOK_AGAIN)
            except OSError:
                break  # a folder on a server may not support locks
        yield
    finally:
        os.close(folder)


def _prepare_sqlite(connection: Any, _: Any) -> None:
    """Make commits durable on disk."""
    cursor = connection.cursor()
    for pragma in ("synchronous=FULL", "foreign_keys=ON", "temp_store=MEMORY"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _migrate(engine: Engine, name: str, *, create: bool) -> None:
    # each is named in the name of its file
    known = sorted(file.name[:4] for file in (MIGRATIONS / "versions").glob("[0-9]*.py"))
    with engine.connect() as connection:
        tables = set(inspect(connection).get_table_names())
        if tables and "alembic_version" not in tables:
            raise RecordsError(f"{name} is a database of something else; give another one for the records.")
        now = None
        if not tables and not create:
            raise RecordsError(f"{name} holds no records; check the name of the file.")
        if tables:
            now = connection.execute(text("select version_num from alembic_version")).scalar()
            if now not in known:
                raise RecordsError(
                    f"{name} was written by a newer Hemtra (records {now}, known is {known[-1]}); update Hemtra"
                    " to open it."
                )
    if engine.dialect.name == "sqlite":
        # readers never wait for the writer; only now, since it changes the file
        with engine.connect() as connection:
            connection.execute(text("PRAGMA journal_mode=WAL"))
    if now == known[-1]:
        return
    from alembic import command  # takes as long to load as SQLAlchemy
    from alembic import config as settings

    config = settings.Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


@contextmanager
def translated_errors(name: str) -> Iterator[None]:
    """Complaints of a database, in words."""
    try:
        yield
    except (DBAPIError, sqlite3.Error) as error:
        # the driver's own comes from where rows are read without a statement of SQLAlchemy's
        cause = error.orig if isinstance(error, DBAPIError) else error
        words = str(cause).lower()
        if "full" in words or "no space left" in words:
            raise RecordsFull(
                f"The disk that holds {name} is full. Free some space, and start again."
            ) from error
        if "locked" in words or "busy" in words:
            raise RecordsError(
                f"{name} is locked by another program, and was waited for. Close that, and try again."
            ) from error
        if "not a database" in words or "malformed" in words or "corrupt" in words:
            raise RecordsError(f"{name} is damaged: {DAMAGED}") from error
        if "unable to open" in words or "readonly" in words or "permission" in words:
            raise RecordsError(
                f"{name} cannot be opened: check the path and its permissions, or give another database."
            ) from error
        if isinstance(error, OperationalError | InterfaceError) and not isinstance(cause, sqlite3.Error):
            raise RecordsAway(
                f"The server that holds {name} does not answer: {plain(str(cause))}. Start it, and try again."
            ) from error
        raise RecordsError(f"The records in {name} cannot be used: {cause}.") from error
    except SQLAlchemyError as error:
        raise RecordsError(f"The records in {name} cannot be used: {error}.") from error
    except HemtraError:
        raise
    except UnicodeEncodeError as error:
        raise RecordsError(
            f"{name} cannot hold “{plain(str(error.object))}”: not all of it is text. Rename the file."
        ) from error
    except (ValueError, TypeError, LookupError, ArithmeticError) as error:
        # what no Hemtra ever wrote there: text that is none, a verdict that does not exist
        raise RecordsError(f"{name} is damaged: {DAMAGED}") from error
