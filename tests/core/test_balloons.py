"""Balloons as drawings have them: written, ordered, kept and asked for by signals."""

import json
import pickle

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from hemtra import Characteristic, Plan, Scan, inspect, load_plan, save_plan
from hemtra.core.edits.sheet import with_balloon
from hemtra.core.errors import PlanError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.signals import Analogue, Digital, facts, invalid_signal_references, read_aloud
from hemtra.storage.results import to_dict
from makers import sloped, step_plan

NUMBERS = st.integers(1, 9999)
AFTER = st.one_of(st.just(""), st.integers(1, 99).map(".{}".format), st.sampled_from("abcz"))


@given(NUMBERS, AFTER)
def test_a_balloon_is_written_as_it_was_read(number, after):
    balloon = Balloon.parse(f"{number}{after}")
    assert str(balloon) == f"{balloon}" == f"{number}{after}"
    assert Balloon.parse(balloon.name) == balloon
    assert pickle.loads(pickle.dumps(balloon)) == balloon
    assert type(pickle.loads(pickle.dumps(balloon))) is Balloon
    if not after:
        assert balloon == number
        assert balloon.plain == number


def test_they_stand_in_the_order_of_a_drawing():
    written = ["3", "4", "4.1", "4.2", "4.10", "4a", "4b", "5", "12", "12a"]
    assert [str(b) for b in sorted(map(Balloon.parse, reversed(written)))] == written
    assert max(map(Balloon.parse, ("4.2", "5"))) == 5
    assert Balloon.parse("4.1") > 4
    assert Balloon.parse("4.1") < 5
    assert Balloon.parse("12A") == Balloon.parse("12a")


NONE = ("", "0", "a", "4.", "4.0", "4.100", "4.1a", "-1", "1 2", "12345", "4..1", "1é")


@pytest.mark.parametrize("text", NONE)
def test_what_is_no_balloon_is_refused(text):
    with pytest.raises(ValueError, match="is no balloon"):
        Balloon.parse(text)
    with pytest.raises(ValidationError, match="is no balloon"):
        Characteristic(balloon=text, name="x", lower=0.0)


def with_parts() -> Plan:
    """A plan whose one row is balloon 4.1."""
    return with_balloon(step_plan(), 1, Balloon.parse("4.1"))


def test_plans_results_and_signals_keep_them(tmp_path):
    plan = with_parts()
    when = Digital(name="Gate", line=0, when="fails_4_1 or value_4_1 > 2")
    plan = plan.edited(signals=(when, Analogue(name="Rise", line=1, balloon="4.1")))
    save_plan(plan, tmp_path / "parts.hplan")
    assert load_plan(tmp_path / "parts.hplan") == plan
    assert json.loads(plan.model_dump_json())["sheet"][0]["balloon"] == "4.1"
    assert json.loads(step_plan().model_dump_json())["sheet"][0]["balloon"] == 1
    result = inspect(plan, Scan(sloped(slope_x=0.2)))
    assert to_dict("scan", result)["characteristics"][0]["balloon"] == "4.1"
    assert facts(result.verdict, result.characteristics)["value_4_1"] == pytest.approx(0.4, abs=1e-6)
    assert read_aloud(when).startswith("Gate: on when 4.1 fails or the value of 4.1 > 2")
    assert invalid_signal_references(plan.signals, [row.balloon for row in plan.sheet]) == ()
    gone = invalid_signal_references(plan.signals, [Balloon(4)])
    assert all("balloon 4.1, which is missing" in text for text in gone)
    assert len(gone) == 2


def test_new_rows_take_the_next_whole_number():
    plan = with_parts()
    assert str(plan.free_balloon()) == "5"
    again = plan.duplicated(plan.sheet[0].balloon)
    assert [str(row.balloon) for row in again.sheet] == ["4.1", "5"]
    with pytest.raises(PlanError, match=r"Balloon 4\.1 is taken"):
        with_balloon(again, 5, Balloon.parse("4.1"))
