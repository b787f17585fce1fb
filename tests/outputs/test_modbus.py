"""The link to the I/O module: against the simulated one in a process of its own, and ones that misbehave."""

import multiprocessing
import socket
import threading
import time
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.outputs import modbus
from hemtra.outputs.modbus import APART, MOST_WAITING, ModbusOutput, changes
from hemtra.outputs.modbus_addresses import (
    HEARTBEAT,
    LINES,
    MOST_LINES,
    READY,
    RESULT,
    line_coil,
    output_register,
)
from hemtra.outputs.modbus_monitor import Wiring
from hemtra.outputs.output import OutputState, PartShown
from hemtra.outputs.simulated_module import run_io_module


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class Block:
    """The simulated block, started and stopped like a device that is switched on and off."""

    def __init__(self, port):
        self.port, self.process = port, None

    def on(self):
        spawn = multiprocessing.get_context("spawn")
        self.process = spawn.Process(target=run_io_module, args=("127.0.0.1", self.port))
        self.process.start()

    def off(self):
        if self.process is not None:
            self.process.kill()
            self.process.join()


@pytest.fixture
def block():
    found = Block(free_port())
    found.on()
    yield found
    found.off()


class Heard:
    """Waits for what a link tells."""

    def __init__(self):
        self.news, self.all = threading.Condition(), []

    def __call__(self, what):
        with self.news:
            self.all.append(what)
            self.news.notify_all()

    def first(self, seconds=20.0):
        with self.news:
            assert self.news.wait_for(lambda: self.all, seconds), "nothing came"
            return self.all[0]

    def wait_for(self, *wanted, seconds=20.0):
        with self.news:
            assert self.news.wait_for(lambda: self.all[-len(wanted) :] == list(wanted), seconds), self.all


def test_lines_values_and_numbers_arrive_and_can_be_forced(block):
    up, sent = Heard(), Heard()
    link = ModbusOutput("127.0.0.1", block.port, changed=up)
    link.start()
    while not up.all or not up.all[-1]:
        up.wait_for(True)
    before_it = time.monotonic()
    link.put(OutputState({2: True}, {1: 3600}, PartShown(70_000, 2, True), ready=True, done=sent))
    assert before_it < sent.first() <= time.monotonic(), "when it was acknowledged"
    wiring = Wiring("127.0.0.1", block.port)
    terminals, words = wiring.terminals(24), wiring.outputs(20)
    assert (terminals[READY], terminals[line_coil(2)], terminals[line_coil(1)]) == (True, True, False)
    assert terminals[RESULT]
    assert words[0] + (words[1] << 16) == 70_000
    assert words[2] == 2
    assert words[output_register(1)] == 3600
    before = wiring.terminals(3)[HEARTBEAT]
    assert any(wiring.terminals(3)[HEARTBEAT] is not before for _ in range(20_000)), "the heartbeat changes"
    for first_and_last in (READY, line_coil(255)):
        wiring.force(first_and_last, True)
        assert wiring.terminals(272)[first_and_last]
        wiring.force(first_and_last, None)
    wiring.force(line_coil(1), True)
    wiring.force(line_coil(2), False)
    forced = wiring.terminals(24)
    assert (forced[line_coil(1)], forced[line_coil(2)]) == (True, False)
    wiring.force(line_coil(1), None)
    wiring.force(line_coil(2), None)
    assert wiring.terminals(24) == terminals[:HEARTBEAT] + wiring.terminals(24)[HEARTBEAT:3] + terminals[3:]
    link.stop()
    assert wiring.terminals(1) == [False], "at its end it is not ready any more"
    wiring.close()


def test_a_lost_link_is_noticed_within_the_time_the_manual_promises(monkeypatch):
    made = []

    class Client:
        def __init__(self, host, port, **settings):
            made.append(settings)

        def close(self):
            pass

    monkeypatch.setattr(modbus, "ModbusTcpClient", Client)
    link = ModbusOutput("127.0.0.1", 1)
    monkeypatch.setattr(link, "step", lambda client: False)
    link.start()
    link.stop()
    (settings,) = made
    # asked once, and again with the next heartbeat
    assert modbus.BEAT + settings["timeout"] * (1 + settings["retries"]) + settings["reconnect_delay"] <= 0.7


def test_lines_beyond_the_last_one_of_the_module_share_it():
    last = LINES + MOST_LINES - 1
    assert [line_coil(line) for line in (0, MOST_LINES - 1, MOST_LINES + 5)] == [LINES, last, last]
    assert [output_register(line) for line in (0, MOST_LINES - 1, MOST_LINES + 5)] == [LINES, last, last]


def test_a_block_that_goes_and_comes_back_shows_the_state_again(block):
    up, sent = Heard(), Heard()
    link = ModbusOutput("127.0.0.1", block.port, changed=up)
    link.start()
    while not up.all or not up.all[-1]:
        up.wait_for(True)
    block.off()
    up.wait_for(True, False)
    link.put(OutputState({5: True}, done=sent))
    sent.wait_for(None)
    block.on()
    up.wait_for(False, True)
    wiring = Wiring("127.0.0.1", block.port)
    assert wiring.terminals(24)[line_coil(5)]
    wiring.close()
    link.stop()


