"""Engine, fits, files and pictures, on one core."""

import hashlib

import numpy as np

from hemtra import load_scan, save_scan
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.uncertainty import budgets, with_budgets
from hemtra.core.filters.filtering import fill_holes, smooth_gaussian
from hemtra.core.filters.rank_filter import median_filter
from hemtra.core.geometry.plane_fit import fit_plane
from hemtra.core.locate.search import Search, find
from hemtra.core.maps.heightmap import Grid
from hemtra.core.maps.section import section
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.core.shake.shaking import TriedPart, cases, shaken
from hemtra.core.station.assembler import Assembler, Batch, Layout, Profiles, TriggerSeen
from hemtra.core.station.trigger import TriggerRules
from hemtra.desktop.background.evaluation import ShowRequest, TrayRequest, show, try_tray
from hemtra.desktop.models.surface_mesh import surface
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import PARTS, STATION, demo_plan
from hemtra.virtual.sensor import scan_part


def test_inspect_the_demo_plan_at_any_angle(beside):
    """The whole plan on a part that lies at -30° and tilted."""
    data, plan = PARTS[4].scan().data, demo_plan()
    beside(lambda: Engine(data).run(plan), lambda: hashlib.md5(data.z).digest(), "md5 of the heights")


def test_inspect_the_demo_plan_with_the_uncertainty_of_every_value(beside):
    """What it costs on a line that the rows know their budgets, against the same plan without."""
    data, plan = PARTS[4].scan().data, demo_plan()
    known = with_budgets(plan, budgets(plan, [PARTS[0].scan().data], copies=8))
    beside(lambda: Engine(data).run(known), lambda: Engine(data).run(plan), "the plan without")


def test_work_out_the_uncertainty_of_the_demo_plan(benchmark):
    """On the reference scan and all other good parts of the tray, as in the window."""
    scans, plan = [part.scan().data for part in PARTS if part.tag == "good"], demo_plan()
    assert len(benchmark.pedantic(lambda: budgets(plan, scans), rounds=3, warmup_rounds=1)) == 23


def test_shake_one_part(benchmark):
    """Every amount of every disturbance once, 52 copies, on one core."""
    data, plan = PARTS[1].scan().data, demo_plan()
    found = benchmark.pedantic(
        lambda: list(shaken(plan, TriedPart("part", data, True), cases(1))), rounds=3, warmup_rounds=1
    )
    assert 0 < len(found) <= len(cases(1)), "what has to be simulated anew is left out"


def test_inspect_the_demo_plan_on_2048_by_2048(beside, cover_anywhere):
    _, data = cover_anywhere
    plan = demo_plan()
    beside(lambda: Engine(data).run(plan), data.z.copy, "copy of the map")


def test_outline_anywhere_in_2048_by_2048(beside, cover_anywhere):
    model, data = cover_anywhere
    beside(lambda: find(model, data, Search()), data.z.copy, "copy of the map")


def test_outline_near_its_place_in_2048_by_2048(beside, cover_anywhere):
    model, data = cover_anywhere
    first = find(model, data, Search())[0].frame
    near = Search((first.x + 4, first.y - 5, 10.0), first.rotation - 15 + 6, first.rotation + 15 + 6)
    beside(lambda: find(model, data, near), data.z.copy, "copy of the map")


def test_tray_of_24_after_an_edit_of_one_feature(benchmark):
    engines, plan = [Engine(part.scan().data) for part in PARTS], demo_plan()
    places = iter(range(10_000))
    list(try_tray(TrayRequest(plan, tuple(engines)), lambda: False))

    def edit():
        step = plan.step("boss-ne-top")
        moved = plan.with_step(step.edited(zone=step.zone.model_copy(update={"x": 42 + next(places) / 1000})))
        return list(try_tray(TrayRequest(moved, tuple(engines)), lambda: False))

    assert len(benchmark.pedantic(edit, rounds=8, warmup_rounds=1)) == len(PARTS)


def test_surface_in_full_detail(beside, part):
    data, palette = part.data, height_palette()
    beside(lambda: surface(data, 1_600_000, palette, (-6, 8), data), data.z.copy, "copy of the map", rounds=10)


