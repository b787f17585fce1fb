"""The hunt for wrong PASSes: defects of known effect put into scans of known parts, and what becomes of the
verdict.

A subject is one characteristic on a good scan. Each of its defects changes the scan so that the true value
changes by an effect that is known. Then the value must follow, or be NOT MEASURED, or its bounds must say so;
and where the true value lies beyond a limit by more than the value's own uncertainty, the verdict may never be
PASS.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cache
from typing import TypeAlias

import numpy as np
import scipy

from hemtra import HeightMap
from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.document import ByProfile, Characteristic, Plan, Step
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.core.zones.zone import EllipseZone, PathZone, RectangleZone, RingZone
from hemtra.virtual.bead import BeadDefect
from hemtra.virtual.cover import Cover
from hemtra.virtual.demo import PARTS, STATION, demo_plan
from hemtra.virtual.runner_demo import RUNNER_STATION, RUNNERS, runner_plan
from hemtra.virtual.sensor import scan_part

Rng: TypeAlias = np.random.Generator
Injected: TypeAlias = tuple[HeightMap, float]
"""A changed scan, and by how much its true value differs from that of the scan before."""
FOLLOWS = 0.8
"""Share of a defect's effect by which a value moves at least."""
UNSEEN_ABOVE = 0.6
"""Share of what was raised most, above which it is not seen where its peak is taken away."""
PITCH, NOISE = 0.1, 0.008
X, Y = np.meshgrid((np.arange(301) - 150) * PITCH, (np.arange(241) - 120) * PITCH)
GOOD = [part for part in PARTS if part.tag == "good"]


@dataclass(frozen=True)
class Subject:
    """One characteristic on a good scan: the plan of its row alone, and the defects that can be put in.

    u: mm (or its unit) by which its value may be off by itself. defects: by name, what changes the scan;
    size: of a defect in tolerances.
    """

    name: str
    plan: Plan
    data: HeightMap
    u: float
    defects: Mapping[str, Callable[[Rng, float], Injected]]
    serial: str = ""

    @property
    def row(self) -> Characteristic:
        """Its row."""
        return self.plan.sheet[0]

    @property
    def tolerance(self) -> float:
        """What its limits leave, from one to the other or from nothing to the only one."""
        return self.row.room or 1.0

    def evaluated(self, data: HeightMap) -> CharacteristicResult:
        """What becomes of it on a scan."""
        return Engine(data, self.serial).run(self.plan).characteristics[0]


@dataclass(frozen=True)
class Catch:
    """What became of one defect."""

    subject: str
    defect: str
    size: float
    effect: float
    told: str
    """caught, bounded, not measured, followed, refused (a good part that fails), unmoved, or WRONG PASS."""
    detail: str = ""


def hunted(subject: Subject, defect: str, size: float, rng: Rng, before: CharacteristicResult) -> Catch:
    """Put one defect in, and see what becomes of it."""
    data, effect = subject.defects[defect](rng, size * subject.tolerance)
    after = subject.evaluated(data)
    assert before.value is not None
    true, row = before.value + effect, subject.row
    # what measuring itself may be off counts once for the value before and once for that after
    beyond = max(
        (row.lower - true) if row.lower is not None else -math.inf,
        (true - row.upper) if row.upper is not None else -math.inf,
    )
    detail = f"{before.value:.4f} -> {after.value} [{after.low}, {after.high}] {after.verdict} {after.reason}"
    if after.verdict is Verdict.PASS and beyond > 2 * subject.u:
        return Catch(subject.name, defect, size, effect, "WRONG PASS", detail)
    if after.value is None:
        told = "bounded" if after.low is not None and "not seen" in after.reason else "not measured"
        return Catch(subject.name, defect, size, effect, told, detail)
    if not effect and after.verdict is Verdict.FAIL:
        return Catch(subject.name, defect, size, effect, "refused", detail)
    if after.verdict in (Verdict.FAIL, Verdict.NOT_PROVEN) and beyond > -2 * subject.u:
        return Catch(subject.name, defect, size, effect, "caught", detail)
    moved = after.value - before.value
    ends = (after.low, after.high) if after.low is not None and after.high is not None else (after.value,) * 2
    follows = abs(moved - effect) <= (1 - FOLLOWS) * abs(effect) + 2 * subject.u
    if effect and moved * effect > 0 and abs(moved) >= FOLLOWS * abs(effect) - 2 * subject.u:
        follows = True
    if follows:
        return Catch(subject.name, defect, size, effect, "followed", detail)
    if ends[0] - 2 * subject.u <= true <= ends[1] + 2 * subject.u:
        return Catch(subject.name, defect, size, effect, "bounded", detail)
    return Catch(subject.name, defect, size, effect, "unmoved", detail)


