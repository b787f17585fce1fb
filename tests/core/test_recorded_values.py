"""Recorded values evaluated by another plan agree with what it finds on the scan, or are not evaluated."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.recorded_values import comparable, evaluated_by_values, verdict_of
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Correction
from lots import two_rows
from makers import sloped

PLAN = two_rows()
ENGINE = Engine(sloped(slope_x=0.1))
RECORDED = ENGINE.run(PLAN)


def reevaluated(plan):
    """What a plan makes of the values on record; None where it cannot tell."""
    pairs = comparable(PLAN, plan)
    return None if pairs is None else evaluated_by_values(pairs, RECORDED.characteristics)


def other(**changes):
    return PLAN.with_characteristic(PLAN.sheet[0].edited(**changes))


@given(
    st.floats(-0.2, 0.2),
    st.floats(0.2, 0.6),
    st.none() | st.floats(0.001, 0.1),
    st.sampled_from(["not measured", "pass", "fail"]),
)
def test_other_limits_give_what_the_engine_gives(lower, upper, uncertainty, not_proven):
    plan = other(lower=lower, upper=upper, uncertainty=uncertainty, name="Other name")
    plan = plan.edited(not_proven=not_proven)
    rows = reevaluated(plan)
    expected = ENGINE.run(plan)
    assert rows == expected.characteristics
    assert verdict_of(plan, rows) is expected.verdict


def test_a_row_that_is_off_is_left_out_and_one_that_is_new_is_not_guessed():
    rows = reevaluated(other(off=True))
    assert [row.balloon for row in rows] == [2]
    more = PLAN.edited(sheet=(*PLAN.sheet, PLAN.sheet[0].edited(balloon=3)))
    assert reevaluated(more) is None
    assert evaluated_by_values(comparable(PLAN, PLAN), RECORDED.characteristics[:1]) is None


@pytest.mark.parametrize(
    "plan",
    [
        other(step="back"),
        other(correction=Correction(measured=(0.0, 1.0), known=(0.0, 1.1))),
        other(from_master=True, master=0.1),
        other(over="mean", upper=0.25),
        other(covers=2.0, budget=Budget(noise=0.01, unit="mm")),
        PLAN.edited(steps=(PLAN.steps[0].edited(params={"diameter": 2}), *PLAN.steps[1:])),
    ],
)
def test_what_measures_otherwise_needs_the_scan(plan):
    assert reevaluated(plan) is None
