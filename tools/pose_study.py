"""Prints docs/pose-study.md: what the way a nominal part lies does to every value of the demo plans.

`python tools/pose_study.py [poses] [exact]`; the poses are the same every time, and of the first few the map of
true heights is measured too, which takes minutes each.
"""

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from exact_views import exact_map
from hemtra import inspect
from hemtra.core.gauge.readings import Readings
from hemtra.core.gauge.repeatability import Component, repeatability
from hemtra.core.gauge.study import studied
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import LARGEST_TILT, STATION, demo_plan, random_pose
from hemtra.virtual.gauge_demo import POSES as POSES_SHOWN
from hemtra.virtual.gauge_demo import made_up, scan_presented
from hemtra.virtual.runner import Runner
from hemtra.virtual.runner_demo import RUNNER_STATION, runner_plan
from hemtra.virtual.sensor import scan_part

POSES, EXACT = 200, 5
STUDY, STUDIES = (10, 3), 6
"""Parts and trials of the demo's gauge study, and how often it is made."""
STUDY_SAID = """
## The demo's gauge study

{parts} covers of good production, each lying straight, turned, and turned and tilted, {shown} times
([Gauge studies](gauge.md)), made {studies} times with other readings. Each study is held against the readings
of the others: the root of the mean variance within a cell, and of that between the presentations of a part.
*within* counts the studies whose interval of 95 % holds it, so about one in twenty may not. In 1/1000 of the
unit.
"""
EXEMPT = (23, 24)
"""Rows of the cover that are no sizes: a text and a count."""
RUNNER_TILT = 0.3
"""Degrees that the line's guides leave a runner."""


def cover_scan(seed: int, exact: bool, again: int = 0) -> Scan:
    """The nominal cover in one of the poses, scanned or as a map of true heights; again: with other noise."""
    part = Cover(serial=f"{seed:06d}")
    part = replace(part, pose=random_pose(np.random.default_rng([seed, 1717]), part.size))
    return exact_map(part, STATION) if exact else scan_part(part, STATION, seed + 1_000_000 * again)


def runner_scan(seed: int, exact: bool, again: int = 0) -> Scan:
    """The nominal runner as the guides of its line let it lie; again: with other noise."""
    rng = np.random.default_rng([seed, 4646])
    x, z, tilt = rng.uniform(-0.8, 0.8), rng.uniform(-0.2, 0.2), rng.uniform(-RUNNER_TILT, RUNNER_TILT)
    part = Runner(pose=Frame(x=float(x), z=float(z), tilt_y=float(tilt)))
    return (
        exact_map(part, RUNNER_STATION) if exact else scan_part(part, RUNNER_STATION, seed + 1_000_000 * again)
    )


def _values(task: tuple[str, int, bool]) -> list[tuple[float, float]]:
    """Of each row the least and the greatest of its values; twice the same where it has one."""
    what, seed, exact = task
    plan, scan = (demo_plan(), cover_scan) if what == "cover" else (runner_plan(), runner_scan)
    rows = inspect(plan, scan(seed, exact)).characteristics

    def known(value: float | None) -> float:
        return float("nan") if value is None else float(value)

    return [
        (known(row.value),) * 2 if row.least is None else (known(row.least), known(row.greatest))
        for row in rows
    ]


def of_tolerance(row: Characteristic, truth: float, width: float) -> float:
    """A width as a share of the limits' width, or half of it as that of one limit's way to the truth, in %."""
    if row.lower is not None and row.upper is not None:
        return 100.0 * width / (row.upper - row.lower)
    limit = row.upper if row.upper is not None else row.lower
    assert limit is not None
    return 100.0 * width / 2 / abs(limit - truth)


def table(plan: Plan, truth: Callable[[int], tuple[float, float]], found: dict[bool, np.ndarray]) -> None:
    """A line for each row of the sheet, two for one of many values.

    truth: least and greatest true value of a balloon. found: by whether the map is exact, (poses, rows, 2)
    least and greatest values.
    """
    print("| | | bias | σ | 6 σ of tolerance | bias of tolerance | not measured |", end="")
    print(" σ, exact map | 6 σ of tolerance |")
    print("|---:|---|---:|---:|---:|---:|---:|---:|---:|")
    for k, row in enumerate(plan.sheet):
        if plan.by_profile is None and row.balloon in EXEMPT:
            continue
        low, high = found[False][:, k].T
        ends = {"": 0} if np.array_equal(low, high, equal_nan=True) else {", min": 0, ", max": 1}
        if len(ends) > 1 and row.lower is None:
            del ends[", min"]
        for name, end in ends.items():
            print(
                line(
                    row,
                    row.name + name,
                    truth(row.balloon)[end],
                    {key: v[:, k, end] for key, v in found.items()},
                )
            )


def line(row: Characteristic, name: str, true: float, found: dict[bool, np.ndarray]) -> str:
    """One line of the table."""
    seen, exact = found[False], found[True]
    off = float(np.nanmean(seen)) - true
    sigmas = [float(np.nanstd(values)) if values.size else float("nan") for values in (seen, exact)]
    shares = [f"{of_tolerance(row, true, 6 * sigma):.1f} %" for sigma in sigmas]
    # a bias is no scatter: all of it counts against the one limit
    bias = of_tolerance(row, true, abs(off) * (1 if row.lower is not None and row.upper is not None else 2))
    cells = [str(row.balloon), name, f"{1000 * off:+.1f}", f"{1000 * sigmas[0]:.1f}", shares[0]]
    cells += [f"{bias:.1f} %", str(int(np.isnan(seen).sum())), f"{1000 * sigmas[1]:.1f}", shares[1]]
    return "| " + " | ".join(cell.replace("nan %", "–").replace("nan", "–") for cell in cells) + " |"