# -- what is put in --------------------------------------------------------------------------------


def changed(data: HeightMap, z: np.ndarray, grey: np.ndarray | None = None) -> HeightMap:
    """The scan with other heights."""
    g = data.grid
    return HeightMap(z, data.intensity if grey is None else grey, g.dx, g.dy, g.x0, g.y0)


def inside(data: HeightMap, x: float, y: float, width: float, height: float | None = None) -> np.ndarray:
    """Which points lie in a rectangle about a place; at least three of them."""
    g = data.grid
    half = max(width / 2, 1.01 * g.dx), max((height or width) / 2, 1.01 * g.dy)
    return (np.abs(data.x[None, :] - x) <= half[0]) & (np.abs(data.y[:, None] - y) <= half[1])


def raised(data: HeightMap, x: float, y: float, rise: float, width: float, dome: bool = False) -> HeightMap:
    """A bump (or with a negative rise a dent) of some width."""
    where = inside(data, x, y, width)
    lift = np.where(where, rise, 0.0)
    if dome:
        r = np.hypot(data.x[None, :] - x, data.y[:, None] - y) / (width / 2)
        lift = rise * np.maximum(1.0 - r**2, 0.0)
    return changed(data, data.z + lift)


def dropped(data: HeightMap, rng: Rng, share: float) -> HeightMap:
    """Random points without data."""
    return changed(data, np.where(rng.random(data.shape) < share, np.nan, data.z))


def spiked(data: HeightMap, rng: Rng, share: float) -> HeightMap:
    """Isolated points far off."""
    z = data.z.copy()
    count = max(1, int(share * z.size))
    i, j = rng.integers(0, z.shape[0], count), rng.integers(0, z.shape[1], count)
    z[i, j] += rng.choice([-1.0, 1.0], count) * rng.uniform(0.5, 5.0, count)
    return changed(data, z)


def hidden(data: HeightMap, x: float, y: float, width: float, height: float | None = None) -> HeightMap:
    """A rectangle without data."""
    return changed(data, np.where(inside(data, x, y, width, height), np.nan, data.z))


def peakless(data: HeightMap, injected: Injected) -> Injected:
    """What was injected, but for what it raised most, which is not seen."""
    after, effect = injected
    off = np.abs(np.nan_to_num(after.z - data.z))
    return changed(after, np.where(off > UNSEEN_ABOVE * off.max(), np.nan, after.z)), effect


def moved(data: HeightMap, x: float, y: float, dx: float, dy: float, core: float, reach: float) -> HeightMap:
    """What lies within `core` mm of a place moved, and what lies up to `reach` stretched along."""
    gx, gy = np.meshgrid(data.x, data.y)
    r = np.hypot(gx - x, gy - y)
    part = np.clip((reach - r) / (reach - core), 0.0, 1.0)
    return warped(data, gx - dx * part, gy - dy * part)


def warped(data: HeightMap, gx: np.ndarray, gy: np.ndarray) -> HeightMap:
    """The scan with each point taken from another place, the nearest point there."""
    g, (rows, cols) = data.grid, data.shape
    j = np.clip(np.round((gx - g.x0) / g.dx).astype(int), 0, cols - 1)
    i = np.clip(np.round((gy - g.y0) / g.dy).astype(int), 0, rows - 1)
    return changed(data, data.z[i, j])


Place: TypeAlias = Callable[[Rng], tuple[float, float]]


def unseen(data: HeightMap, place: Place) -> dict[str, Callable[[Rng, float], Injected]]:
    """Defects that change what is seen, and nothing of the part."""
    return {
        "dropouts 1 %": lambda rng, size: (dropped(data, rng, 0.01), 0.0),
        "dropouts 10 %": lambda rng, size: (dropped(data, rng, 0.1), 0.0),
        "dropouts 30 %": lambda rng, size: (dropped(data, rng, 0.3), 0.0),
        "missing patch": lambda rng, size: (hidden(data, *place(rng), float(rng.uniform(0.3, 5.0))), 0.0),
        "shadow": lambda rng, size: (hidden(data, *place(rng), float(rng.uniform(0.3, 2.0)), 12.0), 0.0),
        "spikes": lambda rng, size: (spiked(data, rng, 0.001), 0.0),
    }


