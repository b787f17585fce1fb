"""Work for crews that needs nothing but itself, so that workers start soon."""

import os
import signal
import time
from pathlib import Path

from hemtra.core.errors import HemtraError


class Squares:
    """Squares numbers, each noted as a file of a folder; dies on `deadly` ones and fails below zero."""

    def __init__(self, folder, deadly=()):
        self.folder, self.deadly = str(folder), deadly

    def __call__(self, item):
        if item in self.deadly:
            os.kill(os.getpid(), signal.SIGKILL)
        if item < 0:
            raise HemtraError("A number below zero.")
        (Path(self.folder) / f"{item}-{time.monotonic_ns()}").touch()
        return item * item
