"""Computes the uncertainty budgets that ship with the demo's plans: `python tools/demo_uncertainty.py`.

It takes a minute. Run it after every change to how values are measured or uncertainty is computed, and to the
demo's parts.
"""

from __future__ import annotations

import time

from hemtra.virtual.demo import demo_plan
from hemtra.virtual.demo_uncertainty import FILE, of_cover, of_runner, text_of
from hemtra.virtual.runner_demo import runner_plan


def main() -> None:
    """Write the file of the package."""
    found = {}
    for name, work in ((demo_plan().name, of_cover), (runner_plan().name, of_runner)):
        start = time.perf_counter()
        found[name] = work()
        print(f"{name}: {len(found[name])} rows, {time.perf_counter() - start:.0f} s")
    FILE.write_text(text_of(found), encoding="utf-8")


if __name__ == "__main__":
    main()
