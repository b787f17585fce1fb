"""Lists of drawings matched with scans: what is bound first is right, and what is not sure waits."""

import math

import numpy as np
import pytest

from drawn_parts import BRACKET, BRACKET_TRUTH, LID, LID_COLUMNS, LID_TRUTH, bracket, lid
from hemtra import Engine, HeightMap, HemtraError, Plan, Step
from hemtra.core.plan.registry import kind_named
from hemtra.core.plan.requirements import parse_requirements, read_table, rows_of
from hemtra.core.proposals.anchors import with_outline
from hemtra.core.proposals.drawing_list import bind_match, matched
from hemtra.core.proposals.row_matching import OTHERS
from hemtra.virtual.demo import PARTS, demo_plan
from hemtra.virtual.runner_demo import RUNNERS, runner_plan

COVER = {
    1: ("height step flush", (42, 22)),
    2: ("height step flush", (-42, 22)),
    3: ("height step flush", (-42, -22)),
    4: ("height step flush", (42, -22)),
    5: ("coplanarity", (0, 0)),
    6: ("height step flush", (0, 0)),
    7: ("tilt", (0, 0)),
    8: ("diameter", (0, 0)),
    9: ("true-position", (0, 0)),
    10: ("distance", None),
    11: ("step flush", (35, 0)),
    12: ("step flush height", (-35, 0)),
    13: ("gap", None),
    14: ("position", (-35, 0)),
    15: ("flatness", (0, 0)),
    16: ("distance", (0, 0)),
    17: ("formula", None),
    18: ("bead-width", None),
    19: ("bead-height", None),
    20: ("bead-offset", None),
    21: ("bead-break", None),
    22: ("bead-volume", None),
    23: ("code", (-27, -17)),
    24: ("count", (-35, 0)),
}


def cover_list() -> str:
    """The list of the cover's drawing: names, nominals and limits of the demo's plan, with units."""
    plan, lines = demo_plan(), ["balloon,name,nominal,lower,upper,unit"]
    units = {17: "°", 22: "mm³"}
    for row in plan.sheet:
        unit = units.get(row.balloon, kind_named(plan.step(row.step).kind).unit)
        numbers = ["" if v is None else repr(v) for v in (row.nominal, row.lower, row.upper)]
        lines.append(",".join([str(row.balloon), row.name, *numbers, unit]))
    return "\n".join(lines)


def waiting(data: HeightMap, rows, *, anchored=True):
    plan = with_outline(Plan(), data)[0] if anchored else Plan()
    return plan.edited(sheet=rows), Engine(data)


def check(found, truth, near) -> tuple[int, list]:
    """How many first matches are right, and the sure ones that are wrong."""
    right, wrong = 0, []
    for one in found:
        balloon = int(one.row.balloon)
        if not one.matches:
            continue
        fits = one.matches[0].option in truth[balloon][0].split() and near(one.matches[0], truth[balloon][1])
        right += fits
        if not fits and one.is_sure:
            wrong.append((balloon, one.matches[0]))
    return right, wrong


def near(match, at) -> bool:
    """Whether the places that would be clicked are on what is asked for."""
    if at is None:
        return True
    if match.option in ("distance", "coplanarity"):
        x, y = np.mean(match.places, axis=0)
        return math.dist((x, y), at) < 3.0
    if match.option == "flatness" and at == (0, 0):
        return True
    return math.dist(match.places[0], at) < 21.0 and (at == (0, 0) or math.dist(match.places[0], at) < 12.0)


def test_the_covers_list_is_matched_by_itself():
    plan, engine = waiting(PARTS[0].scan().data, parse_requirements(cover_list()))
    found = matched(plan, engine)
    right, wrong = check(found, COVER, near)
    assert wrong == []
    assert right >= 20, [(str(m.row.balloon), m.matches[:1]) for m in found]
    assert all(len(one.matches) <= OTHERS + 1 for one in found)
    assert all(m.confidence <= 0.99 for one in found for m in one.matches)
    # what is sure is bound, and evaluated by the limits of the drawing
    for one in found:
        if one.is_sure:
            plan = bind_match(plan, engine, one.row.balloon, one.matches[0])
    result = engine.run(engine.taught(plan))
    bound = [c for c in result.characteristics if c.step]
    assert len(bound) >= 9
    assert all(c.verdict == "PASS" for c in bound), [(c.name, c.reason) for c in bound]


@pytest.mark.parametrize(
    ("data", "rows", "truth"),
    [
        (bracket, lambda: parse_requirements(BRACKET), BRACKET_TRUTH),
        (lid, lambda: rows_of(read_table(LID), LID_COLUMNS), LID_TRUTH),
    ],
    ids=["bracket", "lid"],
)
def test_parts_whose_rows_name_no_place(data, rows, truth):
    plan, engine = waiting(data(), rows())
    found = matched(plan, engine)
    right, wrong = check(found, truth, near)
    assert wrong == []
    assert right >= 0.8 * len(truth), [(str(m.row.balloon), m.row.name, m.matches[:1]) for m in found]


RUNNER = {
    1: ("groove-depth", [-16.0]),
    3: ("arc-radius", [-16.0]),
    4: ("groove-depth", [16.15]),
    6: ("level-step", None),
    7: ("line-angle", None),
    8: ("arc-radius", [-10.8]),
    9: ("profile-gap", [-2.43, 0.43]),
    10: ("profile-flush", [-2.43, 0.43]),
    11: ("edge-distance", [-20.0, 20.1]),
}
"""By balloon what is asked for, and x in mm of where; the other two go from an edge to a groove."""


