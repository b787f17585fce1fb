"""Simulates how long a cluster takes, with the service times that were measured for one part.

A part passes through the store, which reads it, through the network, a worker, the scheduler and the command
that collects the results. Where hosts share the cores of one computer they wait for these as well.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Any

import simpy

ROLES = ("store", "network", "workers", "scheduler", "command", "records")
SLICE = 2e-3
"""Time for which a core serves one request before the next has its turn, s."""


@dataclass(frozen=True)
class Service:
    """Time that one part takes, s of a core: at the store, on a worker, at the scheduler, at the command.

    records: at the database. size: bytes of its scan. latency: s in which nobody does anything, as on the way
    to the store and back.
    """

    store: float
    worker: float
    scheduler: float
    command: float
    size: float
    records: float = 0.0
    latency: float = 1e-3


@dataclass(frozen=True)
class Cluster:
    """Workers of one thread each, and what they share.

    cores: of all hosts together, where they are one computer; 0 where each worker has its own.
    store: cores that serve scans. network: bytes/s of the store's line. ahead: parts of a worker at once.
    """

    workers: int
    cores: int = 0
    store: int = 1
    network: float = 1.25e9
    ahead: int = 2


@dataclass(frozen=True)
class Found:
    """Parts/s, and the share of the time for which each was busy."""

    rate: float
    busy: dict[str, float]

    @property
    def bottleneck(self) -> str:
        """What was busy the largest share of the time."""
        return max(self.busy, key=lambda name: self.busy[name])


def simulated(service: Service, cluster: Cluster, parts: int) -> Found:
    """Run as many parts through a cluster."""
    world = simpy.Environment()
    shared = simpy.Resource(world, cluster.cores) if cluster.cores else None
    line = simpy.Resource(world, 1)
    scheduler, command = simpy.Resource(world, 1), simpy.Resource(world, 1)
    store, records = simpy.Resource(world, cluster.store), simpy.Resource(world, 1)
    waiting = simpy.Store(world)
    used: dict[str, float] = dict.fromkeys(ROLES, 0.0)

    def work(name: str, time: float) -> Generator[Any, Any, None]:
        used[name] += time
        if shared is None:
            yield world.timeout(time)
            return
        while time > 0.0:
            with shared.request() as core:
                yield core
                yield world.timeout(min(SLICE, time))
            time -= SLICE

    def at(place: simpy.Resource, name: str, time: float) -> Generator[Any, Any, None]:
        with place.request() as turn:
            yield turn
            yield from work(name, time)

    def worker() -> Generator[Any, Any, None]:
        while True:
            yield waiting.get()
            yield from at(store, "store", service.store)
            with line.request() as turn:
                yield turn
                used["network"] += service.size / cluster.network
                yield world.timeout(service.size / cluster.network)
            yield world.timeout(service.latency)
            yield from work("workers", service.worker)
            world.process(collected())

    def collected() -> Generator[Any, Any, None]:
        yield from at(scheduler, "scheduler", service.scheduler)
        yield from at(command, "command", service.command)
        yield from at(records, "records", service.records)
        done.append(world.now)
        if len(done) == parts:
            ended.succeed()
        elif len(done) + cluster.workers * cluster.ahead <= parts:
            waiting.put(None)

    done: list[float] = []
    ended = world.event()
    for _ in range(min(parts, cluster.workers * cluster.ahead)):
        waiting.put(None)
    for _ in range(cluster.workers):
        world.process(worker())
    world.run(until=ended)
    busy = {name: time / world.now for name, time in used.items()}
    busy["workers"] /= cluster.workers
    busy["store"] /= cluster.store
    return Found(parts / world.now, busy)


def pages(service: Service, measured: dict[int, float]) -> str:
    """What the simulation says beside what was measured, and of larger clusters; as tables."""
    lines = ["| workers on two cores | measured, parts/s | simulated | off |", "|---:|---:|---:|---:|"]
    for workers, rate in measured.items():
        said = simulated(service, Cluster(workers, cores=2), 400).rate
        lines.append(f"| {workers} | {rate:.2f} | {said:.2f} | {100 * (said / rate - 1):+.0f} % |")
    lines += ["", "| workers, a core each | parts/s | a million scans | busiest |", "|---:|---:|---:|---|"]
    for workers in (1, 10, 50, 200):
        # a store made for it serves from as many cores as its line can feed
        store = max(1, round(1.25e9 / service.size * service.store))
        found = simulated(service, Cluster(workers, store=store), 20 * workers + 400)
        hours = 1e6 / found.rate / 3600
        busy = f"{found.bottleneck}, {100 * found.busy[found.bottleneck]:.0f} %"
        lines.append(f"| {workers} | {found.rate:.1f} | {hours:.1f} h | {busy} |")
    relieved = simulated(
        replace(service, command=0.0, scheduler=0.0, records=0.0), Cluster(200, store=100), 4400
    )
    lines += [
        "",
        f"Were scheduler, command and database free, 200 workers would do {relieved.rate:.0f} parts/s.",
    ]
    return "\n".join(lines)
