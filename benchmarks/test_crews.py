"""Parts a second of our own processes and of a cluster that is started here, with one worker and with two."""

import time

import pytest

from hemtra.runtime.batch import inspect_files
from hemtra.runtime.cluster import ClusterCrew
from hemtra.runtime.crews import ProcessCrew
from hemtra.runtime.demo import PLAN_FILE, TRAY
from hemtra.storage.plans import load_plan_file

PARTS, WARM = 144, 24
"""Parts of a turn, and those after which the clock starts, as the first wait for workers to load."""


def rate(plan, paths, crew) -> float:
    """Parts a second once all workers are at work."""
    through = [time.perf_counter() for _ in inspect_files(plan, paths, crew)]
    return (len(through) - 1 - WARM) / (through[-1] - through[WARM])


@pytest.mark.parametrize("workers", [1, 2])
def test_a_cluster_beside_processes(demo_folder, note, workers):
    plan, scans = load_plan_file(demo_folder / PLAN_FILE).plan, sorted((demo_folder / TRAY).iterdir())
    paths = [str(scans[k % len(scans)]) for k in range(PARTS)]
    turns = [
        (rate(plan, paths, ProcessCrew(workers)), rate(plan, paths, ClusterCrew("local", workers)))
        for _ in range(2)
    ]
    ours, cluster = (max(rates) for rates in zip(*turns, strict=True))
    note(
        f"{workers} workers: processes {ours:.1f} parts/s, cluster {cluster:.1f}, {100 * cluster / ours:.0f} %"
    )
