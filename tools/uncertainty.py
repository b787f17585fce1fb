"""Prints docs/uncertainty.md: whether the stated uncertainty of every value of the cover holds its error.

`python tools/uncertainty.py [poses]`; the poses are those of `tools/pose_study.py`.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
from pose_study import EXEMPT, cover_scan

from hemtra import inspect
from hemtra.core.evaluation.uncertainty import budgets, with_budgets
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.document import Plan
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import PARTS, demo_plan

POSES = 200


def evaluated(plan: Plan, seed: int) -> list[tuple[float, float, float]]:
    """Least and greatest value and standard uncertainty of each row on one part; NaN without."""
    found = []
    for row in inspect(plan, cover_scan(seed, False)).characteristics:
        ends = (row.value, row.value) if row.least is None else (row.least, row.greatest)
        found.append(tuple(float("nan") if v is None else float(v) for v in (*ends, row.u)))
    return found


def main() -> None:
    """The whole page."""
    poses = int(sys.argv[1]) if len(sys.argv) > 1 else POSES
    plan = demo_plan()
    known = budgets(plan, [part.scan().data for part in PARTS if part.tag == "good"])
    with ProcessPoolExecutor() as pool:
        found = np.array(
            list(pool.map(partial(evaluated, with_budgets(plan, known)), range(poses), chunksize=5))
        )
    print(
        f"""# How well values are known

The uncertainty of the demo plan, worked out once on its reference scan and the other good parts of its tray and
carried to other parts by their noise and their edges, as on a running line; and the error of the nominal cover
in {poses} random poses, tilted by up to 2°, scanned with noise. *Holds*: in how many poses the error is at most
U = {USUAL_COVERAGE:g} u. *Needed*: what 95 % of the errors stay within. Values in 1/1000 of the unit (mm, ° or
mm³). Rows of many values count with the worse of their least and greatest. Made by
`python tools/uncertainty.py {poses}`.

| | | U, median | needed | U / needed | holds | made of |
|---:|---|---:|---:|---:|---:|---|"""
    )
    truths = Cover().truth()
    for k, row in enumerate(sorted(plan.sheet, key=lambda row: row.balloon)):
        if row.balloon in EXEMPT or row.balloon not in known:
            continue
        low, high, u = found[:, k].T
        error = np.maximum(np.abs(low - truths[row.balloon]), np.abs(high - truths[row.balloon]))
        there = ~np.isnan(error) & ~np.isnan(u)
        error, expanded = error[there], USUAL_COVERAGE * u[there]
        needed, usual = float(np.percentile(error, 95)), float(np.median(expanded))
        ratio = f"{usual / needed:.1f}" if needed > 0.0 else "–"
        shares = known[row.balloon].shares.items()
        largest = [f"{Budget.TITLES[name]} {100 * share:.0f} %" for name, share in shares if share >= 0.05]
        holds = 100.0 * float(np.mean(error <= expanded + 1e-12))
        numbers = [f"{1000 * usual:.1f}", f"{1000 * needed:.1f}", ratio, f"{holds:.0f} %"]
        cells = [str(row.balloon), row.name, *numbers, ", ".join(largest)]
        print("| " + " | ".join(cells) + " |")


if __name__ == "__main__":
    main()