def on_form(data: HeightMap, place: Place, before: float) -> dict[str, Callable[[Rng, float], Injected]]:
    """Defects of a surface whose farthest points count: what stands out by more than there is decides."""

    def put(rng: Rng, rise: float, width: float, dome: bool = False) -> Injected:
        return raised(data, *place(rng), rise, width, dome), max(abs(rise) - before, 0.0)

    return {
        "bump": lambda rng, size: put(rng, size, float(rng.uniform(1.0, 6.0))),
        "dent": lambda rng, size: put(rng, -size, float(rng.uniform(1.0, 6.0))),
        "burr": lambda rng, size: put(rng, size, float(rng.uniform(0.3, 1.0))),
        "dome": lambda rng, size: put(rng, size, float(rng.uniform(2.0, 6.0)), True),
        "dome without its peak": lambda rng, size: peakless(
            data, put(rng, size, float(rng.uniform(2.0, 6.0)), True)
        ),
        **unseen(data, place),
    }


# -- kinds on surfaces of our own ------------------------------------------------------------------


def surface(z: np.ndarray, seed: int = 0) -> HeightMap:
    """A map with the noise of a sensor."""
    return HeightMap(
        z + NOISE * np.random.default_rng(seed).standard_normal(z.shape), None, PITCH, PITCH, X[0, 0], Y[0, 0]
    )


def plan_of(*steps: Step, **limits: float) -> Plan:
    """A plan of one row, of the last step."""
    row = Characteristic(balloon=1, name=steps[-1].name, step=steps[-1].id, **limits)
    return Plan(steps=steps, sheet=(row,))


def step(step_id: str, kind: str, zone=None, params=None, **inputs: str | tuple[str, ...]) -> Step:
    """A step; inputs by name."""
    wired = {name: ids if isinstance(ids, tuple) else (ids,) for name, ids in inputs.items()}
    return Step(id=step_id, name=step_id, kind=kind, zone=zone, params=params or {}, inputs=wired)


def within(half_x: float, half_y: float, x: float = 0.0, y: float = 0.0) -> Place:
    """Random places of a rectangle."""
    return lambda rng: (x + float(rng.uniform(-half_x, half_x)), y + float(rng.uniform(-half_y, half_y)))


def _flat(kind: str) -> Subject:
    zone, data = RectangleZone(x=0, y=0, width=24, height=18), surface(0.01 * X)
    plane = step("plane", "plane", zone)
    if kind == "flatness":
        plan = plan_of(plane, step("flat", kind, surfaces="plane"), upper=0.15)
    elif kind == "parallelism":
        base = step("datum", "plane", RectangleZone(x=0, y=0, width=28, height=22))
        plan = plan_of(plane, base, step("par", kind, plane="plane", datum="datum"), upper=0.15)
    else:
        places = [(x, y) for x in (-8.0, 8.0) for y in (-6.0, 6.0)]
        spots = [
            step(f"spot-{k}", "spot", EllipseZone(x=x, y=y, width=5, height=5))
            for k, (x, y) in enumerate(places)
        ]
        plan = plan_of(*spots, step("cop", kind, points=tuple(s.id for s in spots)), upper=0.15)
        near = lambda rng: tuple(  # noqa: E731
            np.array(places[rng.integers(4)]) + rng.uniform(-1.2, 1.2, 2)
        )
        return Subject(kind, plan, data, 0.015, on_form(data, near, 0.02))
    return Subject(kind, plan, data, 0.015, on_form(data, within(11, 8), 0.02))


def _extreme(take: str) -> Subject:
    zone, data = EllipseZone(x=0, y=0, width=12, height=12), surface(0.0 * X)
    plane = step("plane", "plane", RectangleZone(x=0, y=0, width=28, height=22))
    kind, params = (
        ("spot", {"take": take}) if take in ("highest", "lowest") else ("extreme", {"which": "highest"})
    )
    spot = step("spot", kind, zone, params)
    plan = plan_of(plane, spot, step("height", "height", point="spot", plane="plane"), lower=-0.2, upper=0.2)
    place, sign = within(3.5, 3.5), -1.0 if take == "lowest" else 1.0

    def put(rng: Rng, rise: float, width: float, dome: bool = False) -> Injected:
        return raised(data, *place(rng), sign * rise, width, dome), sign * max(rise - 0.02, 0.0)

    defects = {
        "bump": lambda rng, size: put(rng, size, float(rng.uniform(1.0, 3.0))),
        "burr": lambda rng, size: put(rng, size, float(rng.uniform(0.3, 1.0))),
        "dome without its peak": lambda rng, size: peakless(
            data, put(rng, size, float(rng.uniform(2.0, 6.0)), True)
        ),
        **unseen(data, place),
    }
    return Subject(f"{kind} {take}", plan, data, 0.025, defects)