def test_the_runners_list_is_matched_on_its_profile():
    drawn = runner_plan()
    rows = tuple(row.edited(step=None, unit="°" if row.balloon == 7 else "mm") for row in drawn.sheet)
    plan, engine = Plan(by_profile=drawn.by_profile, sheet=rows), Engine(RUNNERS[0].scan().data)
    found = matched(plan, engine)
    right = []
    for one in found:
        best = one.matches[0] if one.matches else None
        option, at = RUNNER.get(int(one.row.balloon), ("", None))
        fits = best is not None and best.option == option
        if fits and at is not None:
            fits = [x for x, _ in best.places] == pytest.approx(at, abs=1.5)
        if fits and best.value is not None:
            fits = one.row.lower <= best.value <= one.row.upper
        right += [one] if fits else []
        assert fits or not one.is_sure, (one.row.name, best)
    assert len(right) == 9, [(one.row.name, one.matches[:1]) for one in found if one not in right]
    for one in right:
        plan = bind_match(plan, engine, one.row.balloon, one.matches[0])
    evaluated = [c for c in engine.run(engine.taught(plan)).characteristics if c.step]
    assert [c.verdict for c in evaluated] == ["PASS"] * 9, [(c.name, c.reason) for c in evaluated]


def test_a_profile_without_data_or_with_wide_gaps_is_no_trouble():
    drawn = runner_plan()
    rows = parse_requirements("balloon,name,nominal,lower,upper\n1,Width,9,8.5,9.5\n")
    plan = Plan(by_profile=drawn.by_profile, sheet=rows)
    x = np.arange(-20.0, 20.0, 0.08)
    height = np.where(np.abs(x) < 4.5, np.nan, np.where(x < 0, 5.0, 1.0))
    data = HeightMap(np.tile(height, (30, 1)), dx=0.08, dy=0.2, x0=-20.0)
    (one,) = matched(plan, Engine(data))
    assert one.matches == ()
    engine = Engine(HeightMap(np.full((30, 400), np.nan), dx=0.1, dy=0.2))
    with pytest.raises(HemtraError, match="no data"):
        matched(plan, engine)


def test_where_a_part_lies_turned_its_sides_are_found():
    """A bracket turned by 20° has the same length and width."""
    data, turn = bracket(), math.radians(20.0)
    x, y = np.meshgrid(data.x, data.y)
    u, v = x * math.cos(turn) + y * math.sin(turn), y * math.cos(turn) - x * math.sin(turn)
    z = np.where((np.abs(u) < 36) & (np.abs(v) < 20), 0.0, -8.0)
    rows = parse_requirements("balloon,name,nominal,lower,upper\n1,Length,72,71.5,72.5\n2,Width,40,39.5,40.5\n")
    plan, engine = waiting(HeightMap(z, dx=0.1, dy=0.1, x0=-48, y0=-33), rows, anchored=False)
    for one, size in zip(matched(plan, engine), (72.0, 40.0), strict=True):
        assert one.matches[0].value == pytest.approx(size, abs=0.2)


def test_what_cannot_be_matched_waits():
    rows = parse_requirements(
        "balloon,name,nominal,lower,upper,unit\n1,Thread,6,5.9,6.1,turns\n2,Shade,,,3,ΔE\n"
    )
    plan, engine = waiting(bracket(), rows)
    assert [one.matches for one in matched(plan, engine)] == [(), ()]
    assert matched(plan.edited(sheet=()), engine) == ()
    empty = HeightMap(np.full((40, 40), np.nan), dx=0.1, dy=0.1)
    with pytest.raises(HemtraError, match="no data"):
        matched(plan, Engine(empty))
    flat = Engine(HeightMap(np.zeros((200, 200)), dx=0.1, dy=0.1))
    length = plan.edited(steps=(), sheet=parse_requirements(BRACKET))
    assert not any(one.is_sure for one in matched(length, flat))


def test_it_stops_when_it_is_told_to():
    plan, engine = waiting(bracket(), parse_requirements(BRACKET))
    told = []

    def progress(done, of, what):
        told.append((done, of))
        return done < 2

    matched(plan, engine, progress)
    assert len(told) == 3


def test_the_unit_of_what_is_bound_is_that_of_its_values():
    """Also where one kind gives lengths, areas, volumes and counts."""
    engine = Engine(PARTS[0].scan().data)
    plan = engine.taught(demo_plan())
    steps = engine.run(plan).steps.values()
    for found in steps:
        kind = kind_named(found.step.kind).model_validate(found.step.params)
        if kind.is_characteristic() and found.outcome is not None and found.step.kind != "formula":
            assert kind.value_unit == found.value.unit, found.step.name
    bead = {"inputs": {"of": ("bead",)}}
    for take in ("break", "breaks", "length", "volume", "start", "end"):
        step = Step(id="probe", name="Probe", kind="continuity", params={"take": take}, **bead)
        found = engine.run(plan.edited(sheet=(), steps=(*plan.steps, step))).steps["probe"]
        assert kind_named("continuity")(take=take).value_unit == found.value.unit
    for what in ("width", "height", "area", "offset", "lean", "angle-left", "angle-right"):
        params = {"what": what, "take": "mean"}
        step = Step(id="probe", name="Probe", kind="along", params=params, **bead)
        found = engine.run(plan.edited(sheet=(), steps=(*plan.steps, step))).steps["probe"]
        assert kind_named("along")(**params).value_unit == found.value.unit, what
