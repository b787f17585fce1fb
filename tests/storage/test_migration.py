"""Plans saved before open, keep their way where it is named, and say which rows measure differently."""

import json

import numpy as np
import pytest

from hemtra import HeightMap, Scan, inspect
from hemtra.cli import main
from hemtra.core.errors import PlanError
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.proof import unproven
from hemtra.core.zones.zone import EllipseZone, RectangleZone
from hemtra.storage.plans import from_json, save_plan, to_json

ZONE = RectangleZone(x=0, y=0, width=16, height=12)


def older(**units):
    """A plan as schema 6 has it: flatness, a highest spot, a mean one, and rows in other units."""
    steps = (
        Step(id="plane", name="Plane", kind="plane", zone=ZONE),
        Step(id="flat", name="Flat", kind="flatness", inputs={"surfaces": ("plane",)}),
        Step(id="top", name="Top", kind="spot", params={"take": "highest"}, zone=ZONE),
        Step(id="mean", name="Mean", kind="spot", zone=EllipseZone(x=0, y=0, width=4, height=4)),
        *(
            Step(id=i, name=i, kind="height", inputs={"point": (p,), "plane": ("plane",)})
            for i, p in (("rise", "top"), ("level", "mean"))
        ),
    )
    rows = [
        Characteristic(balloon=k, name=s, step=s, upper=0.2, unit=units.get(s, ""))
        for k, s in enumerate(("flat", "rise", "level"), start=1)
    ]
    held = json.loads(to_json(Plan(steps=steps, sheet=tuple(rows))))
    held["schema"] = 6
    for row in held["sheet"]:
        for name in ("note", "least_coverage", "most_spikes"):
            del row[name]
    return json.dumps(held)


def bumped():
    """A surface with a bump of 0.5 mm."""
    x, y = np.meshgrid(np.arange(200) * 0.1 - 10, np.arange(160) * 0.1 - 8)
    z = np.where((np.abs(x - 4) < 0.8) & (np.abs(y) < 0.8), 0.5, 0.0)
    noise = np.random.default_rng(0).normal(0, 0.005, z.shape)
    return HeightMap(z + noise, None, 0.1, 0.1, -10, -8)


def test_an_older_plan_keeps_its_flatness_and_says_what_it_is_worth():
    plan = from_json(older(), "old.hplan")
    flat, rise, level = plan.sheet
    assert plan.step("flat").params == {"points": "near"}
    assert "does not prove form" in flat.note
    assert "all points but isolated ones" in rise.note
    assert level.note == "", "a mean level is what it was"
    weak = [(row.balloon, why.split(",")[0]) for row, why in unproven(plan)]
    seen = (
        f"“{plan.step(plan.step(rise.step).inputs['point'][0]).name}” finds its extreme as seen from the sensor"
    )
    assert weak == [(1, "takes points near the plane only"), (rise.balloon, seen)]
    before = inspect(plan, bumped()).characteristics
    assert before[0].verdict == "PASS"
    whole = plan.with_step(plan.step("flat").edited(params={}))
    assert inspect(whole, bumped()).characteristics[0].value == pytest.approx(0.5, abs=0.05)
    assert before[1].value == pytest.approx(0.5, abs=0.05), "the very extreme is no longer dropped"
    assert from_json(to_json(plan), "again.hplan") == plan


def test_rows_in_another_unit_than_their_step_say_so():
    flat, rise, _ = from_json(older(flat="µm", rise="°"), "old.hplan").sheet
    assert "converted to µm" in flat.note
    assert "does not measure" in rise.note


def test_plan_check_names_the_rows(tmp_path, capsys, monkeypatch):
    plan = from_json(older(), "old.hplan")
    path = tmp_path / "old.hplan"
    save_plan(plan, path, Scan(bumped()))
    monkeypatch.setattr("sys.argv", ["hemtra", "plan", "check", str(path)])
    with pytest.raises(SystemExit) as left:
        main()
    out = capsys.readouterr().out
    assert left.value.code == 0
    assert "1 flat: Takes points near the plane only" in out
    assert "1 flat: takes points near the plane only, which does not prove form" in out
    assert "2 rise: Highest and lowest take all points" in out


@pytest.mark.parametrize("rest", ['"steps": [1]', '"sheet": "x"', '"steps": [{}]'])
def test_a_damaged_older_plan_is_refused_in_words(rest):
    with pytest.raises(PlanError, match=r"damaged|cannot be used"):
        from_json(f'{{"schema": 6, {rest}}}', "bad.hplan")
