"""A guided gauge study: its order, what is still to do, and what makes a run doubtful."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra import Engine, HeightMap
from hemtra.core.errors import HemtraError
from hemtra.core.gauge.guided import GuidedStudy, doubts
from hemtra.core.gauge.study import Presented
from makers import sloped, step_plan


@given(st.integers(2, 8), st.integers(1, 4), st.integers(2, 4), st.integers(0, 10**6))
def test_everything_is_asked_for_once_and_each_operator_goes_through_all_parts(parts, operators, trials, seed):
    names = [f"p{k}" for k in range(parts)]
    study = GuidedStudy.asked(names, [f"o{k}" for k in range(operators)], trials, seed)
    asked = []
    while (one := study.next) is not None:
        assert study.left == parts * operators * trials - len(asked)
        asked.append(one)
        study = study.with_taken(one)
    assert len(set(asked)) == len(asked) == parts * operators * trials
    assert [one.trial for one in asked] == sorted(one.trial for one in asked)
    for k in range(0, len(asked), parts):
        turn = asked[k : k + parts]
        assert len({one.operator for one in turn}) == 1
        assert {one.part for one in turn} == set(names)


def test_the_order_is_random_and_kept():
    study = GuidedStudy.asked([str(k) for k in range(10)], ["Ada"], 3, 7)
    assert study.order == GuidedStudy.model_validate_json(study.model_dump_json()).order
    turns = [[one.part for one in study.order[k : k + 10]] for k in (0, 10, 20)]
    assert len({tuple(turn) for turn in (*turns, [str(k) for k in range(10)])}) == 4


def test_what_is_repeated_comes_next_and_counts_once():
    study = GuidedStudy.asked(["1", "2"], ["Ada"], 2, 0)
    first = study.order[0]
    assert study.with_again(first) == study, "it was not presented yet"
    study = study.with_taken(first).with_taken(study.order[1]).with_again(first).with_again(first)
    assert (study.next, study.left) == (first, 3)
    study = study.with_taken(first)
    assert (study.next, study.left, len(study.taken)) == (study.order[2], 2, 2)


@pytest.mark.parametrize(
    ("parts", "operators", "trials", "said"),
    [
        (["1"], ["Ada"], 2, "at least two parts"),
        (["1", "../2"], ["Ada"], 2, "file names"),
        (["1", "2"], [".hidden"], 2, "file names"),
        (["1", "2"], [], 2, "Name the operators"),
        (["1", "2"], ["Ada"], 1, "two trials"),
        (["a", "A"], ["Ada"], 2, "two parts have one name"),
        ([str(k) for k in range(400)], ["Ada", "Ben"], 9, "more than 3000"),
    ],
)
def test_a_study_that_cannot_be_run_says_why(parts, operators, trials, said):
    with pytest.raises(HemtraError, match=said):
        GuidedStudy.asked(parts, operators, trials, 0)


def run(part, operator, trial, rise=0.2):
    base = sloped()
    g, z = base.grid, np.array(base.z)
    z[:, base.x > 0] += rise
    result = Engine(HeightMap(z, None, g.dx, g.dy, g.x0, g.y0)).run(step_plan())
    return Presented(part, operator, trial, str(result.verdict), result.characteristics)


def test_a_part_that_reads_unlike_before_is_doubtful_and_a_usual_one_is_not():
    sizes = {"1": 0.2, "2": 0.3, "3": 0.4}
    before = [run(p, "Ada", k + 1, rise + 0.002 * (k - 1)) for p, rise in sizes.items() for k in range(4)]
    assert doubts(run("1", "Ben", 1, 0.205), before) == []
    (wrong,) = doubts(run("1", "Ben", 1, 0.3), before)
    assert wrong.startswith("1 Rise: +0.10 mm from the other runs of part 1")
    assert doubts(run("4", "Ben", 1, 0.9), before) == [], "nothing is known of this part"
    assert doubts(run("1", "Ben", 1, 0.3), before[:5]) == [], "too little is known of the repeats"


def test_what_was_not_measured_or_not_read_is_doubtful():
    blank = Presented("1", "Ada", 1, error="1.x3p is damaged.")
    assert doubts(blank, []) == ["1.x3p is damaged."]
    row = run("1", "Ada", 1).rows[0]
    lost = Presented("1", "Ada", 1, rows=(replace(row, value=None, reason="no data in the zone"),) * 5)
    assert doubts(lost, [])[0] == "1 Rise: not measured: no data in the zone"
    assert doubts(lost, [])[-1] == "2 more"
