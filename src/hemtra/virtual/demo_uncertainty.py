"""Uncertainty budgets of the demo's plans, which ship with them.

`tools/demo_uncertainty.py` computes them again, which takes a minute.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from hemtra.core.evaluation.uncertainty import budgets, with_budgets
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.budget import Budget
from hemtra.core.plan.document import Plan
from hemtra.virtual.demo import PARTS, demo_plan
from hemtra.virtual.runner_demo import RUNNERS, runner_plan

FILE = Path(__file__).with_suffix(".json")
COPIES = 8
"""Copies of each scan; fewer than a plan of one's own is given."""
COVERS = tuple(part for part in PARTS if part.tag == "good")[:3]
"""Covers whose scans are used; for the runner it is the reference alone."""


def with_uncertainty(plan: Plan) -> Plan:
    """A plan of the demo with the budgets of its rows."""
    rows = json.loads(FILE.read_text(encoding="utf-8"))[plan.name]
    found = {Balloon.parse(balloon): Budget.model_validate(budget) for balloon, budget in rows.items()}
    return with_budgets(plan, found)


def of_cover() -> dict[Balloon, Budget]:
    """The budgets of the cover's plan, computed on its scans."""
    return budgets(demo_plan(), [part.scan().data for part in COVERS], copies=COPIES)


def of_runner() -> dict[Balloon, Budget]:
    """The budgets of the runner's plan, computed on its reference scan."""
    return budgets(runner_plan(), [RUNNERS[0].scan().data], copies=COPIES)


def text_of(found: Mapping[str, Mapping[Balloon, Budget]]) -> str:
    """The file of budgets, by the name of their plan."""
    plain = {
        name: {str(balloon): budget.model_dump(mode="json") for balloon, budget in rows.items()}
        for name, rows in found.items()
    }
    return json.dumps(plain, indent=1) + "\n"