def _edge_form(kind: str) -> Subject:
    if kind == "straightness":
        data = surface(np.where(X < 0, 2.0, 0.0))
        edge = step("edge", "edge", RectangleZone(x=0, y=0, width=5, height=20))
        plan, place = plan_of(edge, step("form", kind, edge="edge"), upper=0.4), within(0.0, 9.0)
    else:
        data = surface(np.where(np.hypot(X, Y) < 6.0, 2.0, 0.0))
        edge = step("rim", "circle", RingZone(x=0, y=0, width=17, height=17, inner=0.5))
        plan = plan_of(edge, step("form", kind, circle="rim"), upper=0.4)

        def place(rng: Rng) -> tuple[float, float]:
            turn = rng.uniform(0, 2 * math.pi)
            return 6.0 * math.cos(turn), 6.0 * math.sin(turn)

    def notch(rng: Rng, size: float) -> Injected:
        x, y = place(rng)
        where = inside(data, x, y, 2 * size, float(rng.uniform(0.8, 4.0)))
        if kind == "roundness":
            where = np.hypot(X - x, Y - y) <= size
        return changed(data, np.where(where, 0.0, data.z)), max(size - 0.1, 0.0)

    return Subject(kind, plan, data, 0.05, {"notch": notch, **unseen(data, place)})


def _width() -> Subject:
    data = surface(np.where(np.abs(X) < 5.0, 2.0, 0.0))
    sides = [step(n, "edge", RectangleZone(x=x, y=0, width=5, height=18)) for n, x in (("a", -5), ("b", 5))]
    width = step("width", "width", params={"take": "least"}, one="a", other="b")
    plan, place = plan_of(*sides, width, lower=9.6, upper=10.4), within(0.0, 8.0, 5.0)

    def notch(rng: Rng, size: float) -> Injected:
        x, y = place(rng)
        where = inside(data, x, y, 2 * size, float(rng.uniform(0.6, 4.0)))
        return changed(data, np.where(where, 0.0, data.z)), -size

    return Subject("width least", plan, data, 0.06, {"notch": notch, **unseen(data, place)})


def _island(kind: str) -> Subject:
    half = np.where((np.abs(X) < 4.0) & (np.abs(Y) < 4.0), 0.5, 0.0)
    data, zone = surface(half), RectangleZone(x=0, y=0, width=20, height=18)
    island = step("island", "island", zone, {"level": 0.1, "volume_from": "base", "least_area": 2.0})
    true = {"area": 64.0, "volume": 32.0, "count": 1.0}[kind]
    limits = {"lower": 0.95 * true, "upper": 1.05 * true} if kind != "count" else {"lower": 1.0, "upper": 1.0}
    plan, place = plan_of(island, step("size", kind, of="island"), **limits), within(6.0, 6.0)

    def bitten(rng: Rng, size: float) -> Injected:
        """A corner that is missing, as large as makes the effect."""
        if kind == "count":
            return changed(data, np.where(inside(data, 0, 0, 1.0, 9.0), 0.0, data.z)), 1.0
        side = math.sqrt(min(size / (1.0 if kind == "area" else 0.5), 30.0))
        where = inside(data, 4.0 - side / 2, 4.0 - side / 2, side)
        return changed(data, np.where(where, data.z - 0.5, data.z)), -size

    return Subject(
        kind, plan, data, 0.01 * true if kind != "count" else 0.0, {"bite": bitten, **unseen(data, place)}
    )


def _fill() -> Subject:
    data = surface(np.where(X < 0, 1.0, 0.0))
    zone = RectangleZone(x=0, y=0, width=20, height=10)
    plan = plan_of(step("fill", "fill-share", zone, {"level": 0.5}), lower=45.0, upper=55.0)

    def more(rng: Rng, size: float) -> Injected:
        return changed(data, np.where(inside(data, size / 10.0, 0, size / 5.0, 11.0), 1.0, data.z)), size

    return Subject("fill-share", plan, data, 1.0, {"overflow": more, **unseen(data, within(9, 4))})


