"""Lanes and tasks: work beside the window that is superseded, cancelled, or fails."""

import threading

import pytest
from PySide6.QtCore import QObject, QThread, Slot

from hemtra import HemtraError
from hemtra.desktop.background.latest_task import LatestTaskWorker
from hemtra.desktop.background.tasks import Tasks


class Heard(QObject):
    """Collects what a lane says, on the main thread."""

    def __init__(self, lane: LatestTaskWorker) -> None:
        super().__init__()
        self.responses, self.failures, self.threads = [], [], set()
        lane.responded.connect(self.take)
        lane.failed.connect(self.fail)

    @Slot(object, object)
    def take(self, request, response):
        self.responses.append((request, response))
        self.threads.add(QThread.currentThread())

    @Slot(object, object)
    def fail(self, request, error):
        self.failures.append((request, error))


@pytest.fixture
def lane_of(dressed):
    """Makes lanes that are stopped again."""
    lanes = []

    def make(work):
        lanes.append(LatestTaskWorker(work, "test"))
        return lanes[-1]

    yield make
    for lane in lanes:
        lane.stop()


def test_only_the_newest_request_waits_and_the_running_one_learns_of_it(lane_of, qtbot):
    started, go_on, noticed = threading.Event(), threading.Event(), []

    def work(request, superseded):
        started.set()
        assert go_on.wait(5)
        noticed.append((request, superseded()))
        yield request * 10

    lane = lane_of(work)
    heard = Heard(lane)
    lane.submit(1)
    assert started.wait(5)
    lane.submit(2)
    lane.submit(3)
    go_on.set()
    qtbot.waitUntil(lambda: len(heard.responses) == 2 and lane.idle)
    assert heard.responses == [(1, 10), (3, 30)], "2 was replaced before anybody got to it"
    assert noticed == [(1, True), (3, False)]
    assert heard.threads == {heard.thread()}, "answers arrive on the window's thread"


def test_a_lane_survives_work_that_fails(lane_of, qtbot):
    def work(request, superseded):
        yield 1 / request

    lane = lane_of(work)
    heard = Heard(lane)
    lane.submit(0)
    qtbot.waitUntil(lambda: len(heard.failures) == 1)
    assert isinstance(heard.failures[0][1], ZeroDivisionError)
    lane.submit(2)
    qtbot.waitUntil(lambda: heard.responses == [(2, 0.5)])


def test_tasks_hand_over_results_and_errors_and_can_be_cancelled(dressed, qtbot):
    errors, results, items = [], [], []
    tasks = Tasks(errors.append)

    def count(task):
        for k in range(3):
            task.report(k, 3, "counting")
            task.produce(k)
        return "done"

    def fail(task):
        raise HemtraError("The disk is full.")

    def endless(task):
        while task.report(0, 1, "turning"):
            QThread.usleep(200)
        return "cancelled"

    tasks.start("count", count, results.append, items.append)
    tasks.start("fail", fail, results.append)
    running = tasks.start("endless", endless, results.append)
    qtbot.waitUntil(lambda: tasks.running == [running])
    running.cancel()
    qtbot.waitUntil(lambda: not tasks.running)
    assert sorted(results) == ["cancelled", "done"]
    assert items == [0, 1, 2]
    assert [str(e) for e in errors] == ["The disk is full."]


def test_a_lane_that_was_stopped_begins_nothing(lane_of):
    """An answer that arrives while a window closes may ask for the next one."""
    lane = lane_of(lambda request, superseded: iter([request]))
    lane.stop()
    lane.submit(1)
    assert lane.idle
    assert not lane.isRunning()


def test_stopping_waits_for_everything(dressed):
    tasks, ended = Tasks(lambda error: None), threading.Event()

    def work(task):
        while not task.cancelled:
            QThread.usleep(200)
        ended.set()

    tasks.start("work", work)
    tasks.stop()
    assert ended.is_set()
    assert tasks.running == []
