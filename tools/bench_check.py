"""Checks that nothing has become slower: `python tools/bench_check.py [--keep]`.

Runs the benchmarks of what is computed and compares each, in md5 of the heights of a scan, with what
`benchmarks/ratios.json` has. Ends with 1 where one is 15 % worse, and with 2 where the machine is too busy to
tell. --keep writes that file anew.
"""

import hashlib
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parents[1]
KEPT = ROOT / "benchmarks/ratios.json"
CHECKED = [f"benchmarks/test_{name}.py" for name in ("core", "features", "paths")]
"""What is computed alone; lines, windows and databases wait for more than the processor."""
WORSE = 1.15
RESTLESS = 0.1
"""Quartiles of the md5 apart, as a share of its median, from which on a figure says nothing."""
LOAD, PATIENCE = 0.7, 300.0
"""Processes that want to run besides, and s to wait until there are fewer."""


def is_quiet() -> bool:
    """Whether nothing else runs here, after waiting for that a while."""
    until = time.monotonic() + PATIENCE
    while os.getloadavg()[0] > LOAD:
        if time.monotonic() > until:
            return False
        time.sleep(5.0)
    block, took = bytes(1 << 22), []
    for _ in range(60):
        start = time.perf_counter()
        hashlib.md5(block).digest()
        took.append(time.perf_counter() - start)
    took.sort()
    return (took[45] - took[15]) / took[30] < RESTLESS


def measured() -> dict[str, dict[str, float]]:
    """By benchmark, its median in md5 and how restless the machine was meanwhile."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "out.json"
        command = [
            sys.executable,
            "-m",
            "pytest",
            "benchmarks",
            "-o",
            "addopts=",
            "-q",
            f"--benchmark-json={out}",
        ]
        if subprocess.run(command, cwd=ROOT, check=False).returncode:
            sys.exit("The benchmarks did not run through.")
        found = json.loads(out.read_text())["benchmarks"]
    return {one["name"]: one["extra_info"] for one in found if "md5" in one["extra_info"]}


def main() -> int:
    """Run, compare and say."""
    if not is_quiet():
        print("This machine is too busy to tell; stop what else runs on it and try again.")
        return 2
    found = measured()
    if "--keep" in sys.argv:
        KEPT.write_text(json.dumps({n: round(f["md5"], 4) for n, f in sorted(found.items())}, indent=1) + "\n")
        return 0
    kept = json.loads(KEPT.read_text())
    worse, untold = [], []
    for name in sorted(kept.keys() & found.keys()):
        now, before = found[name]["md5"], kept[name]
        if now <= WORSE * before:
            continue
        words = f"{name}: {now:.2f} md5, {before:.2f} before"
        (untold if found[name]["unrest"] > RESTLESS else worse).append(words)
    for name in sorted(kept.keys() - found.keys()):
        worse.append(f"{name}: did not run")
    print("\n".join(["Slower:", *worse] if worse else ["Nothing is slower."]))
    print("\n".join(["Cannot tell, the machine was busy:", *untold] if untold else []))
    return 1 if worse else 2 if untold else 0


if __name__ == "__main__":
    sys.exit(main())