def _along(what: str) -> Subject:
    wide = 3.0
    gap = what == "gap"
    bead = np.where(np.abs(Y) < 0.6, np.nan, 0.0) if gap else 1.6 * np.maximum(1.0 - (2 * Y / wide) ** 2, 0.0)
    data = surface(bead)
    zone = PathZone.through(np.array([(-13.0, 0.02), (13.0, 0.0)]), across=11.0)
    path = step("path", "path", zone)
    feature = step("feature", "seam" if gap else "bead", path="path")
    take = {"take": "break"} if what == "break" else {"what": what, "missing": 1.0}
    size = step("size", "continuity" if what == "break" else "along", params=take, of="feature")
    limits = {
        "width": {"lower": 2.5, "upper": 3.5},
        "height": {"lower": 1.3, "upper": 1.9},
        "offset": {"lower": -0.6, "upper": 0.6},
        "break": {"upper": 1.0},
        "gap": {"lower": 1.0, "upper": 1.7},
    }[what]
    plan, place = plan_of(path, feature, size, **limits), within(10.0, 0.0)
    u = {"width": 0.08, "height": 0.03, "offset": 0.05, "break": 0.3, "gap": 0.12}[what]

    def stretch(rng: Rng, amount: float) -> Injected:
        """Changes all that a size depends on, over a stretch longer than what its median leaves out."""
        x, _ = place(rng)
        long = float(rng.uniform(4.0, 8.0)) if what != "break" else amount
        there = np.abs(X - x) < long / 2
        if what == "width":
            z = np.where(there, 1.6 * np.maximum(1.0 - (2 * Y / max(wide - amount, 0.3)) ** 2, 0.0), data.z)
        elif what == "height":
            z = np.where(there, data.z * max(1.6 - amount, 0.0) / 1.6, data.z)
        elif what == "offset":
            z = np.where(there, 1.6 * np.maximum(1.0 - (2 * (Y + amount) / wide) ** 2, 0.0), data.z)
        elif what == "gap":
            z = np.where(there & (np.abs(Y) >= max(0.6 - amount / 2, 0.0)), 0.0, data.z)
        else:
            z = np.where(there, 0.0, data.z)
        effect = {"width": -min(amount, 2.7), "height": -min(amount, 1.6), "offset": amount, "break": long}
        return changed(data, z), effect.get(what, -min(amount, 1.2))

    return Subject(f"along {what}", plan, data, u, {"stretch": stretch, **unseen(data, place)})


def _on_profiles(what: str) -> Subject:
    x = -10.0 + 0.1 * np.arange(200)
    z = np.tile(-np.clip(3.0 - np.abs(x), 0.0, 1.0), (60, 1))
    if what == "arc":
        z = np.tile(np.sqrt(np.maximum(16.0 - x**2, 0.0)), (60, 1))
        z[:, np.abs(x) > 3.4] = np.nan
    z = z + NOISE * np.random.default_rng(1).standard_normal(z.shape)
    data = HeightMap(z, None, 0.1, 0.5, -10.0, 0.0)
    zone = RectangleZone(x=0, y=1, width=12 if what == "groove" else 6.6, height=12)
    feature = step("feature", what, zone, section="profile")
    size = step("size", "groove-size" if what == "groove" else "radius", of="feature")
    true = 1.0 if what == "groove" else 4.0
    row = {
        "balloon": 1,
        "name": what,
        "step": "size",
        "lower": true - 0.1,
        "upper": true + 0.1,
        "over": "worst",
    }
    plan = Plan(
        steps=(step("profile", "profile"), feature, size),
        sheet=(Characteristic(**row),),
        by_profile=ByProfile(),
    )

    def some(rng: Rng, size: float) -> Injected:
        """Some profiles are shallower, or of another radius."""
        first, many = int(rng.integers(0, 50)), int(rng.integers(3, 10))
        z = data.z.copy()
        if what == "groove":
            z[first : first + many] *= max(1.0 - size, 0.0)
            return changed(data, z), -min(size, 1.0)
        radius = 4.0 + size
        noise = z[first : first + many] - np.sqrt(np.maximum(16.0 - x**2, 0.0))
        z[first : first + many] = noise + np.sqrt(np.maximum(radius**2 - x**2, 0.0)) - size
        return changed(data, z), size

    def outliers(rng: Rng, size: float) -> Injected:
        z = data.z.copy()
        for row_ in range(int(rng.integers(1, 20))):
            first = int(rng.integers(65, 120))
            z[row_, first : first + int(rng.integers(3, 13))] += size
        return changed(data, z), 0.0

    def place(rng: Rng) -> tuple[float, float]:
        return float(rng.uniform(-2.5, 2.5)), float(rng.uniform(0, 29))

    defects = {"some": some, **unseen(data, place)}
    if what == "arc":
        defects["outliers"] = outliers
    return Subject(what, plan, data, 0.03 if what == "groove" else 0.06, defects)


def _circle() -> Subject:
    data = surface(np.where(np.hypot(X, Y) < 6.0, -2.0, 0.0))
    rim = step("rim", "circle", RingZone(x=0, y=0, width=17, height=17, inner=0.4), {"change": "rises"})
    plan = plan_of(rim, step("size", "diameter", of="rim"), lower=11.8, upper=12.2)

    def wider(rng: Rng, size: float) -> Injected:
        return changed(
            data, np.where(np.hypot(X, Y) < 6.0 + size / 2, -2.0, np.where(data.z < -1, 0, data.z))
        ), size

    return Subject("diameter", plan, data, 0.03, {"wider": wider, **unseen(data, within(6.5, 6.5))})


