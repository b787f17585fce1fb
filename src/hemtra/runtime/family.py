"""Processes that end with whoever started them, whatever ended that."""

from __future__ import annotations

import multiprocessing
import os
import threading
from multiprocessing.context import ForkServerContext

LOADED = ("hemtra.runtime.workers",)
"""Modules with all that a process needs that evaluates parts."""
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


def evaluating() -> ForkServerContext:
    """How processes that evaluate parts are started: as copies of one that has loaded everything, at once.

    They call `end_with_starter`, since their parent is that one, not this process.
    """
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(list(LOADED))
    return context


def end_with_starter() -> None:
    """End this process of `multiprocessing` at once when the one that started it is gone."""
    starter = multiprocessing.parent_process()
    assert starter is not None

    def watch() -> None:
        starter.join()
        os._exit(1)

    threading.Thread(target=watch, name="starter", daemon=True).start()


_pause = threading.Event()
