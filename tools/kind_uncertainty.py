"""Prints docs/kind-uncertainty.md: whether the uncertainty of every kind holds its error on analytic surfaces.

`python tools/kind_uncertainty.py [seeds] [name ...]`; the surfaces are those of `tools/kind_accuracy.py`. With
names, the lines of these alone.
"""

import sys
from collections.abc import Mapping
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
import kind_cases as cases
from hemtra.core.characteristics.contour_form import RoundnessKind, StraightnessKind
from hemtra.core.characteristics.form import FlatnessKind
from hemtra.core.characteristics.sizes import DiameterKind, GrooveSizeKind, OpeningSizeKind, RadiusKind
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.uncertainty import budgets
from hemtra.core.geometry.elements import LEVEL
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.document import Characteristic, Plan, Step, Taught
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.registry import kind_named

SEEDS, POSES, SCANS = 2000, 16, 4
"""Poses with other noise each that are held against U; others that U is worked out on, and scans of each."""
COPIES = 32
FIRST_POSE = 100_000
"""Seed of the first of those that U is worked out on, far from the others."""
ROW = Balloon(1)
_measured = cases.measured
SIZES: Mapping[str, tuple[Kind, str]] = {
    "circle, diameter": (DiameterKind(), "of"),
    "ellipse, length": (OpeningSizeKind(what="length"), "of"),
    "slot, width": (OpeningSizeKind(what="width"), "of"),
    "sphere, radius": (RadiusKind(), "of"),
    "cylinder, radius": (RadiusKind(), "of"),
    "arc on a section, radius": (RadiusKind(), "of"),
    "groove, depth": (GrooveSizeKind(what="depth"), "of"),
    "groove, width": (GrooveSizeKind(what="width"), "of"),
}
"""By case that measures a feature, what gives its size, and the input for the feature."""
FORMS: Mapping[str, tuple[str, Kind, str]] = {
    "flatness of a plane": ("plane, tilt", FlatnessKind(), "surfaces"),
    "straightness of an edge": ("edge line, place", StraightnessKind(), "edge"),
    "roundness of a circle": ("circle, diameter", RoundnessKind(), "circle"),
}
"""Values of form, of what is perfect: by name the case that finds it, the kind and its input."""
NAMES = (*(case.name for case in cases.CASES), *FORMS)


class Traced:
    """Keeps the steps that a case measures with, so that a plan can be made of them."""

    def __init__(self) -> None:
        self.steps: list[Step] = []
        self.data: HeightMap | None = None
        self.known = True
        self._values: list[Any] = []

    def __call__(
        self, kind: Kind, data: HeightMap, zone: Any = None, *, taught: Any = None, **inputs: Any
    ) -> Any:
        value = _measured(kind, data, zone, taught=taught, **inputs)
        wired = {}
        for name, given in inputs.items():
            if given is LEVEL:
                continue
            many = given if isinstance(given, tuple) else (given,)
            places = [next((k for k, v in enumerate(self._values) if v is one), None) for one in many]
            self.known &= None not in places
            wired[name] = tuple(f"s{k}" for k in places)
        step = {"id": f"s{len(self.steps)}", "name": kind.title, "kind": kind.kind, "zone": zone}
        if taught is not None:
            step["taught"] = Taught(columns=taught)
        if self.known:
            self.steps.append(Step(**step, params=kind.model_dump(), inputs=wired))
        self._values.append(value)
        self.data = data
        return value

    def plan(self, name: str) -> Plan | None:
        """What a case measures, as the only row; None where that is no number, or not traced."""
        more = FORMS[name][1:] if name in FORMS else SIZES.get(name)
        if more is not None:
            kind, taken = more
            features = [step for step in self.steps if not kind_named(step.kind).is_characteristic()]
            wired = {taken: (features[-1].id,)}
            added = Step(id="size", name=name, kind=kind.kind, params=kind.model_dump(), inputs=wired)
            self.steps = [*features, added]
        if not self.known or not self.steps or not kind_named(self.steps[-1].kind).is_characteristic():
            return None
        row = Characteristic(balloon=ROW, name="value", step=self.steps[-1].id, upper=1e6)
        return Plan(name="case", steps=tuple(self.steps), sheet=(row,))