KINDS: Mapping[str, Callable[[], Subject]] = {
    **{kind: cache(lambda kind=kind: _flat(kind)) for kind in ("flatness", "parallelism", "coplanarity")},
    **{f"extreme {take}": cache(lambda take=take: _extreme(take)) for take in ("highest", "lowest", "section")},
    **{kind: cache(lambda kind=kind: _edge_form(kind)) for kind in ("straightness", "roundness")},
    "width": cache(_width),
    **{kind: cache(lambda kind=kind: _island(kind)) for kind in ("area", "volume", "count")},
    "fill-share": cache(_fill),
    **{f"along {w}": cache(lambda w=w: _along(w)) for w in ("width", "height", "offset", "break", "gap")},
    **{kind: cache(lambda kind=kind: _on_profiles(kind)) for kind in ("groove", "arc")},
    "diameter": cache(_circle),
}
"""By kind, a characteristic of it on a surface of our own."""


# -- characteristics of the demo plans -------------------------------------------------------------

LEVELS = {
    1: "boss-ne-top",
    2: "boss-nw-top",
    3: "boss-sw-top",
    4: "boss-se-top",
    6: "hub-top",
    11: "pocket-rim",
}
"""By balloon, the spot whose height decides it."""
OWN = {
    5: 0.015,
    7: 0.02,
    8: 0.1,
    9: 0.1,
    10: 0.1,
    13: 0.09,
    14: 0.1,
    15: 0.015,
    16: 0.1,
    17: 0.7,
    18: 0.2,
    19: 0.05,
}
OWN |= {20: 0.1, 21: 0.3, 22: 12.0}
"""By balloon, by how much a value may be off by itself; heights 0.008 mm."""


@cache
def _scan(k: int):
    return GOOD[k % len(GOOD)].scan()


@dataclass
class CoverRow:
    """A characteristic of the rain-pump cover on one good part, with its zones where they lie."""

    balloon: int
    part: int
    engine: Engine = field(init=False)

    def subject(self) -> Subject:
        """It, with the defects that make sense for it."""
        plan, scan = demo_plan(), _scan(self.part)
        row = plan.characteristic(self.balloon)
        assert row is not None
        needed = {s.id for column in ancestry(plan, row.step) for s in column}
        alone = plan.edited(steps=tuple(s for s in plan.steps if s.id in needed), sheet=(row,), signals=())
        result = Engine(scan.data, scan.serial).run(alone)
        zones = {i: r.zone for i, r in result.steps.items() if r.zone is not None}
        data = scan.data
        name = f"cover {self.balloon} {row.name}"
        value = result.characteristics[0].value or 0.0
        u = OWN.get(self.balloon, 0.008)
        if self.balloon in (5, 15):
            stems = ("boss",) if self.balloon == 5 else ("flange",)
            held = [z for i, z in zones.items() if i.startswith(stems)]
            return Subject(name, alone, data, u, on_form(data, _in_zones(held), value), scan.serial)
        chosen = [z for i, z in zones.items() if i not in ("outline", "plane-a", "bead-path")] or list(
            zones.values()
        )
        defects = dict(unseen(data, _in_zones(chosen)))
        if self.balloon in LEVELS:
            defects["shift"] = _shift(data, zones[LEVELS[self.balloon]])
        elif self.balloon == 12:
            defects["shift"] = _shift(data, zones["plug-top"])
        elif self.balloon == 7:
            defects["tilt"] = _tilted(data, zones["hub-plane"], value)
        elif self.balloon == 8:
            defects["wider"] = _wider(data, zones["bore"])
        elif self.balloon in REMADE:
            defects["remade"] = _remade(self.balloon, self.part, value)
        elif self.balloon == 13:
            defects["opened"] = _opened(data, zones["plug-cut"])
        elif self.balloon == 14:
            defects["shift"] = _shifted_along(data, zones["plug-cut"])
        elif self.balloon in (18, 19, 21):
            defects["gone"] = _gone(data, result.steps["bead-path"].value, value)
        elif self.balloon == 22:
            defects["flatter"] = _flatter(data, result.steps["bead-path"].value, value)
        elif self.balloon == 23:
            grey = np.full(data.shape, 128, np.uint8)
            defects["blank"] = lambda rng, size: (changed(data, data.z, grey), -1.0)
        elif self.balloon == 24:
            zone = zones["plug-seat"]
            gone = zone.contains(data.x[None, :], data.y[:, None])
            defects["missing"] = lambda rng, size: (changed(data, np.where(gone, data.z - 4.0, data.z)), -1.0)
        return Subject(name, alone, data, u, defects, scan.serial)


def _bored(cover: Cover, by: float) -> Cover:
    return replace(cover, bore_at=(cover.bore_at[0] + by / 2, cover.bore_at[1]))


