"""Uncertainty in the window: worked out, seen on the card, and evaluated with."""

import re
from functools import partial

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from hemtra.core.evaluation.uncertainty import budgets
from hemtra.core.plan.limits import Verdict
from hemtra.desktop.models.bench import ROW
from hemtra.desktop.plan.commands import uncertainty as working
from hemtra.desktop.plan.panels.cards.budget_view import rounded_up

LEFT = Qt.MouseButton.LeftButton


def shortened(plan):
    """Rows 1, 16 and 23 only, with what they rest on, of which nothing is known yet."""
    for row in plan.sheet:
        if row.balloon not in (1, 16, 23):
            plan = plan.without_characteristic(row.balloon)
    return plan.edited(sheet=tuple(row.edited(budget=None) for row in plan.sheet), signals=())


@pytest.fixture
def worked_out(demo, settled, monkeypatch):
    """The demo with three rows, the uncertainty of two of them worked out, and the card of row 16 open."""
    monkeypatch.setattr(working, "budgets", partial(budgets, copies=8))
    monkeypatch.setattr(working, "MOST_SCANS", 1)
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    bench.document.edit("forget", shortened(bench.document.plan))
    bench.select(16)
    bench.open_card(ROW)
    settled(demo)
    assert not workspace.card.card.budget.isVisible()
    demo.trigger("plan.uncertainty")
    settled(demo)
    return demo


def test_uncertainty_is_worked_out_and_seen(worked_out, settled):
    demo = worked_out
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    assert {row.balloon for row in bench.document.plan.sheet if row.budget is None} == {23}
    view = workspace.card.card.budget
    assert view.isVisible()
    assert re.fullmatch(r"U = 0\.0\d+ mm \(k = 2\), \d+ % of the tolerance", view.text.text())
    assert next(iter(view.bars.shares)) == "grid phase", "the part lies along the grid"
    assert "grid phase" in view.bars.accessibleDescription()


def test_a_row_is_evaluated_with_its_uncertainty(worked_out, settled):
    demo = worked_out
    bench, workspace = demo.session.bench, demo.workspaces["plan"].workspace
    view = workspace.card.card.budget
    QTest.mouseClick(view.own, LEFT)
    settled(demo)
    row = bench.document.plan.characteristic(16)
    assert (row.covers, row.uncertainty) == (2.0, None)
    assert workspace.card.card.tolerance.text() == "120.00 ±0.30 U 2u"
    QTest.mouseClick(workspace.card.card.budget.take, LEFT)
    settled(demo)
    row = bench.document.plan.characteristic(16)
    evaluated = next(c for c in bench.shown.result.characteristics if c.balloon == 16)
    assert row.covers is None
    assert row.uncertainty == rounded_up(2 * evaluated.u)
    bench.document.edit(
        "near", bench.document.plan.with_characteristic(row.edited(upper=evaluated.value + evaluated.u))
    )
    settled(demo)
    evaluated = next(c for c in bench.shown.result.characteristics if c.balloon == 16)
    assert evaluated.verdict is Verdict.NOT_PROVEN
    for _ in range(4):
        demo.trigger("edit.undo")
    settled(demo)
    assert bench.document.plan.characteristic(16).budget is None, "all of it can be undone"


def test_a_stopped_study_and_a_changed_plan_leave_the_plan_as_it_is(demo, settled, monkeypatch):
    bench = demo.session.bench
    plan = bench.document.plan
    monkeypatch.setattr(working, "budgets", lambda plan, scans, scales, progress: {})
    demo.trigger("plan.uncertainty")
    settled(demo)
    assert bench.document.plan is plan

    def meanwhile(asked, scans, scales, progress):
        return {row.balloon: row.budget.model_copy(update={"noise": 1.0}) for row in asked.sheet if row.budget}

    monkeypatch.setattr(working, "budgets", meanwhile)
    demo.trigger("plan.uncertainty")
    changed = plan.with_characteristic(plan.characteristic(1).edited(name="Another"))
    bench.document.edit("meanwhile", changed)
    settled(demo)
    assert bench.document.plan.characteristic(1).name == "Another"
    assert bench.document.plan.characteristic(1).budget.noise != 1.0
    assert "changed meanwhile" in demo.message_bar.text.text()


def test_an_uncertainty_is_rounded_up_to_two_digits():
    assert [rounded_up(v) for v in (0.0, 0.0121, 0.012, 9.96, 123.4)] == [0.0, 0.013, 0.012, 10.0, 130.0]