def test_a_network_that_accepts_and_never_answers_delays_nobody():
    with socket.socket() as deaf:
        deaf.bind(("127.0.0.1", 0))
        deaf.listen(16)
        up, sent = Heard(), Heard()
        link = ModbusOutput("127.0.0.1", deaf.getsockname()[1], changed=up)
        link.start()
        up.wait_for(False)
        for _ in range(100):
            link.put(OutputState({0: True}, done=sent))
        sent.wait_for(*[None] * 100)
        link.stop()


class Slow:
    """Stands for the client of a block whose answers take long by a clock of its own."""

    def __init__(self, monkeypatch, seconds):
        self.now, self.requests, self.connected, self._seconds = 0.0, [], True, seconds
        monkeypatch.setattr("hemtra.outputs.modbus.time.monotonic", lambda: self.now)

    def _answer(self, what, first, values, device_id):
        self.now += self._seconds
        self.requests.append((what, first, list(values)))
        return self

    def isError(self):  # noqa: N802
        return False

    def write_registers(self, first, values, device_id):
        return self._answer("registers", first, values, device_id)

    def write_coils(self, first, values, device_id):
        return self._answer("coils", first, values, device_id)


def test_only_what_changed_is_written_and_states_do_not_queue(monkeypatch):
    client, link = Slow(monkeypatch, 0.001), ModbusOutput("127.0.0.1", 1)
    link.put(OutputState({40: False}, {200: 1}))
    link.step(client)
    client.requests.clear()
    for k in range(50):
        link.put(OutputState(busy=k % 2 == 0, only_newest=True))
    link.put(OutputState({40: True}, {200: 7}))
    link.step(client)
    kinds = [(what, first, values) for what, first, values in client.requests]
    assert kinds[0] == ("registers", output_register(200), [7])
    assert kinds[-1] == ("coils", line_coil(40), [True])
    assert len(kinds) <= 3, "and the heartbeat, if it was due"
    assert sum(len(values) for _, _, values in kinds) <= 4


def test_registers_beyond_one_request_are_written(monkeypatch):
    client, link = Slow(monkeypatch, 0.001), ModbusOutput("127.0.0.1", 1)
    link.put(OutputState(levels={n: n + 1 for n in range(250)}))
    link.step(client)
    held = {}
    for what, first, values in client.requests:
        assert len(values) <= 120
        if what == "registers":
            held |= dict(enumerate(values, first))
    assert [held[output_register(n)] for n in range(250)] == list(range(1, 251))


def test_a_block_that_is_too_slow_drops_what_is_too_late_and_says_so(monkeypatch):
    """Two parts a second, each of which takes two answers of 300 ms: nothing falls behind without bound."""
    client, link = Slow(monkeypatch, 0.3), ModbusOutput("127.0.0.1", 1)
    link.step(client)
    late, told, ages, began = [], [], [], client.now
    due = [began + 0.5 * k for k in range(60)]
    while client.now < due[-1] + 5.0:
        while due and due[0] <= client.now and len(due) > 1:
            number, born = 61 - len(due), due.pop(0)

            def done(at, number=number, born=born):
                told.append((number, at is not None))
                if at is not None:
                    ages.append(at - born)

            link.put(
                OutputState(
                    part=PartShown(number, 1, number % 2 == 0),
                    done=done,
                    deadline=born + 1.0,
                    late=lambda number=number: late.append(number),
                )
            )
        link.step(client)
        client.now += 0.0 if link._waiting else 0.05
    assert [number for number, _ in told] == list(range(1, 60)), "each part is answered for, in order"
    assert max(ages) < 1.0 + 0.6 + 1e-6, "what is written is at most one writing later than allowed"
    assert {number for number, sent in told if not sent} <= set(late)
    assert late, "and it is said"


def test_no_more_than_so_many_frames_wait(monkeypatch):
    answered = []
    link = ModbusOutput("127.0.0.1", 1)
    for k in range(1000):
        link.put(OutputState({0: k % 2 == 0}, done=answered.append))
    assert len(link._waiting) == MOST_WAITING
    assert answered == [None] * (1000 - MOST_WAITING)


def test_no_pulse_is_lost_however_fast_lines_change():
    """Each change is written by itself, also when many wait."""
    written = []
    link = ModbusOutput("127.0.0.1", 1)
    link._write = lambda client, coils, registers: not written.append(coils[-1])
    for k in range(40):
        link.put(OutputState({0: k % 2 == 0}))
    link.start()
    link.stop()
    assert written[:40] == [k % 2 == 0 for k in range(40)]


@given(st.lists(st.booleans(), max_size=40), st.lists(st.booleans(), max_size=40), st.integers(1, 12))
def test_what_is_written_is_what_differs_in_few_stretches(before, after, most):
    found = changes(before, after, most)
    differs = {k for k in range(len(after)) if k >= len(before) or before[k] != after[k]}
    covered = [k for first, end in found for k in range(first, end)]
    assert differs <= set(covered)
    assert len(covered) == len(set(covered)), "nothing is written twice"
    for first, end in found:
        assert 0 < end - first <= max(most, 1)
        assert {first, end - 1} <= differs
    for (begun, end), (later, _) in pairwise(found):
        assert later - end >= APART or later - begun >= most, "those a few apart are one"
    far = [True, *[False] * 30, True]
    assert changes([False] * 32, far, 100) == [(0, 1), (31, 32)]