def _drafted(cover: Cover, by: float) -> Cover:
    return replace(cover, rib_draft=min(max(cover.rib_draft + by, 12.0), 48.0))


def _wandering(cover: Cover, by: float) -> Cover:
    return replace(
        cover, bead=cover.bead.with_flaw(BeadDefect(250.0, 36.0, offset=math.copysign(min(abs(by), 2.0), by)))
    )


REMADE: Mapping[int, Callable[[Cover, float], Cover]] = {
    9: _bored,
    10: lambda cover, by: replace(cover, boss_pitch=cover.boss_pitch + by),
    16: lambda cover, by: replace(cover, length=cover.length + by),
    17: _drafted,
    20: _wandering,
}
"""By balloon, how a part becomes another whose true value is larger or smaller, to be scanned anew."""


def _remade(balloon: int, part: int, value: float) -> Callable[[Rng, float], Injected]:
    """The same part with another size, in the same place."""
    good = GOOD[part % len(GOOD)]

    def put(rng: Rng, size: float) -> Injected:
        other = REMADE[balloon](good.cover, size * float(rng.choice([-1.0, 1.0])))
        scan = scan_part(other, STATION, good.seed, name=good.file)
        return scan.data, float(other.truth()[balloon]) - value

    return put


def _opened(data: HeightMap, zone) -> Callable[[Rng, float], Injected]:
    """The gap on one side of the plug, 0.5 mm from 7 mm off its middle on, stretched or pressed together; what
    lies outside of it gives way within 8 mm."""
    turn = math.radians(zone.rotation)
    gx, gy = np.meshgrid(data.x - zone.x, data.y - zone.y)
    u, v = math.cos(turn) * gx + math.sin(turn) * gy, math.cos(turn) * gy - math.sin(turn) * gx
    near, far = 7.05, 7.45

    def put(rng: Rng, size: float) -> Injected:
        wider = max(size * float(rng.choice([-1.0, 1.0])), -0.3)
        fall = np.clip((16.0 - u) / 8.0, 0.0, 1.0) * np.clip((9.0 - np.abs(v)) / 3.0, 0.0, 1.0)
        back = np.where(u < near, 0.0, np.clip((u - near) / (far - near + wider), 0.0, 1.0) * wider) * fall
        return warped(data, gx + zone.x - back * math.cos(turn), gy + zone.y - back * math.sin(turn)), wider

    return put


def _shifted_along(data: HeightMap, zone) -> Callable[[Rng, float], Injected]:
    """The plug and its slot lie farther along the part."""
    turn = math.radians(zone.rotation)

    def put(rng: Rng, size: float) -> Injected:
        by = size * float(rng.choice([-1.0, 1.0]))
        return moved(data, zone.x, zone.y, by * math.cos(turn), by * math.sin(turn), 10.5, 17.0), by

    return put


def _in_zones(zones: list) -> Place:
    """Random places inside of some zones."""

    def place(rng: Rng) -> tuple[float, float]:
        zone = zones[rng.integers(len(zones))]
        for _ in range(200):
            u, v = rng.uniform(-0.5, 0.5) * zone.width, rng.uniform(-0.5, 0.5) * zone.height
            x, y = zone.outward(np.array([u]), np.array([v]))[0]
            if bool(zone.contains(np.array(x), np.array(y))):
                return float(x), float(y)
        return zone.x, zone.y

    return place


def _shift(data: HeightMap, zone) -> Callable[[Rng, float], Injected]:
    """All of a level, and a little beyond its zone, lies higher."""
    grown = zone.model_copy(update={"width": zone.width + 0.6, "height": zone.height + 0.6})
    where = grown.contains(data.x[None, :], data.y[:, None])

    def put(rng: Rng, size: float) -> Injected:
        rise = size * float(rng.choice([-1.0, 1.0]))
        return changed(data, np.where(where, data.z + rise, data.z)), rise

    return put


def _tilted(data: HeightMap, zone, value: float) -> Callable[[Rng, float], Injected]:
    grown = zone.model_copy(update={"width": zone.width + 2, "height": zone.height + 2})
    where = grown.contains(data.x[None, :], data.y[:, None])

    def put(rng: Rng, size: float) -> Injected:
        turn = rng.uniform(0, 2 * math.pi)
        slope = math.tan(math.radians(size + value))
        lift = slope * (
            math.cos(turn) * (data.x[None, :] - zone.x) + math.sin(turn) * (data.y[:, None] - zone.y)
        )
        # the new tilt and the old one may point anywhere, so that only their difference is sure
        return changed(data, np.where(where, data.z + lift, data.z)), max(size - value, 0.0)

    return put


