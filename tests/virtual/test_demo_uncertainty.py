"""What the demo's plans say of their values is what their scans give."""

import pytest

from hemtra.core.evaluation.known_to import without_old_budgets
from hemtra.core.plan.budget import Budget
from hemtra.virtual.demo import demo_plan
from hemtra.virtual.demo_uncertainty import of_cover, of_runner, with_uncertainty
from hemtra.virtual.runner_demo import runner_plan


@pytest.mark.parametrize("plan", [demo_plan, runner_plan])
def test_it_was_worked_out_for_how_rows_are_measured_now(plan):
    """Else `tools/demo_uncertainty.py` is to be run."""
    known = with_uncertainty(plan())
    assert without_old_budgets(known) == known
    assert sum(row.budget is not None for row in known.sheet) >= 11


@pytest.mark.parametrize(
    ("plan", "work"), [(runner_plan, of_runner), pytest.param(demo_plan, of_cover, marks=pytest.mark.soak)]
)
def test_its_numbers_come_out_again(plan, work):
    found = work()
    held = {row.balloon: row.budget for row in with_uncertainty(plan()).sheet if row.budget is not None}
    assert set(found) == set(held)
    for balloon, budget in found.items():
        numbers = {name: getattr(budget, name) for name in (*Budget.SOURCES, "level", "edges", "floor")}
        assert numbers == pytest.approx({name: getattr(held[balloon], name) for name in numbers}, rel=1e-6)
        assert budget.model_dump(exclude=set(numbers)) == held[balloon].model_dump(exclude=set(numbers))
