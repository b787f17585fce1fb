"""Each case runs a reference beside it, taking turns in the same process; the ratio is what counts."""

from __future__ import annotations

import hashlib
import statistics
import time
from pathlib import Path

import numpy as np
import pytest

from hemtra import HeightMap, Scan, save_scan
from hemtra.core.features.outline import COLUMNS, model_of
from hemtra.runtime import demo
from hemtra.virtual.demo import PARTS, REFERENCE, demo_plan

HEIGHTS = bytes(4 * 1280 * 875)
"""As many as a scan of the demo has; their md5 is what all benchmarks are measured against."""
_lines: list[str] = []


def _timed(work) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


@pytest.fixture
def beside(benchmark, request):
    """Runs ours and the reference in turns: `beside(ours, reference, name)`; without one, ours alone."""

    def run(ours, reference=None, name: str = "", rounds: int = 40):
        took: list[float] = []
        hashed: list[float] = []

        def setup():
            hashed.append(_timed(lambda: hashlib.md5(HEIGHTS).digest()))
            took.append(_timed(reference or time.perf_counter))

        benchmark.pedantic(ours, setup=setup, rounds=rounds, warmup_rounds=3)
        median, against = benchmark.stats.stats.median * 1000, statistics.median(took[3:]) * 1000
        benchmark.extra_info["md5"] = median / 1000 / statistics.median(hashed[3:])
        in_md5 = f"{benchmark.extra_info['md5']:7.2f} md5"
        if reference is None:
            _lines.append(f"{request.node.name:44} {median:9.2f} ms {in_md5}")
            return median
        benchmark.extra_info["ratio"] = median / against
        _lines.append(
            f"{request.node.name:44} {median:9.2f} ms {in_md5}   {name} {against:.2f} ms"
            f"   ratio {median / against:.2f}"
        )
        return median

    return run


@pytest.fixture
def note():
    """Adds a line to the summary."""
    return _lines.append


def pytest_terminal_summary(terminalreporter):
    """All ratios below each other."""
    if _lines:
        terminalreporter.section("medians beside their references")
        for line in _lines:
            terminalreporter.write_line(line)


@pytest.fixture(scope="session")
def part() -> Scan:
    """The demo's reference scan, 1280 x 875."""
    return REFERENCE.scan()


@pytest.fixture(scope="session")
def part_file(part, tmp_path_factory) -> Path:
    """The same as X3P."""
    path = tmp_path_factory.mktemp("scan") / "part.x3p"
    save_scan(part, path)
    return path


@pytest.fixture(scope="session")
def cover_anywhere():
    """The taught cover, and a map of 2048 x 2048 points in which it lies at 100°, with 3 % missing."""
    plan, small = demo_plan(), PARTS[4].scan().data
    rng = np.random.default_rng(1)
    z = np.full((2048, 2048), -6.0, np.float32) + rng.normal(0, 0.008, (2048, 2048)).astype(np.float32)
    z[600 : 600 + small.shape[0], 400 : 400 + small.shape[1]] = small.z
    z[rng.random(z.shape) < 0.03] = np.nan
    taught = plan.step("outline").taught
    model = model_of(tuple(taught.columns[name] for name in COLUMNS))
    return model, HeightMap(z, dx=small.grid.dx, dy=small.grid.dy, x0=-110, y0=-160)


@pytest.fixture(scope="session")
def large() -> np.ndarray:
    """(2048, 2048) float32 with 3.4 % missing: a slope with noise."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[0:2048, 0:2048]
    z = (0.001 * x - 0.002 * y + rng.normal(0, 0.01, x.shape)).astype(np.float32)
    z[rng.random(z.shape) < 0.034] = np.nan
    return z


@pytest.fixture(scope="session")
def demo_folder() -> Path:
    """The demo files where the desktop looks for them."""
    folder = demo.demo_folder()
    if not demo.is_complete(folder):
        demo.write_demo(folder)
    return folder
