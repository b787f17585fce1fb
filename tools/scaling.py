"""How time grows with size, as exponents: points, profiles, balloons, nodes of a path, tray and records.

    .venv/bin/python tools/scaling.py

Prints the table of docs/performance.md. An exponent of 1 is time in proportion to size; it is taken between the
two largest sizes, where what a part costs in any case counts least.
"""

from __future__ import annotations

import math
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from itertools import chain
from pathlib import Path
from typing import Any

import numba
import numpy as np

from hemtra import Characteristic, Plan, Step
from hemtra.core.arrays import FloatArray
from hemtra.core.evaluation.engine import Engine
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.zones.zone import EllipseZone, PathNode, PathZone, RectangleZone
from hemtra.storage.records import Records
from hemtra.storage.records.pages import Filter, page
from hemtra.storage.records.trends import trends
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.demo import PARTS, demo_plan
from hemtra.virtual.runner_demo import RUNNERS, runner_plan
from hemtra.virtual.shapes import surface_at

sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))
from many_parts import many_parts

ROUNDS = 3
Case = tuple[str, str, list[tuple[int, Callable[[], object]]]]
"""Title, unit of the sizes, and work by size."""


def fresh(data: HeightMap) -> HeightMap:
    """The same map, of which nothing is remembered."""
    g = data.grid
    return HeightMap(data.z, data.intensity, g.dx, g.dy, g.x0, g.y0)


@numba.njit
def _look(at: FloatArray, shape: Any, z: FloatArray, light: FloatArray) -> None:
    """Heights and light of a cover from straight above at places of a square; NaN in its holes."""
    for i in range(at.size):
        for j in range(at.size):
            height, light[i, j], element = surface_at(at[j], at[i], shape)
            beside = abs(at[j]) > shape.length / 2 or abs(at[i]) > 40.0
            z[i, j] = height if element else BELT if beside else np.nan


def drawn(side: int) -> HeightMap:
    """A cover in the middle of a square of so many points a side, as sharp at any spacing."""
    pitch = 140.0 / side
    at, rng = pitch * (np.arange(side) - (side - 1) / 2), np.random.default_rng(1)
    z, light = np.empty((2, side, side), np.float32)
    _look(at, Cover(serial="000001").shape(), z, light)
    z += rng.standard_normal(z.shape, np.float32) * np.float32(0.004)
    return HeightMap(z, (200.0 * light).astype(np.uint8), pitch, pitch, float(at[0]), float(at[0]))


def points() -> Case:
    """The demo's plan on finer and finer maps of a cover."""
    plan = Engine(drawn(1058)).taught(demo_plan())
    maps = [drawn(side) for side in (560, 1058, 2048, 4000)]
    work = [(data.z.size, lambda data=data: Engine(fresh(data)).run(plan)) for data in maps]
    return "whole demo plan", "points", work


def profiles() -> Case:
    """The runner's plan on longer and longer runs."""
    short, plan = RUNNERS[1].scan().data, runner_plan()
    g, work = short.grid, []
    for count in (500, 2000, 8000, 20_000):
        z = np.tile(short.z, (math.ceil(count / short.z.shape[0]), 1))[:count]
        run = HeightMap(z, dx=g.dx, dy=0.16, x0=g.x0, y0=g.y0)
        work.append((count, lambda run=run: Engine(fresh(run)).run(plan)))
    return "run with 11 rows", "profiles", work


def balloons() -> Case:
    """Plans of more and more spots, each with a height above a plane."""
    part = PARTS[0].scan().data
    plane = Step(
        id="plane", name="Plane", kind="plane", zone=RectangleZone(x=0.0, y=0.0, width=100.0, height=70.0)
    )
    work = []
    for count in (8, 24, 80, 240):
        steps, rows = [plane], []
        for k in range(count):
            zone = EllipseZone(
                x=-50.0 + 100.0 * (k * 0.618 % 1.0), y=-30.0 + 60.0 * k / count, width=4.0, height=4.0
            )
            above = {"point": (f"spot-{k}",), "plane": ("plane",)}
            steps.append(Step(id=f"spot-{k}", name=f"Spot {k}", kind="spot", zone=zone))
            steps.append(Step(id=f"height-{k}", name=f"Height {k}", kind="height", inputs=above))
            rows.append(
                Characteristic(balloon=k + 1, name=f"Height {k}", step=f"height-{k}", lower=-9.0, upper=9.0)
            )
        plan = Plan(name="many", steps=tuple(steps), sheet=tuple(rows))
        work.append((count, lambda plan=plan: Engine(fresh(part)).run(plan)))
    return "spots above a plane", "balloons", work


def nodes() -> Case:
    """A bead on paths of more and more nodes, equally long."""
    part, work = PARTS[0].scan().data, []
    for count in (8, 32, 128, 480):
        turn = np.linspace(0.0, 2.0 * np.pi, count, endpoint=False)
        places = tuple(PathNode(u=float(0.5 * np.cos(a)), v=float(0.5 * np.sin(a))) for a in turn)
        zone = PathZone(x=0.0, y=0.0, width=90.0, height=56.0, nodes=places, across=8.0, closed=True)
        path = Step(id="path", name="Path", kind="path", zone=zone)
        bead = Step(id="bead", name="Bead", kind="bead", inputs={"path": ("path",)})
        plan = Plan(name="path", steps=(path, bead))
        work.append((count, lambda plan=plan: Engine(fresh(part)).run(plan)))
    return "bead on a path", "nodes", work


def tray() -> Case:
    """All parts of trays of several sizes."""
    maps, plan = [part.scan().data for part in PARTS[:4]], demo_plan()

    def evaluated(count: int) -> None:
        for k in range(count):
            Engine(fresh(maps[k % len(maps)])).run(plan)

    return "tray evaluated", "parts", [(n, lambda n=n: evaluated(n)) for n in (3, 6, 12, 24)]


def records() -> Iterator[Case]:
    """A filtered page and a trend in records of several sizes."""
    with tempfile.TemporaryDirectory() as folder:
        sizes = (10_000, 40_000, 160_000)
        every = [(n, Records(str(many_parts(Path(folder) / f"{n}.db", n)))) for n in sizes]
        wanted = Filter(balloon=5)
        yield (
            "page of the parts that fail a balloon",
            "parts",
            [(n, lambda r=r: page(r, wanted)) for n, r in every],
        )
        yield (
            "trend of a characteristic, all lots",
            "parts",
            [(n, lambda r=r: trends(r, r.all_lots(), 5)) for n, r in every],
        )
        for _, one in every:
            one.close()


def timed(work: Callable[[], object]) -> float:
    """The fastest of some rounds, s."""
    work()
    took = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        work()
        took.append(time.perf_counter() - start)
    return min(took)


def main() -> None:
    """Print the table."""
    print("| work | sizes | ms | exponent |\n|---|---|---|---:|")
    for case in chain((points(), profiles(), balloons(), nodes(), tray()), records()):
        title, unit, works = case
        found = [(size, timed(work)) for size, work in works]
        (a, early), (b, late) = found[-2:]
        exponent = math.log(late / early) / math.log(b / a)
        sizes, times = ", ".join(f"{n:,}" for n, _ in found), ", ".join(f"{1000 * t:.3g}" for _, t in found)
        print(f"| {title} | {sizes} {unit} | {times} | {exponent:.2f} |", flush=True)


if __name__ == "__main__":
    main()
