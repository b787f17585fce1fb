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
import laspy
import numpy as np
import plyfile
import pye57
import tifffile
import trimesh
from PIL import Image

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from hemtra import HeightMap, HemtraError, Scan, save_plan, save_scan
from hemtra.core.plan.requirements import parse_requirements
from hemtra.storage.drawings import load_drawing
from hemtra.storage.foreign.mesh import load_mesh
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


POINTS = np.random.default_rng(0).uniform(0.0, 5.0, (60, 3))
SAID = {"dx": 0.5, "dy": 0.5, "unit": "mm", "scale": 1.0}
"""What files of other programs do not say."""


def _image(path: Path) -> None:
    held = (1000 * np.random.default_rng(1).random((9, 12))).astype(np.uint16)
    if path.suffix == ".tif":
        tifffile.imwrite(path, held, compression="zstd", predictor=True)
    else:
        Image.fromarray(held).save(path)


def _array(path: Path) -> None:
    if path.suffix == ".npy":
        np.save(path, POINTS)
    else:
        np.savez(path, heights=POINTS)


def _text(path: Path) -> None:
    if path.suffix == ".asc":
        head = "ncols 3\nnrows 20\nxllcorner 0\nyllcorner 0\ncellsize 0.5\nNODATA_value -9999\n"
        path.write_text(head + "\n".join(" ".join(f"{v:.4f}" for v in row) for row in POINTS[:20]))
    else:
        path.write_text("\n".join(" ".join(f"{v:.4f}" for v in row) for row in POINTS))


def _ply(path: Path) -> None:
    corners = np.array([tuple(p) for p in POINTS], dtype=[(axis, "f4") for axis in "xyz"])
    plyfile.PlyData([plyfile.PlyElement.describe(corners, "vertex")]).write(path)


def _pcd(path: Path) -> None:
    head = "VERSION 0.7\nFIELDS x y z\nSIZE 4 4 4\nTYPE F F F\nCOUNT 1 1 1\nWIDTH 60\nHEIGHT 1\n"
    path.write_bytes(f"{head}POINTS 60\nDATA binary\n".encode() + POINTS.astype("<f4").tobytes())


def _las(path: Path) -> None:
    made = laspy.LasData(laspy.LasHeader(point_format=0, version="1.2"))
    made.x, made.y, made.z = POINTS.T
    made.write(path)


def _e57(path: Path) -> None:
    with pye57.E57(str(path), mode="w") as file:
        x, y, z = np.ascontiguousarray(POINTS.T)
        file.write_scan_raw({"cartesianX": x, "cartesianY": y, "cartesianZ": z})


def _mesh(path: Path) -> None:
    trimesh.creation.box((2.0, 3.0, 4.0)).export(path)


def _foreign(path: Path) -> object:
    return load_scan(path, **SAID)


FORMATS: dict[str, tuple[Callable[[Path], object], Callable[[Path], object]]] = {
    "a.x3p": (lambda p: save_scan(SCAN, p), load_scan),
    "a.tif": (lambda p: save_scan(SCAN, p), load_scan),
    "a.hplan": (lambda p: save_plan(step_plan(), p, SCAN), load_plan_file),
    "a.hstation": (lambda p: save_station(STATION, p), load_station),
    "a.tray.json": (_tray, lambda p: load_tray(p.with_name("a.hplan"))),
    "a.dxf": (_drawing, load_drawing),
    "path.csv": (lambda p: p.write_text("x,y\n0,0\n10,0\n10,5\n"), load_drawing),
    **{f"b{end}": (_image, _foreign) for end in (".png", ".tif")},
    **{f"b{end}": (_array, _foreign) for end in (".npy", ".npz")},
    **{f"b{end}": (_text, _foreign) for end in (".xyz", ".asc")},
    "b.ply": (_ply, _foreign),
    "b.pcd": (_pcd, _foreign),
    "b.las": (_las, _foreign),
    "b.e57": (_e57, _foreign),
    **{f"c{end}": (_mesh, load_mesh) for end in (".stl", ".ply")},
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
