"""What a line is tried beside: a slow or broken network, a database server, a desktop to be killed."""

from __future__ import annotations

import os
import random
import socket
import subprocess
import sys
import threading
from pathlib import Path

DESKTOP = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from hemtra.desktop.shell.app import prepare
from hemtra.desktop.shell.window import MainWindow
from hemtra.runtime.run_setup import Asked
plan, scans, records = map(Path, sys.argv[1:])
app = QApplication(sys.argv[:1])
prepare(app)
window = MainWindow()
window.show()
window.session.plans.open(plan)
asked = Asked(replay=scans, parts=1_000_000, db=str(records), jobs=0, looked_at=True)
def begin():
    if window.session.bench.document.plan.sheet:
        window.workspaces["run"].page.start(asked)
    else:
        QTimer.singleShot(20, begin)
begin()
sys.exit(app.exec())
"""


def desktop_line(plan: Path, scans: Path, records: Path) -> subprocess.Popen:
    """A window without a display whose line runs."""
    command = [sys.executable, "-c", DESKTOP, str(plan), str(scans), str(records)]
    env = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    return subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)


def free_port() -> int:
    """One that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def switched_on(port: int) -> subprocess.Popen:
    """The simulated block in a process of its own, once it answers."""
    block = subprocess.Popen([sys.executable, "-m", "hemtra", "io-module", "--port", str(port)])
    while block.poll() is None:
        try:
            socket.create_connection(("127.0.0.1", port), 1.0).close()
        except OSError:
            continue
        return block
    raise RuntimeError("the simulated block did not start")


class Between:
    """A network between a line and its block, whose answers come `delay` s late, never, or as noise."""

    def __init__(self, block: int, how: str, delay: float = 0.0):
        self._block, self._how, self._delay = block, how, delay
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        """Let nobody in any more."""
        self._listener.close()

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self._listener.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(near,), daemon=True).start()

    def _serve(self, near: socket.socket) -> None:
        noise = random.Random(1)
        try:
            with near, socket.create_connection(("127.0.0.1", self._block)) as far:
                while asked := near.recv(4096):
                    if self._how == "garbage":
                        near.sendall(noise.randbytes(noise.randrange(1, 40)))
                    elif self._how == "late":
                        far.sendall(asked)
                        answer = far.recv(4096)
                        threading.Event().wait(self._delay)
                        near.sendall(answer)
        except OSError:
            pass