def _wider(data: HeightMap, zone) -> Callable[[Rng, float], Injected]:
    gx, gy = np.meshgrid(data.x - zone.x, data.y - zone.y)
    r = np.maximum(np.hypot(gx, gy), 1e-9)

    def put(rng: Rng, size: float) -> Injected:
        grow = np.where(r < 14.0, size / 2, size / 2 * np.clip((18.0 - r) / 4.0, 0.0, 1.0))
        part = np.maximum(r - grow, 0.0) / r
        return warped(data, zone.x + gx * part, zone.y + gy * part), size

    return put


def _along_bead(data: HeightMap, path, s: float, length: float) -> np.ndarray:
    """Which points lie along a stretch of the bead's path."""
    curve = path.curve
    at = curve.at((s + np.arange(0.0, length, 0.1)) % curve.length)
    off = np.ones(data.shape, bool)
    rows, cols = (
        np.round((v - v0) / d).astype(int)
        for v, v0, d in ((at[:, 1], data.grid.y0, data.grid.dy), (at[:, 0], data.grid.x0, data.grid.dx))
    )
    off[rows, cols] = False
    near: np.ndarray = scipy.ndimage.distance_transform_edt(off, (data.grid.dy, data.grid.dx)) < 2.4
    return near


def _gone(data: HeightMap, path, value: float) -> Callable[[Rng, float], Injected]:
    """A stretch of the bead is missing; longer than any break that passes."""

    def put(rng: Rng, size: float) -> Injected:
        long = float(rng.uniform(6.0, 20.0))
        where = _along_bead(data, path, float(rng.uniform(0, path.curve.length)), long)
        ground = path.base.height_at(data.x[None, :], data.y[:, None])
        noise = NOISE * rng.standard_normal(data.shape)
        # what it leaves: no width and height, and a break of more than 4 mm
        effect = -value if value > 0.5 else 4.0
        return changed(data, np.where(where & ~np.isnan(data.z), ground + noise, data.z)), effect

    return put


def _flatter(data: HeightMap, path, value: float) -> Callable[[Rng, float], Injected]:
    where = _along_bead(data, path, 0.0, path.curve.length)
    ground = path.base.height_at(data.x[None, :], data.y[:, None])

    def put(rng: Rng, size: float) -> Injected:
        part = max(1.0 - size / value, 0.2)
        return changed(data, np.where(where, ground + part * (data.z - ground), data.z)), value * (part - 1.0)

    return put


RUNNER = next(part for part in RUNNERS if part.tag == "good")
SIZES_OF_RUNNER = {
    1: "left_depth",
    2: "left_from_hem",
    3: "left_radius",
    4: "right_depth",
    5: "right_from_hem",
    6: "offset",
    7: "lip",
    8: "bend",
    9: "slit",
    10: "flush",
    11: "hem_bias",
}
"""By balloon, the size that moves it as a whole."""


@cache
def _runner():
    return RUNNER.scan()


def runner_row(balloon: int) -> Subject:
    """A characteristic of the drawer runner, profile by profile, on a good part."""
    plan, scan = runner_plan(), _runner()
    row = plan.characteristic(balloon)
    assert row is not None
    needed = {s.id for column in ancestry(plan, row.step) for s in column}
    alone = plan.edited(steps=tuple(s for s in plan.steps if s.id in needed), sheet=(row,))
    zones = [s.zone for s in alone.steps if s.zone is not None]

    def place(rng: Rng) -> tuple[float, float]:
        zone = zones[rng.integers(len(zones))]
        low, high = scan.data.extent[2:]
        return zone.x + float(rng.uniform(-0.5, 0.5)) * zone.width, float(rng.uniform(low, high))

    def lost(rng: Rng, size: float) -> Injected:
        """Profiles without any data."""
        first, many = int(rng.integers(0, 450)), int(rng.integers(1, 60))
        z = scan.data.z.copy()
        z[first : first + many] = np.nan
        return changed(scan.data, z), 0.0

    before = Engine(scan.data).run(alone).characteristics[0].value or 0.0

    def remade(rng: Rng, size: float) -> Injected:
        """The same piece with another size all along, to the side on which its farthest profile lies."""
        by = size if row.over == "mean" and rng.random() < 0.5 else math.copysign(size, before - row.nominal)
        by = max(by, -0.8 * row.nominal)
        piece, name = RUNNER.runner, SIZES_OF_RUNNER[balloon]
        other = replace(piece, **{name: getattr(piece, name) + by})
        return scan_part(other, RUNNER_STATION, RUNNER.seed, name=RUNNER.file).data, by

    u = 0.7 if row.step in ("lip-angle",) else 0.12
    defects = {"lost": lost, **unseen(scan.data, place), "remade": remade}
    return Subject(f"runner {balloon} {row.name}", alone, scan.data, u, defects)