def test_drag_one_zone_with_evidence_and_section(beside, part):
    engine, plan = Engine(part.data), demo_plan()
    engine.run(plan)
    places = iter(range(10_000))

    def drag():
        step = plan.step("boss-ne-top")
        moved = plan.with_step(step.edited(zone=step.zone.model_copy(update={"x": 42 + next(places) / 1000})))
        next(show(ShowRequest(engine, None, moved, 1, None, 1.0), lambda: False))

    beside(drag, part.data.z.copy, "copy of the map")


def test_read_x3p(beside, part_file, part):
    z = part.data.z
    beside(lambda: load_scan(part_file), lambda: hashlib.md5(z).digest(), "md5 of the heights")


def test_write_x3p(beside, part, tmp_path):
    z = part.data.z
    beside(lambda: save_scan(part, tmp_path / "out.x3p"), lambda: hashlib.md5(z).digest(), "md5 of the heights")


def test_plane_one_million_points(beside, large):
    z = np.ascontiguousarray(large[:1024, :1024])
    v, u = np.mgrid[0:1024, 0:1024]

    def script():
        """What a good engineer writes: normal equations over the valid points."""
        found = ~np.isnan(z)
        x, y, w = u[found].astype(float), v[found].astype(float), z[found].astype(float)
        a = np.array([[x @ x, x @ y, x.sum()], [x @ y, y @ y, y.sum()], [x.sum(), y.sum(), x.size]])
        return np.linalg.solve(a, [x @ w, y @ w, w.sum()])

    beside(lambda: fit_plane(z, None), script, "normal equations in NumPy")


def test_trimmed_plane_one_million_points(beside, large):
    z = np.ascontiguousarray(large[:1024, :1024])
    beside(lambda: fit_plane(z, None, trim=3.0), z.copy, "copy of the zone")


def test_section_along_the_part(beside, part):
    x0, x1, *_ = part.data.extent
    beside(lambda: section(part.data, (x0, 22), (x1, 22), 1.0), part.data.z.copy, "copy of the map")


def test_picture_900_by_900(beside, large):
    from hemtra import HeightMap

    data, palette = HeightMap(large, dx=1, dy=1), height_palette()
    view = View(0.0, 2047.0, 2048 / 900, 900, 900)
    step = np.arange(900) * 2048 // 900

    def nearest():
        """Nearest points through a table of colours, in NumPy."""
        z = large[step[:, None], step]
        index = np.clip(np.nan_to_num((z + 4.0) * (255 / 6.0)), 0, 255).astype(np.uint8)
        return palette[index]

    beside(lambda: picture(data, view, palette, -4.0, 2.0), nearest, "nearest points in NumPy")


def test_median_5_by_5(beside, large):
    beside(lambda: median_filter(large, 5), large.copy, "copy of the map", rounds=12)


def test_fill_small_holes(beside, large):
    beside(lambda: fill_holes(large, (9, 9)), large.copy, "copy of the map", rounds=12)


def test_smooth_gaussian(beside, large):
    beside(lambda: smooth_gaussian(large, 1.5, 1.5), large.copy, "copy of the map", rounds=12)


def test_virtual_scan_875_profiles(beside):
    cover = make_cover(1)
    row = np.empty((875, 1280), np.float32)
    beside(lambda: scan_part(cover, STATION, 1), row.copy, "copy of the map", rounds=6)


def test_acquisition_of_2000_profiles(beside):
    """From prepared profiles of 1280 points to a scan, in batches of 50."""
    rng = np.random.default_rng(1)
    x = np.broadcast_to(np.linspace(-68, 68, 1280), (50, 1280)).copy()
    z = rng.normal(0, 0.01, (50, 1280)).astype(np.float32)
    grey = np.full((50, 1280), 90, np.uint8)

    seen, times = (Profiles(x, z, grey),), np.arange(50) / 2000
    layout = Layout(Grid(-67.9, 0.0, 0.107, 0.16), 1270, (1280,))

    def acquire():
        assembler = Assembler(TriggerRules(delay=0, length=875), layout)
        assembler.feed(TriggerSeen(0))
        batches = (Batch(50 * k, seen, times, np.arange(50 * k, 50 * k + 50)) for k in range(40))
        return [found for batch in batches for found in assembler.feed(batch)]

    beside(acquire, lambda: [z.copy() for _ in range(40)], "copy of the profiles", rounds=20)