def tried(name: str, seed: int) -> tuple[float, Plan | None, HeightMap]:
    """By how much one pose of a case is off, with its plan and map."""
    wanted = FORMS[name][0] if name in FORMS else name
    case = next(case for case in cases.CASES if case.name == wanted)
    cases.measured = traced = Traced()
    off = abs(case.error(np.random.default_rng(seed), 1.0))
    assert traced.data is not None
    return off, traced.plan(name), traced.data


def budget_of(name: str, seed: int) -> Budget | None:
    """How well one pose of a case is known, from scans that show it to the grid in several ways."""
    _, plan, data = tried(name, seed)
    if plan is None:
        return None
    scans = [data, *(scanned_anew(name, seed, k) for k in range(1, SCANS))]
    return budgets(plan, scans, copies=COPIES, seed=seed).get(ROW)


def scanned_anew(name: str, seed: int, scan: int) -> HeightMap:
    """The same pose once more, with other noise, its points elsewhere on the part."""
    other = np.random.default_rng((seed, scan))
    dx, dy = other.uniform(0.0, cases.PITCH, 2)
    kept = cases.X, cases.Y, cases.scan
    cases.X, cases.Y = cases.X + dx, cases.Y + dy
    cases.scan = lambda z, rng, noise: kept[2](z, other, noise)
    try:
        return tried(name, seed)[2]
    finally:
        cases.X, cases.Y, cases.scan = kept


def error_of(name: str, seed: int) -> float:
    """By how much one pose is off; a value of form should be zero."""
    off, plan, data = tried(name, seed)
    if name not in FORMS:
        return off
    assert plan is not None
    value = Engine(data).run(plan).characteristics[0].value
    return float("nan") if value is None else value


def main() -> None:
    """The whole page."""
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else SEEDS
    names = sys.argv[2:]
    if not names:
        print(heading(seeds))
    with ProcessPoolExecutor() as pool:
        for name in names or NAMES:
            if line := line_of(pool, name, seeds):
                print(line, flush=True)


def heading(seeds: int) -> str:
    """What the page says before its lines."""
    return f"""# How well every kind is known

Each kind that gives a number measures an analytic surface in a random place, direction and tilt, on a grid of
{cases.PITCH} mm with the noise of the Sim 130, as in [Accuracy of every kind](kind-accuracy.md).
U = {USUAL_COVERAGE:g} u is worked out in {POSES} poses, on {SCANS} scans of each that differ in noise and in
the places of their points. *Holds*: share of {seeds} other poses in which the error is at most U. *Needed*:
bound of 95 % of the errors. Values in 1/1000 of the unit. Counts, codes, and shares of data or of an outline
found have no uncertainty of this kind.

Made by `python tools/kind_uncertainty.py {seeds}`.

| | U | needed | U / needed | holds | made of |
|---|---:|---:|---:|---:|---|"""


def line_of(pool: ProcessPoolExecutor, name: str, seeds: int) -> str:
    """The line of one case; empty where it gives no number."""
    others = range(FIRST_POSE, FIRST_POSE + POSES)
    found = [one for one in pool.map(partial(budget_of, name), others) if one is not None]
    if not found:
        return ""
    expanded = USUAL_COVERAGE * float(np.sqrt(np.mean([one.u**2 for one in found])))
    errors = np.array(list(pool.map(partial(error_of, name), range(seeds), chunksize=50)))
    needed = float(np.percentile(errors, 95))
    shares = {s: float(np.mean([one.shares.get(s, 0.0) for one in found])) for s in Budget.SOURCES}
    largest = sorted((s for s in shares if shares[s] >= 0.05), key=lambda s: -shares[s])
    cells = [
        name,
        f"{1000 * expanded:.2f}",
        f"{1000 * needed:.2f}",
        f"{expanded / needed:.1f}",
        f"{100 * np.mean(errors <= expanded):.0f} %",
        ", ".join(f"{Budget.TITLES[s]} {100 * shares[s]:.0f} %" for s in largest),
    ]
    return "| " + " | ".join(cells) + " |"


if __name__ == "__main__":
    main()
