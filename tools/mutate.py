"""Reads files of every format with bytes changed, cut or put in; prints what became of them.

`python tools/mutate.py [files] [seed]`: so many of each format, the same ones for a seed. Whatever is neither
read nor one sentence is printed with its traceback, and the exit code is then 1.
"""

import random
import resource
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from pathlib import Path

import ezdxf
import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from hemtra import HeightMap, HemtraError, Scan, save_plan, save_scan
from hemtra.core.plan.requirements import parse_requirements
from hemtra.storage.drawings import load_drawing
from hemtra.storage.plans import load_plan_file
from hemtra.storage.scans import load_scan
from hemtra.storage.stations import load_station, save_station
from hemtra.storage.trays import TrayEntry, load_tray, save_tray
from hemtra.virtual.demo import STATION
from makers import mutated, step_plan

FILES = 1000
SCAN = Scan(HeightMap(np.linspace(0.0, 1.0, 600).reshape(20, 30), dx=0.1, dy=0.1), serial="a")


def _drawing(path: Path) -> None:
    document = ezdxf.new()
    document.modelspace().add_lwpolyline([(0, 0), (10, 0), (10, 5)])
    document.modelspace().add_arc((5, 5), 3, 0, 90)
    document.saveas(path)


def _tray(path: Path) -> None:
    save_tray(path.with_name("a.hplan"), [TrayEntry(path.with_name("a.x3p"), "good")])


FORMATS: dict[str, tuple[Callable[[Path], object], Callable[[Path], object]]] = {
    "a.x3p": (lambda p: save_scan(SCAN, p), load_scan),
    "a.tif": (lambda p: save_scan(SCAN, p), load_scan),
    "a.hplan": (lambda p: save_plan(step_plan(), p, SCAN), load_plan_file),
    "a.hstation": (lambda p: save_station(STATION, p), load_station),
    "a.tray.json": (_tray, lambda p: load_tray(p.with_name("a.hplan"))),
    "a.dxf": (_drawing, load_drawing),
    "path.csv": (lambda p: p.write_text("x,y\n0,0\n10,0\n10,5\n"), load_drawing),
    "list.csv": (
        lambda p: p.write_text("balloon,name,nominal,lower,upper\n1,Height,2.5,2.4,2.6\n"),
        lambda p: parse_requirements(p.read_text(errors="replace")),
    ),
}
"""By file name: how a good one is written, and how it is read."""


def main(files: int, seed: int) -> int:
    """How many were neither read nor a sentence."""
    failed = 0
    print("| format | files | read | refused in a sentence | failed | s for the slowest |")
    print("|---|---:|---:|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as folder:
        for name, (write, read) in FORMATS.items():
            path, rng = Path(folder) / name, random.Random(f"{name} {seed}")
            write(path)
            raw, counts, slowest = path.read_bytes(), [0, 0, 0], 0.0
            for _ in range(files):
                path.write_bytes(mutated(raw, rng))
                began = time.perf_counter()
                try:
                    read(path)
                    counts[0] += 1
                except HemtraError as error:
                    good = str(error).isprintable() and len(str(error)) < 600
                    counts[1 if good else 2] += 1
                    if not good:
                        print(f"not fit to be shown: {error!r}", file=sys.stderr)
                except Exception:
                    counts[2] += 1
                    traceback.print_exc()
                slowest = max(slowest, time.perf_counter() - began)
            failed += counts[2]
            print(f"| {name} | {files} | {counts[0]} | {counts[1]} | {counts[2]} | {slowest:.2f} |", flush=True)
    print(f"\nMost memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB.")
    return failed


if __name__ == "__main__":
    sys.exit(bool(main(*[int(a) for a in sys.argv[1:]], *[FILES, 1][len(sys.argv) - 1 :])))
