"""Hemtra as a Python library: what it prints, arrays in and out, frames, and kinds of other packages."""

import importlib.metadata
import pickle
import sys
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

import hemtra
from hemtra import Characteristic, HeightMap, HemtraError, Plan, Scan, Step, Verdict
from hemtra.core.plan import registry
from makers import box, sloped, step_plan

EXAMPLE = Path(__file__).parents[1] / "examples" / "peak-kind" / "src"


def failing(rows=1):
    """A plan with so many rows that its part does not hold."""
    plan = step_plan()
    row = plan.sheet[0].edited(lower=0.1, upper=0.15)
    return plan.edited(sheet=tuple(row.edited(balloon=k, name=f"Rise {k}") for k in range(1, rows + 1)))


def test_what_is_printed_fits_a_few_lines():
    data = sloped(slope_x=0.1)
    scan, plan = Scan(data, "part-07", "S7"), failing(9)
    assert repr(plan).splitlines()[0] == "Plan('steps', 3 steps, 9 characteristics)"
    assert repr(plan).splitlines()[-1] == "  and 6 more"
    rows, cols = data.shape
    assert repr(data).startswith(f"HeightMap({rows} × {cols} points, ")
    assert "100.0 % with data" in repr(data)
    assert repr(scan).startswith("Scan('part-07', serial 'S7', HeightMap(")
    assert "no data" in repr(HeightMap(np.full((2, 2), np.nan)))
    result = hemtra.inspect(plan, scan)
    lines = repr(result).splitlines()
    assert lines[0] == "Result(FAIL, 0 of 9 characteristics pass)"
    assert lines[1].startswith("  1 Rise 1 0.200 mm: FAIL, ")
    assert len(lines) <= 5
    table = result._repr_html_()
    assert table.count("<tr>") == 10
    odd = failing().with_characteristic(failing().sheet[0].edited(name="<b>&"))
    assert "&lt;b&gt;&amp;" in hemtra.inspect(odd, scan)._repr_html_()


def test_a_map_comes_out_of_another_process_as_it_was():
    """Its arrays frozen, and without what was derived from them."""
    z = np.arange(6.0, dtype=np.float32).reshape(2, 3)
    data = HeightMap(z, np.full(z.shape, 9, np.uint8))
    assert data.seen_intensity.tolist() == [[9.0] * 3] * 2
    back = pickle.loads(pickle.dumps(data))
    assert back.is_same(data)
    assert not back.z.flags.writeable
    assert not back.intensity.flags.writeable
    assert "seen_intensity" not in vars(back)


def test_arrays_go_in_and_out():
    data = sloped(slope_x=0.1)
    heights = np.asarray(data)
    assert heights.dtype == np.float32
    np.testing.assert_array_equal(heights, data.z)
    assert np.asarray(data, np.float64).dtype == np.float64
    heights = np.array(data)
    heights[0, 0] = 99.0
    assert data.z[0, 0] != 99.0, "a map cannot be changed through its array"
    grid = data.grid
    at_zero = hemtra.inspect(step_plan((2.5, 1.0), (1.0, 1.0)), np.asarray(data), dx=grid.dx, dy=grid.dy)
    (row,) = at_zero.characteristics
    assert row.value == pytest.approx(0.15, abs=1e-5)
    with pytest.raises(HemtraError, match="give dx and dy"):
        hemtra.inspect(step_plan(), np.asarray(data))


def test_a_frame_has_a_row_for_each_characteristic(monkeypatch):
    result = hemtra.inspect(failing(2), sloped(slope_x=0.1))
    made = SimpleNamespace(DataFrame=lambda rows, columns: (columns, rows))
    monkeypatch.setitem(sys.modules, "pandas", made)
    columns, rows = result.to_frame()
    assert [row["balloon"] for row in rows] == ["1", "2"]
    assert rows[0]["verdict"] == "FAIL"
    assert set(rows[0]) == set(columns)
    monkeypatch.setitem(sys.modules, "pandas", None)
    with pytest.raises(HemtraError, match="pip install pandas"):
        result.to_frame()


@pytest.fixture
def installed(monkeypatch):
    """Entry points as if packages were installed that make kinds known."""

    def install(*found):
        def entries(group):
            return found if group == registry.GROUP else ()

        monkeypatch.setattr(registry, "entry_points", entries)
        monkeypatch.setattr(registry, "_kinds", dict(registry.kinds()))
        registry.kinds.cache_clear()

    yield install
    sys.modules.pop("hemtra_peak", None)
    monkeypatch.undo()
    registry.kinds.cache_clear()


def test_a_package_beside_adds_a_kind_with_one_file(installed, monkeypatch):
    monkeypatch.syspath_prepend(str(EXAMPLE))
    installed(importlib.metadata.EntryPoint("peak", "hemtra_peak", registry.GROUP))
    step = Step(
        id="peak", name="Peak", kind="example-peak", zone=box(0.0, 0.0, 2.0, 2.0), params={"share": 100.0}
    )
    row = Characteristic(balloon=1, name="Peak", step="peak", upper=0.3)
    plan = Plan(name="outside", steps=(step,), sheet=(row,))
    data = sloped(slope_x=0.1)
    (found,) = hemtra.inspect(plan, data).characteristics
    # the outermost column of the zone lies half a spacing within its border
    assert found.value == pytest.approx(0.1 * (1.0 - data.grid.dx / 2), abs=1e-5)
    assert found.verdict is Verdict.PASS
    assert registry.kind_named("example-peak").title == "Peak above the median"


def test_a_package_that_cannot_be_loaded_keeps_no_plan_from_opening(installed, caplog):
    installed(importlib.metadata.EntryPoint("broken", "no_such_module", registry.GROUP))
    assert hemtra.inspect(step_plan(), sloped()).verdict is Verdict.PASS
    assert "the kind broken of no_such_module cannot be loaded" in caplog.text
