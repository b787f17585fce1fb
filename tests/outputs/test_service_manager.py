"""What a line reports to the service manager."""

import os
import socket

import pytest

from hemtra.outputs.service_manager import ServiceManager


@pytest.fixture
def manager(tmp_path, monkeypatch):
    """A service manager that listens: what it was told so far."""
    path = str(tmp_path / "notify")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as heard:
        heard.bind(path)
        heard.setblocking(False)
        monkeypatch.setenv("NOTIFY_SOCKET", path)
        monkeypatch.setenv("WATCHDOG_USEC", "30000000")

        def told():
            found = []
            while True:
                try:
                    found.append(heard.recv(4096).decode())
                except BlockingIOError:
                    return found

        yield told


def test_a_service_manager_hears_that_a_line_is_ready_alive_and_ending(manager, monkeypatch):
    now = [100.0]
    monkeypatch.setattr("hemtra.outputs.service_manager.time.monotonic", lambda: now[0])
    line = ServiceManager()
    line.ready()
    for _ in range(40):
        now[0] += 1.0
        line.alive("7 parts, 6 pass")
    line.stopping()
    assert manager() == ["READY=1", *["WATCHDOG=1\nSTATUS=7 parts, 6 pass"] * 3, "STOPPING=1"]
    # half as often as asked: of 30 s, at once and after 15 and 30
    line.alive("8 parts")
    now[0] += 4.9
    line.alive("8 parts")
    assert manager() == []
    now[0] += 1.2
    line.alive("8 parts")
    assert manager() == ["WATCHDOG=1\nSTATUS=8 parts"]


def test_nobody_is_told_where_nobody_listens_and_a_manager_that_left_stops_nothing(tmp_path, monkeypatch):
    monkeypatch.delenv("NOTIFY_SOCKET", raising=False)
    ServiceManager().ready()
    monkeypatch.setenv("NOTIFY_SOCKET", str(tmp_path / "gone"))
    ServiceManager().ready()
    monkeypatch.setenv("WATCHDOG_PID", str(os.getpid() + 1))
    monkeypatch.setenv("WATCHDOG_USEC", "1000000")
    ServiceManager().alive()


def test_a_name_that_begins_with_an_at_sign_is_of_the_abstract_name_space(monkeypatch):
    name = f"hemtra-test-{os.getpid()}"
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as heard:
        heard.bind(f"\0{name}")
        heard.settimeout(10.0)
        monkeypatch.setenv("NOTIFY_SOCKET", f"@{name}")
        ServiceManager().ready()
        assert heard.recv(4096) == b"READY=1"
