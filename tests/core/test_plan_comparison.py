"""What differs between two plans is said, all of it and nothing else."""

import inspect
from datetime import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import Characteristic, Plan, Step
from hemtra.core.edits.sheet import moved_row
from hemtra.core.plan import comparison
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.comparison import differences
from hemtra.core.plan.document import Correction, Follow
from hemtra.core.plan.gauge_mark import GaugeMark
from hemtra.core.plan.master_part import MasterPart
from hemtra.core.plan.nominal import Nominal
from hemtra.core.plan.signals import Digital
from hemtra.core.zones.edits import with_cut
from hemtra.core.zones.zone import Band
from hemtra.virtual.demo import demo_plan
from makers import box, step_plan

PLAN = demo_plan()


def said(before: Plan, after: Plan) -> list[tuple[str, str, str, str]]:
    return [(d.id or d.name, d.what, d.before, d.after) for d in differences(before, after)]


def row(plan: Plan, **changes: object) -> Plan:
    return plan.with_characteristic(plan.sheet[0].edited(**changes))


def step(plan: Plan, step_id: str, **changes: object) -> Plan:
    return plan.with_step(plan.step(step_id).edited(**changes))


ZONE = PLAN.step("boss-ne-top").zone
POSE = {"x": 1.0, "y": 2.0, "z": 0.0, "rotation": 90.0, "tilt_x": 0.0, "tilt_y": 0.1}
NOMINAL = Nominal(name="cover.stl", placed="outline", rms=0.02, digest="a1b2c3d4", **POSE)
STUDY = {"rule": "aiag", "deviations": 6, "good": 10, "usable": 30, "parts": 10, "operators": 3, "trials": 3}
MASTER = MasterPart(serial="M1", hours=12, shifts=(time(6),), share=90, values={"1": 4})
GAUGE = GaugeMark(deviation=0.004, mean=4.0, unit="mm", categories=5, made="2026-03-01", **STUDY)
TWICE = Correction(measured=(0, 1), known=(0, 2))


def moved_cut(zone):
    first, *others = zone.cut
    return zone.model_copy(update={"cut": (first.model_copy(update={"x": first.x + 0.1}), *others)})


def rounder(zone):
    nodes = list(zone.nodes)
    nodes[1] = nodes[1].model_copy(update={"corner": 7.0})
    return zone.model_copy(update={"nodes": tuple(nodes)})


