"""Prints docs/uncertainty.md: whether the stated uncertainty of every value of the demo parts holds its error.

`python tools/uncertainty.py [poses]`; the poses are those of `tools/pose_study.py`.
"""

import math
import sys
from collections.abc import Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
from hemtra import inspect
from hemtra.core.arrays import FloatArray
from hemtra.core.evaluation.uncertainty import budgets, with_budgets
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import PARTS, demo_plan
from hemtra.virtual.runner import Runner
from hemtra.virtual.runner_demo import RUNNERS, runner_plan
from pose_study import EXEMPT, cover_scan, runner_scan

POSES = 200
GROUPS = (("noise", "anchors"), ("sampling", "phase", "unseen", "form"))
"""Shares that differ from scan to scan of one pose, and those that are the same on both of its scans."""


def evaluated(plan: Plan, seed: int) -> list[list[tuple[float, ...]]]:
    """Of both scans of a pose: minimum, maximum, u and the shares of `GROUPS` of each row; NaN without."""
    scan = cover_scan if plan.by_profile is None else runner_scan
    scans = []
    for again in (0, 1):
        found = []
        for row in inspect(plan, scan(seed, False, again)).characteristics:
            ends = (row.value, row.value) if row.least is None else (row.least, row.greatest)
            shares = [None if row.budget is None else part_of(row.budget, group) for group in GROUPS]
            found.append(tuple(float("nan") if v is None else float(v) for v in (*ends, row.u, *shares)))
        scans.append(found)
    return scans


def part_of(budget: Budget, sources: tuple[str, ...]) -> float:
    """Standard uncertainty from some sources together."""
    return budget.u * math.sqrt(sum(budget.shares.get(source, 0.0) for source in sources))


class Studied:
    """A plan with what is known of its rows, and what it found in all poses.

    good: scans that the uncertainty is worked out on. truths: by balloon, least and greatest true value.
    """

    def __init__(
        self, plan: Plan, good: Sequence[HeightMap], truths: Mapping[int, tuple[float, float]], poses: int
    ) -> None:
        self.known = budgets(plan, good)
        self.truths = truths
        with ProcessPoolExecutor() as pool:
            work = partial(evaluated, with_budgets(plan, self.known))
            self.found = np.array(list(pool.map(work, range(poses), chunksize=5)))
        exempt = EXEMPT if plan.by_profile is None else ()
        self.rows: list[tuple[int, Characteristic]] = [
            (k, row)
            for k, row in enumerate(sorted(plan.sheet, key=lambda row: row.balloon))
            if row.balloon not in exempt and row.balloon in self.known
        ]

    def held(self) -> None:
        """A line for each row: whether U holds, and what it is made of."""
        print("| | | U, median | needed | U / needed | holds | made of |\n|---:|---|---:|---:|---:|---:|---|")
        for k, row in self.rows:
            u = self.found[:, 0, k, 2]
            error = np.abs(self.found[:, 0, k, :2] - self.truths[row.balloon]).max(axis=1)
            there = ~np.isnan(error) & ~np.isnan(u)
            error, expanded = error[there], USUAL_COVERAGE * u[there]
            needed, usual = float(np.percentile(error, 95)), float(np.median(expanded))
            ratio = f"{usual / needed:.1f}" if needed > 0.0 else "–"
            holds = 100.0 * float(np.mean(error <= expanded + 1e-12))
            numbers = [f"{1000 * usual:.1f}", f"{1000 * needed:.1f}", ratio, f"{holds:.0f} %"]
            cells = [str(row.balloon), row.name, *numbers, self._made_of(row.balloon)]
            print("| " + " | ".join(cells) + " |")

    def _made_of(self, balloon: Balloon) -> str:
        shares = {Budget.TITLES[name]: 100 * share for name, share in self.known[balloon].shares.items()}
        return ", ".join(f"{title} {share:.0f} %" for title, share in shares.items() if share >= 5.0)

    def shares(self) -> None:
        """A line for each row: shares against the scatter that was measured."""
        print("| | | scan to scan, stated | measured | pose to pose, stated | measured | on average |")
        print("|---:|---|---:|---:|---:|---:|---:|")
        for k, row in self.rows:
            stated = np.sqrt(np.nanmean(self.found[:, :, k, 3:] ** 2, axis=(0, 1)))
            both = [parted(self.found[:, :, k, end] - self.truths[row.balloon][end]) for end in (0, 1)]
            noise, common = np.max(both, axis=0)[:2]
            mean = max((one[2] for one in both), key=abs)
            numbers = (stated[0], noise, stated[1], common, mean)
            print(f"| {row.balloon} | {row.name} | " + " | ".join(f"{1000 * v:.2f}" for v in numbers) + " |")


def main() -> None:
    """The whole page."""
    poses = int(sys.argv[1]) if len(sys.argv) > 1 else POSES
    true = {balloon: (value, value) for balloon, value in Cover().truth().items()}
    cover = Studied(demo_plan(), [part.scan().data for part in PARTS if part.tag == "good"], true, poses)
    lengths = Runner().truth(np.linspace(-40.0, 40.0, 500))
    true = {balloon: (float(v.min()), float(v.max())) for balloon, v in lengths.items()}
    good = [part.scan().data for part in RUNNERS if part.tag == "good"]
    runner = Studied(runner_plan(), good, true, poses)
    print(
        f"""# How well values are known

The uncertainty of the demo plans, worked out once on their reference scans and on the other good parts of their
trays, and carried to other parts by their noise and their edges, as on a running line; and the
error of the nominal parts in {poses} random poses, scanned with noise: the cover turned by any angle and tilted
by up to 2°, the runner as the guides of its line let it lie. *Holds*: in how many poses the error is at most
U = {USUAL_COVERAGE:g} u. *Needed*: what 95 % of the errors stay within. Values in 1/1000 of the unit (mm, ° or
mm³). Rows of many values count with the worse of their minimum and maximum. Made by
`python tools/uncertainty.py {poses}`.

## The rain-pump cover
"""
    )
    cover.held()
    print("\n## The drawer runner\n")
    runner.held()
    print(
        f"""
## Shares against what they stand for

Each of the {poses} poses was scanned twice, with other noise. *Scan to scan*: standard deviation between the
two scans, against the shares of point noise and anchors. *Pose to pose*: standard deviation of the errors that
both scans of a pose have in common, against the shares of spacing, grid phase, unmeasured area and form floor;
*on average*: their mean, which U covers too.
Root mean squares of the stated shares, in 1/1000 of the unit, since how much the grid leaves open depends on
the pose; rows of many values count with the worse of their ends.

### The rain-pump cover
"""
    )
    cover.shares()
    print("\n### The drawer runner\n")
    runner.shares()


def parted(errors: FloatArray) -> tuple[float, float, float]:
    """Of (poses, 2) errors the standard deviation between both scans, that of what both share, and its mean."""
    there = errors[~np.isnan(errors).any(axis=1)]
    one, other = there.T
    mean = float(there.mean())
    noise = float(np.mean((one - other) ** 2)) / 2.0
    return math.sqrt(noise), math.sqrt(max(float(np.mean((one - mean) * (other - mean))), 0.0)), mean


if __name__ == "__main__":
    main()
