"""Where unreachable windows are destroyed."""

import gc
import os
import subprocess
import sys
import threading

from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from hemtra.desktop.background.garbage import GarbageCollection
from hemtra.desktop.shell.window import MainWindow


class Closed(QWidget):
    """A window that only refers to itself."""

    def __init__(self, ends):
        super().__init__()
        self.itself, self.label, self.ends = self, QLabel("closed", self), ends

    def __del__(self):
        self.ends.append(threading.current_thread())


class Greedy(QWidget):
    """Makes as many objects when it is styled as Python would collect after."""

    made = ()

    def changeEvent(self, event):  # noqa: N802
        self.made = [[] for _ in range(100_000)]
        super().changeEvent(event)


def test_threads_that_evaluate_do_not_destroy_closed_windows(dressed, qtbot):
    ends = []
    Closed(ends)
    working = threading.Thread(target=lambda: [[] for _ in range(300_000)])
    working.start()
    working.join()
    assert ends == []
    made = [[] for _ in range(300_000)]
    qtbot.waitUntil(lambda: ends == [threading.main_thread()])
    assert made


def test_styling_destroys_no_widget_on_the_way(dressed):
    ends, worn = [], dressed.styleSheet()
    greedy = [Greedy() for _ in range(3)]
    for widget in (*greedy, *(Closed(ends) for _ in range(50))):
        widget.ensurePolished()
    del widget
    dressed.setStyleSheet("QLabel { color: red; }")
    dressed.setStyleSheet(worn)
    assert ends == []
    assert all(one.made for one in greedy)


def test_what_stays_is_not_gone_through_again_and_again(dressed, monkeypatch):
    # a list of all objects holds tuples that other threads have not finished, and these then cannot
    monkeypatch.delattr(gc, "get_objects")
    (collection,) = [one for one in dressed.children() if isinstance(one, GarbageCollection)]

    def full_ones():
        before = gc.get_stats()[2]["collections"]
        for _ in range(gc.get_threshold()[2] + 1):
            gc.collect(1)
        collection.collect()
        return gc.get_stats()[2]["collections"] - before

    full_ones()
    assert full_ones() == 0
    grown = [[] for _ in range(sys.getallocatedblocks())]
    assert full_ones() == 1
    assert grown


def test_a_window_that_is_closed_leaves_no_widget_behind(dressed):
    """Those of pages that nobody looked at are styled for ever otherwise, with each change of colours."""
    there = set(QApplication.allWidgets())
    window = MainWindow()
    window.show()
    dressed.processEvents()
    window.close()
    window.deleteLater()
    del window
    dressed.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    gc.collect()
    assert not set(QApplication.allWidgets()) - there


AGAIN = """
import shiboken6
from PySide6.QtWidgets import QApplication
from hemtra.desktop.shell.app import prepare
from hemtra.desktop.shell.window import MainWindow

application = QApplication([])
prepare(application)
worn = application.styleSheet()
for _ in range(3):
    window = MainWindow()
    window.show()
    application.processEvents()
    shiboken6.delete(window)
    for sheet in ("QLabel { color: red; }", worn):
        application.setStyleSheet(sheet)
"""


def test_a_window_that_is_gone_is_not_styled_again(own_folders):
    """In memory that is overwritten when it is given back, so that whoever looks there crashes."""
    wiped = {**os.environ, "MALLOC_PERTURB_": "165"}
    subprocess.run([sys.executable, "-c", AGAIN], env=wiped, check=True, timeout=120)
