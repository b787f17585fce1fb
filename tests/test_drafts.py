"""A plan built in Python, and records read from there; the page of the manual names all that is public."""

import ast
import re
import sys
from pathlib import Path
from types import SimpleNamespace

import pytest

import hemtra
from hemtra import HemtraError, PlanError, RectangleZone, Verdict
from hemtra.storage.records import Records
from lots import made_lot
from makers import sloped, step_plan

PAGE = Path(__file__).parents[1] / "docs" / "python.md"


def zone(x, y, width=1.0, height=1.0):
    return RectangleZone(x=x, y=y, width=width, height=height)


def test_a_draft_makes_the_plan_that_was_written_by_hand():
    draft = hemtra.plan("steps")
    up, down = draft.spot("Up", zone(1.0, 0.0)), draft.spot("Down", zone(-1.0, 0.0))
    made = draft.step("step", "Rise", upper=up, lower=down)
    plan = draft.characteristic(made, "Rise", lower=-1.0, upper=1.0).finished()
    assert plan == step_plan()


def test_characteristics_follow_one_another_and_number_themselves():
    draft = hemtra.plan("steps")
    up, down = draft.spot("Up", zone(1.0, 0.0), take="median"), draft.spot("Down", zone(-1.0, 0.0))
    base = draft.plane("Base", zone(-1.0, 0.0))
    plan = (
        draft.height("First", "0 ±0.1 U 0.01", point=up, plane=base)
        .distance("Apart", "≤ 3", start=up, end=down, balloon="4.1")
        .height("Third", lower=-1.0, point=up, plane=draft.plane("Base", zone(-1.0, 0.0)), group="heights")
        .finished()
    )
    rows = [(str(row.balloon), row.name, row.tolerance) for row in plan.sheet]
    assert rows == [("1", "First", "0.00 ±0.10 U 0.01"), ("4.1", "Apart", "≤ 3.00"), ("5", "Third", "≥ -1.00")]
    assert plan.sheet[2].group == "heights"
    assert [step.id for step in plan.steps if step.kind == "plane"] == ["base", "base-2"]
    assert plan.step("up").params == {"take": "median"}
    result = hemtra.inspect(plan, sloped(slope_x=0.1))
    assert result.verdict is Verdict.PASS


def test_anchors_and_preparations():
    draft = hemtra.plan("anchored").prepare("spikes").prepare("smooth", width=0.5)
    base = draft.plane("Base", zone(0.0, 0.0, 6.0, 6.0))
    top = draft.spot("Top", zone(1.0, 0.0), on=base)
    plan = draft.height("Top", "0 ±1", point=top, plane=base).taught(sloped())
    assert plan.step(plan.prepared).kind == "smooth"
    assert plan.step(plan.prepared).inputs["data"] == (plan.steps[0].id,)
    follow = plan.step("top").follow
    assert (follow.x, follow.z, follow.tilt) == (None, "base", "base")
    assert plan.step("base").home.z == pytest.approx(0.0, abs=1e-6)
    assert hemtra.inspect(plan, sloped(z0=2.0)).verdict is Verdict.PASS


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        (lambda d, up: d.spot("Down", zone(0, 0), tak="mean"), "spot takes no “tak”; it takes data, disc"),
        (lambda d, up: d.spot("Down"), "spot “Down” needs a zone"),
        (lambda d, up: d.spot("Down", zone(0, 0), take="best"), "spot “Down”: take"),
        (lambda d, up: d.height("Rise", "1 ±1", point=up), "height “Rise” needs plane"),
        (lambda d, up: d.height("Rise", "1 ±1", point="up", plane=up), "“point” takes features of this draft"),
        (lambda d, up: d.diameter("D", "about 3", of=up), "“about 3” is not a tolerance"),
        (lambda d, up: d.diameter("D", of=up), "needs a lower or an upper limit"),
        (lambda d, up: d.diameter("D", "1 ±1", of=up, colour="red"), "diameter takes no “colour”"),
    ],
)
def test_what_does_not_hold_is_said_and_leaves_the_draft_as_it_was(wrong, said):
    draft = hemtra.plan("steps")
    up = draft.spot("Up", zone(1.0, 0.0))
    with pytest.raises(HemtraError, match=re.escape(said)):
        wrong(draft, up)
    assert repr(draft) == "PlanDraft('steps', 1 steps, 0 characteristics)"


def test_a_kind_that_is_not_there_is_named_with_the_nearest():
    with pytest.raises(AttributeError, match="did you mean true_position"):
        hemtra.plan("steps").true_positon("Bore", of=None)
    draft = hemtra.plan("steps")
    up = draft.spot("Up", zone(1.0, 0.0))
    draft.diameter("D", "1 ±1", of=up).diameter("D", "1 ±1", of=up, balloon=1)
    with pytest.raises(PlanError):
        draft.finished()


def test_records_are_read_as_a_frame_and_nothing_is_written(tmp_path, monkeypatch):
    path = tmp_path / "records.sqlite"
    records = Records(f"sqlite:///{path}")
    for k, name in enumerate(("one", "two")):
        made_lot(records, name, [0.2, None, 0.4], started=1_768_204_800.0 + 86_400.0 * k)
    records.close()
    before = path.read_bytes()
    monkeypatch.setitem(sys.modules, "pandas", SimpleNamespace(DataFrame=dict))
    with hemtra.records(str(path)) as read:
        assert set(read.lots) == {"one", "two"}
        every, one = read.values(), read.values("one")
        assert [len(every[name]) for name in ("lot", "value")] == [12, 12]
        assert one["lot"] == ["one"] * 6
        assert one["balloon"] == ["1", "2"] * 3
        assert one["value"][::2] == [0.2, None, 0.4]
        assert one["verdict"][::2] == ["PASS", "NOT MEASURED", "FAIL"]
        with pytest.raises(HemtraError, match="no lot “three”"):
            read.values("three")
        monkeypatch.setitem(sys.modules, "polars", None)
        with pytest.raises(HemtraError, match="pip install polars"):
            read.values(frame="polars")
        with pytest.raises(HemtraError, match="pandas or polars"):
            read.values(frame="arrow")
    assert path.read_bytes() == before
    with pytest.raises(HemtraError):
        hemtra.records(str(tmp_path / "none.sqlite"))
    assert not (tmp_path / "none.sqlite").exists()


def test_the_page_names_what_is_public_and_its_code_uses_no_other_names():
    text = PAGE.read_text()
    assert [name for name in hemtra.__all__ if f"`{name}" not in text and f"{name}(" not in text] == []
    blocks = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert len(blocks) >= 4
    used = {
        node.attr
        for block in blocks
        for node in ast.walk(ast.parse(block))
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "hemtra"
    }
    assert used
    assert used <= set(hemtra.__all__)
