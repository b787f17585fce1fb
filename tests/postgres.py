"""A PostgreSQL server of the tests' own, where one is installed."""

import os
import shutil
import socket
import subprocess
from pathlib import Path


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


class Postgres:
    """A PostgreSQL server of our own in a folder; `installed` says whether there is one."""

    installed = shutil.which("pg_ctl") is not None and shutil.which("initdb") is not None

    def __init__(self, folder: Path):
        self._data, self.port, self._made = folder / "pg", free_port(), 0
        folder.mkdir()
        folder.chmod(0o777)
        for parent in folder.parents:
            if parent != parent.parent and os.access(parent, os.W_OK) and os.geteuid() == 0:
                parent.chmod(parent.stat().st_mode | 0o055)
        self._run("initdb", "-D", self._data, "-A", "trust", "-U", "hemtra", "--no-sync")
        self.start()
        asked = ("-h", "127.0.0.1", "-p", self.port, "-U", "hemtra", "-c", "create database records")
        self._run("psql", *asked, "postgres")

    @property
    def url(self) -> str:
        """Of its database."""
        return f"postgresql+psycopg://hemtra@127.0.0.1:{self.port}/records"

    def fresh(self) -> str:
        """The URL of a new and empty database."""
        self._made += 1
        name = f"d{self._made}"
        # letters in the order of a language, as many installations have them; ours must not follow it
        how = "template template0 encoding 'UTF8' locale_provider icu icu_locale 'en-US' locale 'C.UTF-8'"
        asked = ("-h", "127.0.0.1", "-p", self.port, "-U", "hemtra", "-c", f"create database {name} {how}")
        self._run("psql", *asked, "postgres")
        return f"postgresql+psycopg://hemtra@127.0.0.1:{self.port}/{name}"

    def start(self) -> None:
        """Serve."""
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={self._data}"
        self._run("pg_ctl", "-D", self._data, "-o", options, "-l", self._data / "log", "-w", "start")

    def stop(self, how: str = "immediate") -> None:
        """As a server whose plug is pulled, unless told otherwise."""
        self._run("pg_ctl", "-D", self._data, "-m", how, "-w", "stop")

    def _run(self, *words: object) -> None:
        command = [str(word) for word in words]
        if os.geteuid() == 0:  # PostgreSQL refuses to run as an administrator
            command = ["runuser", "-u", "postgres", "--", *command]
        subprocess.run(command, check=True, capture_output=True, cwd="/")
