"""The floor beneath values of form: what spacing and noise alone would let a perfect part read."""

import numpy as np
import pytest

from hemtra import HeightMap
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.form_floor import form_floor, near_their_floor
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.zones.zone import EllipseZone, RectangleZone

NOISE = 0.004
WIDE = RectangleZone(x=0, y=0, width=18, height=14)


def mapped(surface, dx=0.107, dy=0.16, noise=NOISE, shift=0.0):
    """A map of 24 x 20 mm of heights in mm over x and y."""
    x, y = -12.0 + shift + dx * np.arange(round(24 / dx)), -10.0 + shift + dy * np.arange(round(20 / dy))
    x, y = np.meshgrid(x, y)
    z = surface(x, y) + np.random.default_rng(5).normal(0.0, noise, x.shape)
    return HeightMap(z, None, dx, dy, float(x[0, 0]), float(y[0, 0]))


def boss(x, y):
    """A boss of radius 6 with its shadow all round; beyond it the ground."""
    off = np.hypot(x, y) - 6.0
    return np.where(off < 0.0, 5.0, np.where(off < 1.5, np.nan, 0.0))


def of(data, kind, **step):
    """A form and its floor, of one feature."""
    feature, name = {
        "flatness": ("plane", "surfaces"),
        "roundness": ("circle", "circle"),
        "straightness": ("edge", "edge"),
    }[kind]
    steps = (
        Step(id="f", name="F", kind=feature, **step),
        Step(id="v", name="V", kind=kind, inputs={name: ("f",)}),
    )
    plan = Plan(steps=steps, sheet=(Characteristic(balloon=1, name="V", step="v", upper=0.05),))
    engine = Engine(data)
    result = engine.run(plan)
    return (
        result.steps["v"].value.value,
        form_floor(engine, result, "v"),
        list(near_their_floor(plan, engine, result)),
    )


@pytest.mark.parametrize(("dx", "dy"), [(0.107, 0.16), (0.05, 0.3)])
def test_a_perfect_rim_reads_its_floor(dx, dy):
    zone = EllipseZone(x=0, y=0, width=16, height=16)
    values = [of(mapped(boss, dx, dy, shift=s), "roundness", zone=zone) for s in (0.0, 0.03, 0.071)]
    for value, floor, near in values:
        assert 0.3 * floor < value < 1.1 * floor
        assert floor < np.hypot(dx, dy), "crossings are known to half a point either way"
        assert near[0][0].balloon == 1
        assert "a perfect part would read" in near[0][1]


def test_an_oval_rim_has_the_floor_of_a_round_one():
    zone = EllipseZone(x=0, y=0, width=16, height=16)
    oval = of(mapped(lambda x, y: boss(x * 1.08, y)), "roundness", zone=zone)
    round_one = of(mapped(boss), "roundness", zone=zone)
    assert oval[0] > 3.0 * round_one[0]
    assert 0.3 * round_one[1] < oval[1] < 1.1 * round_one[1]


def test_the_floor_of_a_straight_edge_is_none_of_its_bow():
    zone = RectangleZone(x=0, y=0, width=8, height=14)
    params = {"change": "falls", "wall": "top"}

    def edged(bow):
        return mapped(lambda x, y: np.where(x + 0.1 * y < bow * (y / 7) ** 2, 0.0, -3.0))

    straight, bowed = (of(edged(bow), "straightness", zone=zone, params=params) for bow in (0.0, 0.8))
    assert bowed[0] > 0.6
    assert 0.3 * straight[1] < straight[0] < 1.1 * straight[1]
    assert bowed[1] < 2.0 * straight[1]


@pytest.mark.parametrize("hump", [0.0, 0.3])
def test_the_floor_of_flatness_is_what_noise_leaves(hump):
    data = mapped(lambda x, y: 0.02 * x + hump * np.exp(-(x**2 + y**2) / 8))
    value, floor, near = of(data, "flatness", zone=WIDE)
    assert value == pytest.approx(hump + floor, abs=0.05 if hump else 0.4 * floor)
    assert 0.0003 < floor < NOISE
    assert not near


def test_what_is_no_form_has_no_floor():
    plan = Plan(steps=(Step(id="s", name="S", kind="spot", zone=EllipseZone(x=0, y=0, width=3, height=3)),))
    engine = Engine(mapped(lambda x, y: 0.0 * x))
    assert form_floor(engine, engine.run(plan), "s") is None
