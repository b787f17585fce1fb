"""Processes that end with whoever started them, whatever ended that."""

from __future__ import annotations

import os
import threading

LOOK = 0.5
"""Interval between checks that the parent process is alive, s."""


def end_with(parent: int) -> None:
    """End this process at once when `parent`, which started it, is gone, however it was killed.

    The kernel hands the children of what died to another process, so the parent's number changes.
    """

    def watch() -> None:
        while os.getppid() == parent:
            _pause.wait(LOOK)
        os._exit(1)

    threading.Thread(target=watch, name="parent", daemon=True).start()


_pause = threading.Event()
