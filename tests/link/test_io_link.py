"""The link to the I/O block: against the simulated one in a process of its own, and ones that misbehave."""

import multiprocessing
import socket
import threading

import pytest

from hemtra.link.addresses import HEARTBEAT, READY
from hemtra.link.io_block import run_io_block
from hemtra.link.io_link import Frame, IoLink, line_coil, output_register, part_registers
from hemtra.link.wiring import Wiring


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
        self.process = spawn.Process(target=run_io_block, args=("127.0.0.1", self.port))
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

    def wait_for(self, *wanted, seconds=20.0):
        with self.news:
            assert self.news.wait_for(lambda: self.all[-len(wanted) :] == list(wanted), seconds), self.all


def test_lines_values_and_numbers_arrive_and_can_be_forced(block):
    up, sent = Heard(), Heard()
    link = IoLink("127.0.0.1", block.port, changed=up)
    link.start()
    while not up.all or not up.all[-1]:
        up.wait_for(True)
    link.put(
        Frame({READY: True, line_coil(2): True}, part_registers(70_000) | {output_register(1): 3600}, sent)
    )
    sent.wait_for(True)
    wiring = Wiring("127.0.0.1", block.port)
    terminals, words = wiring.terminals(24), wiring.outputs(20)
    assert (terminals[READY], terminals[line_coil(2)], terminals[line_coil(1)]) == (True, True, False)
    assert words[0] + (words[1] << 16) == 70_000
    assert words[output_register(1)] == 3600
    before = wiring.terminals(3)[HEARTBEAT]
    assert any(wiring.terminals(3)[HEARTBEAT] is not before for _ in range(20_000)), "the heartbeat changes"
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


def test_a_block_that_goes_and_comes_back_shows_the_state_again(block):
    up, sent = Heard(), Heard()
    link = IoLink("127.0.0.1", block.port, changed=up)
    link.start()
    while not up.all or not up.all[-1]:
        up.wait_for(True)
    block.off()
    up.wait_for(True, False)
    link.put(Frame({line_coil(5): True}, done=sent))
    sent.wait_for(False)
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
        link = IoLink("127.0.0.1", deaf.getsockname()[1], changed=up)
        link.start()
        up.wait_for(False)
        for _ in range(100):
            link.put(Frame({line_coil(0): True}, done=sent))
        sent.wait_for(*[False] * 100)
        link.stop()


def test_no_pulse_is_lost_however_fast_lines_change():
    """Each change is written by itself, also when many wait."""
    written = []
    link = IoLink("127.0.0.1", 1)
    link._write = lambda client, coils, registers: not written.append(coils[-1])
    for k in range(40):
        link.put(Frame({line_coil(0): k % 2 == 0}))
    link.start()
    link.stop()
    assert written[:40] == [k % 2 == 0 for k in range(40)]
