"""Whether the benchmarks are as fast as they were: `make bench-check`.

    .venv/bin/python tools/bench_check.py [--keep]

Each case takes turns with an md5, and the ratio counts, since machines differ and have slow hours. Waits for a
quiet machine; ends with 1 where a case is slower than it was, and with 2 where that cannot be told. With
`--keep` it writes the figures to compare with.
"""

from __future__ import annotations

import hashlib
import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable, Mapping
from pathlib import Path

ROOT = Path(__file__).parents[1]
KEPT = ROOT / "benchmarks" / "ratios.json"
CASES = tuple(f"benchmarks/test_{name}.py" for name in ("core", "features", "paths"))
LONG = ("work_out", "shake", "tray", "virtual_scan")
"""Parts of the names of cases that take too long to be tried again."""
SLOWER = 1.15
"""Ratio to the figure kept from which a case counts as slower."""
TRIES = 3
"""Runs of a case that seems slower; the best of them counts."""
SPREAD = 1.2
"""Slowest tenth of equal work over its median, up to which a machine is quiet."""
PATIENCE, LOOK = 300.0, 10.0
"""Longest wait for a quiet machine, and interval between looks, s."""
WORK = bytes(4_000_000)


def unrest() -> float:
    """How unequally long equal work takes: the slowest tenth over the median."""
    took = []
    for _ in range(100):
        start = time.perf_counter()
        hashlib.md5(WORK).digest()
        took.append(time.perf_counter() - start)
    return statistics.quantiles(took, n=10)[-1] / statistics.median(took)


def is_quiet() -> bool:
    """Wait for a quiet machine; False where it does not become one."""
    until = time.monotonic() + PATIENCE
    while unrest() > SPREAD:
        if time.monotonic() > until:
            return False
        time.sleep(LOOK)
    return True


def measured(cases: Iterable[str]) -> dict[str, float]:
    """Times of benchmarks in md5, by their names."""
    with tempfile.TemporaryDirectory() as folder:
        found = Path(folder) / "found.json"
        few = " and ".join(f"not {name}" for name in LONG)
        pytest = (
            sys.executable,
            "-m",
            "pytest",
            "-q",
            "-o",
            "addopts=",
            "-k",
            few,
            f"--benchmark-json={found}",
        )
        subprocess.run([*pytest, *cases], cwd=ROOT, check=True, stdout=subprocess.DEVNULL)
        every = json.loads(found.read_text())["benchmarks"]
    return {one["fullname"]: one["extra_info"]["md5"] for one in every if "md5" in one["extra_info"]}


def slower(found: Mapping[str, float], kept: Mapping[str, float]) -> dict[str, float]:
    """How much slower cases are than they were, where that is too much."""
    ratios = {name: value / kept[name] for name, value in found.items() if name in kept}
    return {name: ratio for name, ratio in ratios.items() if ratio > SLOWER}


def main(keep: bool) -> int:
    """Measure, compare and say so."""
    if not is_quiet():
        print("It cannot be told: other work keeps this machine busy. Try again later.")
        return 2
    found = measured(CASES)
    if keep:
        KEPT.write_text(
            json.dumps({name: round(value, 3) for name, value in sorted(found.items())}, indent=1) + "\n"
        )
        return 0
    kept = json.loads(KEPT.read_text())
    for _ in range(TRIES - 1):
        late = slower(found, kept)
        if not late:
            break
        found |= {name: min(found[name], value) for name, value in measured(late).items()}
    if not is_quiet():
        print("It cannot be told: other work has begun on this machine meanwhile. Try again later.")
        return 2
    for name, ratio in slower(found, kept).items():
        print(f"{name}: {found[name]:.2f} md5, {100 * (ratio - 1):.0f} % more than {kept[name]:.2f}")
    for name in sorted(kept.keys() - found.keys()):
        print(f"{name}: kept, but not measured")
    return int(bool(slower(found, kept)))


if __name__ == "__main__":
    sys.exit(main("--keep" in sys.argv[1:]))