def study(what: str, poses: int, exact: int) -> dict[bool, np.ndarray]:
    """By whether the map is exact, (poses, rows, 2) least and greatest values, fewer where it is."""
    tasks = [(what, seed, kind) for kind in (False, True) for seed in range(exact if kind else poses)]
    with ProcessPoolExecutor() as pool:
        rows = np.array(list(pool.map(_values, tasks, chunksize=5)))
    return {False: rows[:poses], True: rows[poses:]}


def in_study(task: tuple[int, str, int]) -> list[tuple[float, float]]:
    """Least and greatest value of each row of a cover, presented as in the demo's gauge study."""
    rows = inspect(demo_plan(), scan_presented(*task)).characteristics
    ends = [(row.value, row.value) if row.least is None else (row.least, row.greatest) for row in rows]
    return [tuple(float("nan") if v is None else float(v) for v in pair) for pair in ends]


def scatter(read: np.ndarray) -> float:
    """Standard deviation of a gauge by many readings (parts, presentations, trials), known to a few percent."""
    # what was not measured once is known from the other readings
    within = float(np.nanvar(read, axis=2, ddof=1).mean())
    between = float(np.nanmean(read, axis=2).var(axis=1, ddof=1).mean())
    return float(np.sqrt(max(between - within / read.shape[2], 0.0) + within))


def against_study(studies: int) -> None:
    """Gauge studies of the demo against the scatter of more readings of the same parts."""
    plan, (parts, shown) = demo_plan(), STUDY
    trials = range(1, shown * studies + 1)
    tasks = [(k, pose, n) for k in range(1, parts + 1) for pose in POSES_SHOWN for n in trials]
    with ProcessPoolExecutor() as pool:
        read = np.array(list(pool.map(in_study, tasks, chunksize=5)))
    read = read.reshape(parts, len(POSES_SHOWN), len(trials), len(plan.sheet), 2)
    rows = studied(plan, made_up(plan, parts, shown, lambda done, of, what: True)).rows
    order = {balloon: k for k, balloon in enumerate(sorted(row.balloon for row in plan.sheet))}
    print("| | | σ of the other readings | GRR of the demo's study | its interval of 95 % | within |")
    print("|---:|---|---:|---:|---:|---:|")
    held = asked = 0
    for row in sorted(rows, key=lambda one: one.balloon):
        if row.spread is None or row.balloon in EXEMPT:
            continue
        values = read[..., order[row.balloon], int(row.name.endswith("max"))]
        within = 0
        for first in range(0, len(trials), shown):
            own = slice(first, first + shown)
            gauge = gauge_of(values[:, :, own])
            within += (gauge.low or 0.0) <= scatter(np.delete(values, own, axis=2)) <= (gauge.high or 0.0)
        gauge = row.spread.gauge
        found = scatter(values[:, :, shown:])
        if found > 0.0:
            held, asked = held + within, asked + studies
        cells = [f"{1000 * value:.2f}" for value in (found, gauge.deviation)]
        interval = f"{1000 * (gauge.low or 0.0):.2f} … {1000 * (gauge.high or 0.0):.2f}"
        counted = f"{within} of {studies}"
        print("| " + " | ".join([str(row.balloon), row.name, *cells, interval, counted]) + " |")
    print(f"\nOf {asked} intervals of values that scatter {held} hold it, {100 * held / asked:.0f} %.")


def gauge_of(read: np.ndarray) -> Component:
    """Repeatability and reproducibility of one study (parts, presentations, trials)."""
    filled = np.where(np.isnan(read), np.nanmean(read, axis=2, keepdims=True), read)
    names = [tuple(map(str, range(count))) for count in read.shape[:2]]
    return repeatability(Readings(names[0], names[1], filled)).gauge


def main() -> None:
    """The whole page."""
    poses = int(sys.argv[1]) if len(sys.argv) > 1 else POSES
    exact = int(sys.argv[2]) if len(sys.argv) > 2 else EXACT
    print(
        f"""# What the pose does to a value

The nominal part in {poses} poses, measured with the demo plan, minus what is true of it: the cover turned by
any angle, anywhere the view holds it, tilted by up to {LARGEST_TILT:.0f}°; the runner as the guides of its
line let it lie. *Exact map*: the true height at every point of the same grid, without sensor, shadow or noise,
in the first {exact} poses. Values in 1/1000 of the unit (mm, ° or mm³). 6 σ is over the width of the
limits; for rows with one limit it is 3 σ over its distance from the true value. The text and the count (23 and
24) are left out. A row of many values, along a path or over many profiles, has the minimum and the maximum of
them, each against that of the true values: which of both is the worse changes from pose to pose, and the
scatter of that says nothing. Made by `python tools/pose_study.py {poses} {exact}`.

## The rain-pump cover
"""
    )
    truths = Cover().truth()
    table(demo_plan(), lambda balloon: (float(truths[balloon]),) * 2, study("cover", poses, exact))
    print("\n## The drawer runner\n")
    runner = Runner().truth(np.linspace(-40.0, 40.0, 500))

    def ends(balloon: int) -> tuple[float, float]:
        return float(runner[balloon].min()), float(runner[balloon].max())

    table(runner_plan(), ends, study("runner", poses, exact))
    print(STUDY_SAID.format(parts=STUDY[0], shown=STUDY[1], studies=STUDIES))
    against_study(STUDIES)


if __name__ == "__main__":
    main()
