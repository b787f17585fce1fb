"""What tests share: made-up scans, the demo on disk, and folders of their own for settings and caches."""

from __future__ import annotations

import fcntl
import os
import socket
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from databases import database, server  # noqa: F401  # fixtures for all
from examples import PROFILE
from hemtra import Plan, Scan
from hemtra.runtime.demo import is_complete, write_demo
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import REFERENCE, STATION, demo_plan
from hemtra.virtual.sensor import scan_part

settings.load_profile(PROFILE)


@pytest.fixture(scope="session", autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """No test reads or writes the user's settings."""
    home = tmp_path_factory.mktemp("home")
    with pytest.MonkeyPatch.context() as patch:
        for name in ("CONFIG", "CACHE", "STATE", "DATA"):
            patch.setenv(f"XDG_{name}_HOME", str(home / name.lower()))
        yield home


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """All demo files, made once for all workers, or taken from where HEMTRA_DEMO says. Tests only read them."""
    if "HEMTRA_DEMO" in os.environ:
        return Path(os.environ["HEMTRA_DEMO"])
    base = tmp_path_factory.getbasetemp()
    folder = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "demo"
    folder.mkdir(exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not is_complete(folder):
            assert write_demo(folder)
    return folder


@pytest.fixture(scope="session")
def reference() -> Scan:
    """The demo's reference scan, with noise."""
    return REFERENCE.scan()


@pytest.fixture(scope="session")
def perfect() -> Scan:
    """A nominal cover seen without noise."""
    return scan_part(Cover(), STATION, ideal=True)


@pytest.fixture(scope="session")
def plan() -> Plan:
    """The demo plan."""
    return demo_plan()


@pytest.fixture
def unused_port() -> int:
    """A port of this computer that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """One test makes the demo at once; those that need it too come last, so that no worker waits for it."""
    needy = [item for item in items if "demo_folder" in getattr(item, "fixturenames", ())]
    if len(needy) < len(items):
        others = [item for item in items if item not in set(needy)]
        items[:] = [*needy[:1], *others, *needy[1:]]
