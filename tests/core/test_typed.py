"""Lengths as people type them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hemtra.core.errors import HemtraError
from hemtra.core.plan.tolerance import parse_tolerance
from hemtra.core.typed import lengths_in_mm, number_typed


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("12,5", "mm", 12.5),
        ("0.5 in", "mm", 12.7),
        ('1.5"', "mm", 38.1),
        ("12 µm", "mm", 0.012),
        ("-3um", "mm", -0.003),
        ("5 mil", "mm", 0.127),
        ("7 mm", "mm", 7.0),
        ("−2", "°", -2.0),
        ("95", "%", 95.0),
    ],
)
def test_a_number_may_have_a_unit_of_length_where_it_is_one(text, unit, value):
    assert number_typed(text, unit) == value


REFUSED = [
    ("5 in", "°"),
    ("nan", "mm"),
    ("1e999", "mm"),
    ("", "mm"),
    ("5 m", "mm"),
    ("two", "%"),
    ("1 2 in", "mm"),
]


@pytest.mark.parametrize(("text", "unit"), REFUSED)
def test_what_is_no_number_there_is_refused(text, unit):
    with pytest.raises(ValueError, match=r"could not convert|not finite"):
        number_typed(text, unit)


@pytest.mark.parametrize(
    ("text", "limits"),
    [
        ("0.500 ±0.005 in", (12.573, 12.827)),
        ("0.5 in ±0.004 in", (12.5984, 12.8016)),
        ("4.00 mm ±50 µm", (3.95, 4.05)),
        ("1 in ±2 %", (24.892, 25.908)),
        ("≤ 0.02 in", (None, 0.508)),
        ("3.9 … 4.1", (3.9, 4.1)),
        ("84 ISO 2768-m", (83.7, 84.3)),
    ],
)
def test_tolerances_may_be_in_inches_and_limits_stay_in_mm(text, limits):
    found = parse_tolerance(lengths_in_mm(text))
    assert (found.lower, found.upper) == tuple(None if x is None else pytest.approx(x) for x in limits)


OPEN = ["4.00 ±50 µm", "0.5 in ±0.1", "12 ±2 mil", "0.500 ±0.005 in U 0.001", "84 in ISO 2768-m"]


@pytest.mark.parametrize("text", OPEN)
def test_an_open_unit_is_asked_for_and_not_guessed(text):
    with pytest.raises(HemtraError, match="not clear which unit"):
        lengths_in_mm(text)


@given(st.decimals(-1000, 1000, places=4))
def test_an_inch_is_exact(value):
    assert number_typed(f"{value} in") == pytest.approx(float(value) * 25.4, rel=1e-12, abs=1e-12)
