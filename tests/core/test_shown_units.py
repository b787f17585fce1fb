"""Inches on the screen: every length is turned, nothing else is, and no verdict changes."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult, evaluate, format_value
from hemtra.core.plan.shown_units import in_unit, tolerance_in
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.statistics import statistics
from hemtra.core.typed import lengths_in_mm
from hemtra.core.units import INCH, MM

NUMBERS = st.floats(-500.0, 500.0)


def result(value, lower, upper, unit="mm", uncertainty=0.0, span=None):
    verdict, reason = evaluate(value, lower, upper, 2, uncertainty, span)
    return CharacteristicResult(1, "Gap", "gap", value, unit, None, lower, upper, 2, verdict, reason, None)


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("at 12.70 mm", "at 0.5000 in"),
        ("at -25.400, 50.800 mm", "at -1.00000, 2.00000 in"),
        ("+0.254 mm", "+0.01000 in"),
        ("4.0 ±2.54 mm wide", "4.0 ±0.1000 in wide"),
        ("6.45160 mm²", "0.01000000 in²"),
        ("16387.064 mm³ of glue", "1.00000000 in³ of glue"),
        ("25 mm/s", "0.98 in/s"),
        # what is no length in mm stays
        ("tilt 0.116°", "tilt 0.116°"),
        ("3 mm per m", "3 mm per m"),
        ("12 of 24 pass, 5 µm", "12 of 24 pass, 5 µm"),
        ("M5 mmm", "M5 mmm"),
    ],
)
def test_lengths_in_words(text, shown):
    assert INCH.shown(text) == shown
    assert MM.shown(text) == text


def test_a_text_that_was_read_is_shown_as_it_is():
    read = replace(result(1.0, 1.0, 1.0, unit=""), text="LOT 7")
    assert format_value(read) == "LOT 7"
    assert format_value(replace(read, value=None)) == "–"


@given(NUMBERS, NUMBERS, st.floats(0.0, 50.0), st.sampled_from([0.0, 0.4]))
def test_a_result_in_inches_says_the_same(value, lower, width, uncertainty):
    row = result(round(value, 3), round(lower, 2), round(lower + width, 2), uncertainty=uncertainty)
    inches = in_unit(row, INCH)
    assert inches.verdict is row.verdict
    assert inches.unit == "in"
    for name in ("value", "lower", "upper"):
        assert getattr(inches, name) * 25.4 == pytest.approx(getattr(row, name), abs=1e-9)
    # the reason has the same words about numbers in inches
    assert [w for w in inches.reason.split() if w.isalpha()] == [w for w in row.reason.split() if w.isalpha()]
    if row.reason:
        first = float(inches.reason.split()[0].rstrip(","))
        assert first * 25.4 == pytest.approx(row.value, abs=0.00005 * 25.4 + 1e-9)


def test_reasons_of_other_kinds_keep_their_numbers():
    seen = result(3.0, 2.9, 3.1, span=(2.5, 3.5))
    assert in_unit(seen, INCH).reason == "between 0.0984 and 0.1378, as part of it was not seen"
    lost = replace(result(3.0, 2.9, 3.1), reason="only 12 of 24 points; minimum 3")
    assert in_unit(lost, INCH).reason == lost.reason
    gap = replace(lost, reason="no data over 1.50 mm")
    assert in_unit(gap, INCH).reason == "no data over 0.0591 in"
    angle = result(3.0, 2.9, 3.1, unit="°")
    assert in_unit(angle, INCH) is angle
    assert in_unit(seen, MM) is seen
    area = in_unit(result(645.16, 600.0, 700.0, unit="mm²"), INCH)
    assert (area.value, area.unit) == (pytest.approx(1.0), "in²")


@given(st.floats(-99, 99), st.floats(0.02, 5.0), st.floats(0.02, 5.0))
def test_a_tolerance_in_inches_is_typed_back(nominal, plus, minus):
    n = round(nominal, 2)
    row = Characteristic(balloon=1, name="a", nominal=n, lower=round(n - minus, 2), upper=round(n + plus, 2))
    typed = tolerance_in(row, "mm", INCH)
    assert typed.endswith(" in")
    back = parse_tolerance(lengths_in_mm(typed), n)
    for name in ("lower", "upper"):
        assert getattr(back, name) == pytest.approx(getattr(row, name), abs=0.004)
    assert tolerance_in(row, "°", INCH) == row.tolerance == tolerance_in(row, "mm", MM)


@pytest.mark.parametrize(("side", "typed"), [("upper", "≤ 0.0200 in"), ("lower", "≥ 0.0200 in")])
def test_a_single_limit_in_inches_is_typed_back(side, typed):
    row = Characteristic(balloon=1, name="a", **{side: 0.508})
    assert tolerance_in(row, "mm", INCH) == typed
    assert getattr(parse_tolerance(lengths_in_mm(typed), None), side) == pytest.approx(0.508)


def test_statistics_are_scaled_and_indices_stay():
    values = np.array([1.0, 1.2, 0.9, 1.1, math.nan, 1.05])
    mm, inches = statistics(values, 0.5, 1.5), statistics(values / 25.4, 0.5 / 25.4, 1.5 / 25.4)
    scaled = mm.scaled(1 / 25.4)
    for name in ("mean", "deviation", "within", "least", "greatest", "cpk", "ppk"):
        assert getattr(scaled, name) == pytest.approx(getattr(inches, name), rel=1e-9)
    assert scaled.count == mm.count