CASES = [
    (lambda p: row(p, upper=4.2), ("1", "limits", "4.00 ±0.10", "4.00 +0.20 −0.10")),
    (lambda p: row(p, upper=4.1000001), ("1", "limits", "nominal 4.0, lower 3.9, upper 4.1", None)),
    (lambda p: row(p, name="Boss 1"), ("1", "name", "Boss NE", "Boss 1")),
    (lambda p: row(p, step="boss-nw"), ("1", "measures", PLAN.step("boss-ne").name, PLAN.step("boss-nw").name)),
    (lambda p: row(p, off=True), ("1", "switched off", "no", "yes")),
    (
        lambda p: row(p, correction=Correction(measured=(0, 1), known=(0, 2))),
        ("1", "two-point correction", "–", None),
    ),
    (
        lambda p: step(p, "boss-ne-top", params={**p.step("boss-ne-top").params, "least_data": 61.0}),
        ("boss-ne-top", "min. data", None, "61"),
    ),
    (lambda p: step(p, "boss-ne-top", name="Top"), ("boss-ne-top", "name", "Boss NE top", "Top")),
    (
        lambda p: step(p, "boss-ne-top", zone=ZONE.model_copy(update={"x": 43.5})),
        ("boss-ne-top", "zone", None, "ring at 43.5, 22 mm"),
    ),
    (
        lambda p: step(p, "boss-ne-top", zone=ZONE.model_copy(update={"x": ZONE.x + 1e-7})),
        ("boss-ne-top", "zone", None, "ring at 42.0000001, 22 mm"),
    ),
    (
        lambda p: step(p, "plane-a", zone=moved_cut(p.step("plane-a").zone)),
        ("plane-a", "zone", None, "9 cut-outs, cut-out 1: ellipse at 0.1, 0 mm"),
    ),
    (
        lambda p: step(p, "bead-path", zone=rounder(p.step("bead-path").zone)),
        ("bead-path", "zone", None, "5 nodes, node 2: 50, -50 %, corner 7"),
    ),
    (lambda p: step(p, "boss-ne-top", zone=with_cut(ZONE)), ("boss-ne-top", "zone", None, "1 cut-out")),
    (
        lambda p: step(p, "boss-ne-top", zone=ZONE.model_copy(update={"band": Band(low=1)})),
        ("boss-ne-top", "zone", None, "heights above 1 mm"),
    ),
    (
        lambda p: step(p, "plane-a", params={**p.step("plane-a").params, "trim": 2.5}),
        ("plane-a", "trim", None, "2.5"),
    ),
    (
        lambda p: step(p, "boss-ne-top", follow=Follow()),
        ("boss-ne-top", "follows", "Cover outline (x, y, turn)", "–"),
    ),
    (
        lambda p: step(p, "boss-ne", inputs={**p.step("boss-ne").inputs, "plane": ("hub-plane",)}),
        ("boss-ne", "above", "Plane A, flange", "Hub plane"),
    ),
    (lambda p: p.edited(not_proven="fail"), ("plan", "NOT PROVEN counts as", "not measured", "fail")),
    (lambda p: p.edited(signals=(Digital(name="Lamp", line=9),)), ("signal Lamp", "signal", "–", None)),
    (lambda p: moved_row(p, 1, 1), ("sheet", "order", None, None)),
    (
        lambda p: p.edited(master_part=MASTER),
        ("plan", "master part", "–", "M1, every 12 h, at 06:00, within 90 % of each tolerance of 1: 4"),
    ),
    (lambda p: p.edited(nominal=NOMINAL), ("plan", "nominal surface", "–", "cover.stl")),
    (lambda p: row(p, note="see sheet 2"), ("1", "note", "–", "see sheet 2")),
    (lambda p: row(p, master=4.01), ("1", "value of the reference", "–", "4.01")),
    (
        lambda p: row(p, budget=Budget(noise=0.003, unit="mm")),
        ("1", "uncertainty worked out", None, "u = 0.003 mm"),
    ),
    (lambda p: row(p, gauge=GAUGE), ("1", "gauge study", "–", "10 parts × 3 operators × 3 trials")),
]
SAID_OTHERWISE = {"schema_version", "id", "balloon", "home"}
"""Fields that are no change of their own: names of rows and steps, and where an anchor lay on a reference."""


@pytest.mark.parametrize("of", [Plan, Characteristic, Step])
def test_every_field_of_a_plan_has_its_words(of):
    source = inspect.getsource(comparison)
    for name in of.model_fields.keys() - SAID_OTHERWISE:
        assert f".{name}" in source or f'"{name}"' in source, name


@pytest.mark.parametrize(("change", "expected"), CASES)
def test_each_change_is_said_with_what_it_was_and_is(change, expected):
    found = said(PLAN, change(PLAN))
    which = [one for one in found if one[:2] == expected[:2]]
    assert len(which) == 1, found
    for words, text in zip(expected[2:], which[0][2:], strict=True):
        assert words is None or words in text
    # all other differences are signals of the demo that the case has replaced
    assert all(one in which or one[1] == "signal" for one in found)
    assert said(PLAN, PLAN) == []


def test_rows_and_steps_that_came_or_went():
    plan = step_plan()
    more = plan.duplicated(1)
    assert [(d.of, d.id, d.before) for d in differences(plan, more) if d.of == "row"] == [("row", "2", "–")]
    gone = differences(more, plan)
    assert {(d.id, d.after) for d in gone if d.what in ("row", "step")} >= {("2", "–")}
    other = plan.edited(steps=(*plan.steps, Step(id="spare", name="Spare", kind="spot", zone=box())))
    assert said(plan, other) == [("spare", "step", "–", "Spot")]


@given(st.permutations(range(len(CASES))), st.integers(1, 4))
def test_there_and_back_is_nothing(order, count):
    """What is said one way is said the other way round with its sides exchanged."""
    plan = PLAN
    for k in order[:count]:
        plan = CASES[k][0](plan)
    there, back = differences(PLAN, plan), differences(plan, PLAN)
    assert {(d.of, d.id, d.what, d.before, d.after) for d in there} == {
        (d.of, d.id, d.what, d.after, d.before) for d in back
    }
