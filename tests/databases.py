"""Databases for the tests of records: SQLite, and a PostgreSQL server where one is installed."""

import subprocess
from collections.abc import Iterator
from contextlib import suppress

import pytest

from postgres import Postgres


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Postgres]:
    """One server for all tests of a process; each takes a database of its own."""
    if not Postgres.installed:
        pytest.skip("no PostgreSQL is installed here")
    try:
        made = Postgres(tmp_path_factory.mktemp("server") / "postgres")
        made.fresh()
    except (OSError, subprocess.CalledProcessError) as error:
        pytest.skip(f"PostgreSQL with ICU cannot be started here: {error}")
    yield made
    with suppress(subprocess.CalledProcessError):  # it is gone already, or ends with its folder
        made.stop()


@pytest.fixture(params=["sqlite", "postgresql"])
def database(request: pytest.FixtureRequest, tmp_path) -> str:
    """Where records are to be kept: both kinds behave alike."""
    if request.param == "sqlite":
        return str(tmp_path / "records.db")
    server: Postgres = request.getfixturevalue("server")
    return server.fresh()
