"""The simulation of a cluster, against what follows from its service times alone."""

from dataclasses import replace

import pytest

from cluster_model import Cluster, Service, simulated

WORK = Service(store=0.0, worker=0.1, scheduler=0.0, command=0.0, size=0.0, latency=0.0)


@pytest.mark.parametrize("workers", [1, 3])
def test_workers_alone_do_as_many_as_they_are_fast(workers):
    found = simulated(WORK, Cluster(workers), 60 * workers)
    assert found.rate == pytest.approx(10.0 * workers)
    assert (found.bottleneck, found.busy["workers"]) == ("workers", pytest.approx(1.0))


def test_more_workers_than_cores_share_them():
    assert simulated(WORK, Cluster(4, cores=2), 200).rate == pytest.approx(20.0, rel=0.02)
    beside = Service(store=0.0, worker=0.1, scheduler=0.1, command=0.0, size=0.0, latency=0.0)
    # two workers want two cores, and the scheduler has half of what there is
    assert simulated(beside, Cluster(2, cores=2), 200).rate == pytest.approx(10.0, rel=0.05)


@pytest.mark.parametrize(
    ("times", "rate", "bottleneck"),
    [
        ({"size": 2.5e7}, 50.0, "network"),
        ({"scheduler": 0.01}, 100.0, "scheduler"),
        ({"command": 0.02}, 50.0, "command"),
        ({"store": 0.02}, 50.0, "store"),
    ],
)
def test_what_all_share_bounds_a_large_cluster_and_is_named(times, rate, bottleneck):
    found = simulated(replace(WORK, **times), Cluster(40), 2000)
    assert found.rate == pytest.approx(rate, rel=0.05)
    assert found.bottleneck == bottleneck
