"""A small hunt for wrong PASSes, the same every time; `make soak-long` hunts ten thousand."""

import numpy as np
import pytest

from hemtra.core.evaluation.recorded_values import comparable
from hemtra.virtual.demo import demo_plan
from hunting import KINDS, CoverRow, hunted, runner_row

SIZES = (0.6, 1.0, 1.5, 2.5)
"""Of defects, in tolerances."""
EACH = {"kind": 10, "row": 2}
"""Defects put into one subject."""


def hunt(subject, count, seed):
    """The catches of some defects: the last one of the subject, then others in turn."""
    rng = np.random.default_rng(seed)
    before = subject.evaluated(subject.data)
    assert before.verdict == "PASS", (subject.name, before.reason)
    names = list(subject.defects)
    order = [names[-1], *(names[(k + seed) % len(names)] for k in range(count - 1))]
    return [hunted(subject, name, float(rng.choice(SIZES)), rng, before) for name in order]


def missed(found):
    """What passed wrongly, or did not follow what was changed of the part."""
    return [c for c in found if c.told == "WRONG PASS" or (c.told == "unmoved" and c.effect)]


@pytest.mark.parametrize("kind", KINDS)
def test_no_defect_on_a_surface_of_our_own_passes_wrongly(kind):
    found = hunt(KINDS[kind](), EACH["kind"], 0)
    assert missed(found) == []


@pytest.mark.parametrize("balloon", range(1, 25))
def test_no_defect_of_the_cover_passes_wrongly(balloon):
    # two parts for all rows: each is scanned once; the long hunt takes others
    found = hunt(CoverRow(balloon, 1 + balloon % 2).subject(), EACH["row"], balloon)
    assert missed(found) == []


@pytest.mark.parametrize("balloon", range(1, 12))
def test_no_defect_of_the_runner_passes_wrongly(balloon):
    assert missed(hunt(runner_row(balloon), EACH["row"], balloon)) == []


def test_what_is_hidden_is_not_hidden_behind_not_measured():
    """With one percent of the points missing nothing is refused, and hardly anything is not measured."""
    told = []
    for make in KINDS.values():
        subject = make()
        before = subject.evaluated(subject.data)
        rng = np.random.default_rng(3)
        told += [hunted(subject, "dropouts 1 %", 1.0, rng, before).told for _ in range(3)]
    assert told.count("not measured") + told.count("refused") <= 0.05 * len(told)


@pytest.mark.parametrize(("balloon", "known"), [(6, True), (15, False)])
def test_a_value_that_failed_unseen_does_not_pass_by_other_limits(balloon, known):
    """Values on record do not say what they rest on: a row that asks for it needs its scan again."""
    plan = demo_plan()
    row = plan.characteristic(balloon)
    wider = plan.edited(sheet=tuple(r.edited(upper=row.upper + 1.0) if r is row else r for r in plan.sheet))
    assert (comparable(plan, wider) is not None) == known
