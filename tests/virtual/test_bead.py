"""The cover's bead: its truth against its surface, and what the demo plan finds of it in any pose."""

import math

import numpy as np
import pytest

from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.series import out_of_limits
from hemtra.virtual.bead import Bead, BeadDefect
from hemtra.virtual.cover import Cover, make_cover
from hemtra.virtual.cover_kernels import BEAD_LENGTH, along_bead
from hemtra.virtual.demo import PARTS, STATION, demo_plan
from hemtra.virtual.sensor import scan_part
from hemtra.virtual.shapes import surface_at


def test_places_along_the_bead_go_round_once():
    path = demo_plan().step("bead-path").zone.curve()
    assert path.length == pytest.approx(BEAD_LENGTH, abs=1e-3)
    s = np.arange(0.5, path.length, 3.7)
    assert [along_bead(x, y) for x, y in path.at(s)] == pytest.approx(s, abs=2e-3)


def test_the_surface_is_as_wide_and_high_as_the_table_says():
    cover = Cover(bead=Bead(flaws=(BeadDefect(50.0, 20.0, width=0.5, height=-0.2, offset=0.4),)))
    table, shape = cover.bead.table(), cover.shape()
    path = demo_plan().step("bead-path").zone.curve()
    for s in (50.0, 47.0, 120.0):
        width, height, offset = table[round(s / BEAD_LENGTH * len(table))]
        (x, y), (tx, ty) = path.at(np.array([s]))[0], path.directions(np.array([s]))[0]
        for u, z in ((offset, height), (offset + width / 4, 0.75 * height), (offset + width / 2 + 0.02, 0.0)):
            found = surface_at(float(x + u * ty), float(y - u * tx), shape)[0]
            assert found == pytest.approx(z, abs=0.01)


def test_the_truth_of_a_break_is_its_length_and_what_it_lacks():
    whole, broken = Bead().truth(), Bead(flaws=(BeadDefect(100.0, 6.0, broken=True),)).truth()
    assert whole == pytest.approx({18: 3.0, 19: 1.6, 20: 0.0, 21: 0.0, 22: 3.2 * BEAD_LENGTH}, abs=0.01)
    assert broken[21] == pytest.approx(6.0, abs=0.2)
    # the ends round off over 1.5 mm in width and height: ∫ 1 - f² = ∫ (1 - t)² = a third of it
    assert whole[22] - broken[22] == pytest.approx(3.2 * (6.0 + 2 * 1.5 / 3), abs=0.5)
    # what is missing has no width and no height, and lies nowhere
    assert (broken[18], broken[19]) == (0.0, 0.0)
    assert math.isnan(broken[20])
    assert Bead(flaws=(BeadDefect(100.0, 0.8, broken=True),)).truth()[18] == 3.0, (
        "a break the drawing lets pass"
    )
    ends = Bead(flaws=(BeadDefect(0.0, 4.0, broken=True),)).stretches()[21]
    assert ends == [(pytest.approx(BEAD_LENGTH - 2.0, abs=0.2), pytest.approx(4.0, abs=0.2))]


def found_stretches(result, plan):
    """By balloon, start and length in mm of what is out of limits or broken."""
    bead = result.steps["bead"].value
    found = {}
    for balloon, series in result.series.items():
        row = plan.characteristic(balloon)
        found[balloon] = [(s.start, s.length) for s in out_of_limits(series, row.lower, row.upper)]
    found[21] = [(gap.start, gap.length) for gap in bead.breaks]
    return {balloon: runs for balloon, runs in found.items() if runs}


FLAWED = [p for p in PARTS if any(name.startswith("bead") for name in p.defects)]


@pytest.mark.parametrize("part", FLAWED, ids=lambda p: next(iter(p.defects)))
def test_every_failing_stretch_is_found_where_it_is(part):
    plan = demo_plan()
    found = found_stretches(Engine(part.scan().data).run(plan), plan)
    true = part.cover.bead.stretches()
    assert set(found) == set(true)
    for balloon, runs in true.items():
        assert len(found[balloon]) == len(runs)
        for (start, length), (true_start, true_length) in zip(found[balloon], runs, strict=True):
            off = (start - true_start + BEAD_LENGTH / 2) % BEAD_LENGTH - BEAD_LENGTH / 2
            assert abs(off) < 0.5, balloon
            assert length == pytest.approx(true_length, abs=0.5), balloon


def test_every_section_of_a_good_bead_is_near_its_truth():
    cover = make_cover(2)
    result = Engine(scan_part(cover, STATION, 2).data).run(demo_plan())
    bead = result.steps["bead"].value
    true = cover.bead.table()[np.round(bead.at / BEAD_LENGTH * 3286).astype(int) % 3286]
    seen = bead.state == 0
    assert seen.mean() > 0.98
    for name, column, bias, spread in (
        ("width", 0, 0.05, 0.08),
        ("height", 1, 0.01, 0.006),
        ("offset", 2, 0.03, 0.05),
    ):
        off = bead.values(name)[seen] - true[seen, column]
        assert abs(np.mean(off)) < bias, name
        assert np.std(off) < spread, name
    volume = next(c for c in result.characteristics if c.balloon == 22).value
    assert volume == pytest.approx(cover.truth()[22], rel=0.02)
    assert not math.isnan(volume)
