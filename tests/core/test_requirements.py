"""Requirement lists: read as people write them, refused with the line where they do not hold."""

import pytest

from hemtra import Engine, HemtraError, PlanError
from hemtra.core.plan.general_tolerances import permissible
from hemtra.core.plan.requirements import (
    MOST_ROWS,
    UnknownColumns,
    bound,
    guessed_columns,
    lacking,
    parse_requirements,
    read_table,
    rows_of,
    with_requirements,
)
from hemtra.core.plan.tolerance import parse_tolerance
from makers import sloped, step_plan

LIST = """balloon,name,nominal,lower,upper,unit
7,Rib height,1.2,1.1,1.3,mm
8,Gap,0.50,-0.20,+0.20,mm

9,Flatness,,,0.15,mm
"""


def test_limits_are_absolute_or_deviations_by_their_sign():
    rows = parse_requirements(LIST)
    assert [(r.balloon, r.nominal, r.lower, r.upper) for r in rows] == [
        (7, 1.2, 1.1, 1.3),
        (8, 0.5, 0.3, 0.7),
        (9, None, None, 0.15),
    ]
    asked = [
        "1,A,0.5,-0.1,",
        "2,B,-1,-1.2,0.3",
        "3,C,-1,-1.2,-0.8",
        "4,D,-1,-1.2,+0.3",
        "5,E,4,3.9,4",
        "6,F,-1,-1.2,-1",
    ]
    text = "\n".join(["balloon,name,nominal,lower,upper", *asked])
    found = [(row.lower, row.upper) for row in parse_requirements(text)]
    assert found == [(0.4, None), (-1.2, 0.3), (-1.2, -0.8), (-2.2, -0.7), (3.9, 4.0), (-1.2, -1.0)]
    german = LIST.replace(",", ";").replace(".", ",")
    assert parse_requirements("\ufeff" + german) == rows
    assert parse_requirements(LIST.replace(",", "\t")) == rows


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is empty"),
        ("number,text\n1,x\n", "no column “name”"),
        ("balloon,name\n1,x\n", "no column “lower”"),
        (LIST + "10,Step,1,2\n", "Line 6 has 4 columns and the first line 6; decimal commas need semicolons"),
        (LIST + "ten,Step,1,0,2,mm\n", "Line 6: “ten” is no balloon"),
        (LIST + "10,Step,one,0,2,mm\n", "Line 6: “one” is not a number"),
        (LIST + "10,Step,1,3,2,mm\n", "Line 6: balloon 10 has its lower limit"),
        (LIST + "10,Step,1,,,mm\n", "Line 6: balloon 10 needs a lower or an upper"),
        (LIST + "10,,1,0,2,mm\n", "Line 6: its name or limits do not hold"),
        (LIST + "7,Again,1,0,2,mm\n", "balloon 7 twice"),
    ],
)
def test_what_does_not_hold_is_told_with_its_line(text, words):
    with pytest.raises(PlanError, match=words):
        parse_requirements(text)


def test_rows_wait_and_are_bound():
    plan = with_requirements(step_plan(), parse_requirements(LIST))
    result = Engine(sloped(noise=0.001)).run(plan)
    waiting = [c for c in result.characteristics if c.balloon in (7, 8, 9)]
    assert all("no feature assigned" in c.reason for c in waiting)
    assert result.verdict == "NOT MEASURED", "what is not measured cannot pass"
    done = bound(plan, 8, 1)
    assert done.characteristic(1) is None
    assert done.characteristic(8).step == "rise"
    assert (done.characteristic(8).lower, done.characteristic(8).upper) == (0.3, 0.7)
    again = with_requirements(done, parse_requirements(LIST.replace("Gap,0.50", "Gap all round,0.60")))
    assert again.characteristic(8).step == "rise", "a row that is bound stays bound"
    assert again.characteristic(8).name == "Gap all round"
    assert again.duplicated(7).sheet[-1].balloon == 10
    with pytest.raises(PlanError, match="waits to be bound"):
        bound(plan, 99, 1)


@pytest.mark.parametrize(
    ("text", "nominal", "limits"),
    [
        ("84 ISO 2768-m", None, (83.7, 84.3)),
        ("2768-f", 2.5, (2.45, 2.55)),
        ("120 ISO 2768-1 c", None, (119.2, 120.8)),
        ("6 2768-vK", None, (5.5, 6.5)),
    ],
)
def test_general_tolerances_by_class(text, nominal, limits):
    found = parse_tolerance(text, nominal)
    assert (found.lower, found.upper) == pytest.approx(limits)


def test_the_table_of_the_standard():
    """ISO 2768-1, table 1, copied from the standard column by column: size up to, f, m, c, v."""
    table = """
        3      0.05  0.1  0.2  -
        6      0.05  0.1  0.3  0.5
        30     0.1   0.2  0.5  1
        120    0.15  0.3  0.8  1.5
        400    0.2   0.5  1.2  2.5
        1000   0.3   0.8  2    4
        2000   0.5   1.2  3    6
        4000   -     2    4    8
    """
    for line in table.split("\n")[1:-1]:
        size, *asked = line.split()
        for class_, text in zip("fmcv", asked, strict=True):
            if text != "-":
                assert permissible(float(size), class_) == float(text), (size, class_)


def test_a_list_may_have_two_thousand_rows_and_no_more():
    head, row = "balloon,name,lower,upper", "{},Height,3.9,4.1"
    rows = [row.format(k + 1) for k in range(MOST_ROWS)]
    assert len(parse_requirements("\n".join([head, *rows]))) == MOST_ROWS
    with pytest.raises(PlanError, match=f"more than {MOST_ROWS} rows"):
        parse_requirements("\n".join([head, *rows, row.format(MOST_ROWS + 1)]))


def test_a_comma_too_many_is_told_with_its_line_and_why():
    with pytest.raises(PlanError, match="Line 3 has 5 columns and the first line 4; decimal commas"):
        parse_requirements("balloon,name,lower,upper\n1,Height,3,4\n2,Gap,0,5,1")


def test_limits_may_meet_and_not_cross():
    assert (parse_tolerance("4.0 ... 4.0").lower, parse_tolerance("4.0 ... 4.0").upper) == (4.0, 4.0)
    with pytest.raises(HemtraError, match="lies above the upper limit"):
        parse_tolerance("4.1 ... 4.0")


def test_general_tolerances_the_standard_does_not_give():
    for text in ("2 ISO 2768-v", "3000 ISO 2768-f", "5000 ISO 2768-m"):
        with pytest.raises(HemtraError, match="gives no deviation"):
            parse_tolerance(text)
    with pytest.raises(HemtraError, match="needs the nominal"):
        parse_tolerance("ISO 2768-m")


ELSEWHERE = """Pos.;Merkmal;Nennmass;oberes Abmass;unteres Abmass;Einheit
4.1;Nut, Breite;5,0;0,1;0,2;mm
12a;Stufe;1,25;0,05;-0,05;mm
"""


def test_columns_of_any_name_and_order_once_it_is_said_what_they_hold():
    table = read_table(ELSEWHERE)
    # position is told by its name, all else has to be said
    assert guessed_columns(table) == {"balloon": 0}
    assert lacking(guessed_columns(table)) == "name"
    with pytest.raises(UnknownColumns, match="no column “name”"):
        parse_requirements(ELSEWHERE)
    said = {"balloon": 0, "name": 1, "nominal": 2, "plus": 3, "minus": 4, "unit": 5}
    rows = rows_of(table, said)
    # a lower deviation is below the nominal also where its sign is left out
    assert [(str(r.balloon), r.lower, r.upper) for r in rows] == [("4.1", 4.8, 5.1), ("12a", 1.2, 1.3)]
    assert table.sample(1) == "Nut, Breite, Stufe"
    assert read_table("pos;name\n2;\n3;Steg\n").sample(1) == "Steg", "empty cells say nothing"


@pytest.mark.parametrize(
    ("text", "limits"),
    [
        ("No,Description,Target,LSL,USL\n3,Height,4,3.9,4.1\n", (3.9, 4.1)),
        ("upper limit\tlower_limit\tFeature name\titem\n4.1\t3.9\tHeight\t3\n", (3.9, 4.1)),
        ("balloon,name,nominal,tolerance\n3,Height,4.0,±0.1\n", (3.9, 4.1)),
        ("balloon,name,nominal,tolerance\n3,Height,4.0,+0.1 -0.2\n", (3.8, 4.1)),
        ("balloon,name,nominal,tolerance\n3,Flatness,,≤ 0.15\n", (None, 0.15)),
        ("balloon,name,nominal,plus,minus\n3,Flatness,,0.15,\n", (None, 0.15)),
        ("balloon,name,nominal,tol+,tol-\n3,Height,4.0,+0.1,−0.2\n", (3.8, 4.1)),
        ("balloon,name,nominal,lower,upper\n3,Place,-35.0,-35.3,-34.7\n", (-35.3, -34.7)),
        ("balloon,name,nominal,lower,upper\n3,Place,-35.0,-0.3,+0.3\n", (-35.3, -34.7)),
        ("balloon,name,nominal,upper tolerance,lower tolerance\n3,Height,4.0,0.3,0.1\n", (3.9, 4.3)),
    ],
)
def test_names_that_others_have_for_columns(text, limits):
    (row,) = parse_requirements(text)
    assert (row.lower, row.upper) == limits
    assert row.balloon == 3


def test_what_does_not_hold_of_deviations_and_tolerances():
    for text, words in (
        ("balloon,name,plus,minus\n1,x,0.1,-0.1\n", "Line 2: a deviation needs the nominal"),
        ("balloon,name,tolerance\n1,x,about 4\n", "Line 2: “about 4” is not a tolerance"),
        ("balloon,name,tolerance\n1,x,±0.1\n", "Line 2: “±0.1” is not a tolerance"),
        ("balloon,name,upper\n4.100,x,1\n", "Line 2: “4.100” is no balloon"),
        ("balloon,name,upper\n12a,x,1\n12A,y,2\n", "balloon 12a twice"),
    ):
        with pytest.raises(PlanError, match=words):
            parse_requirements(text)


@pytest.mark.parametrize(
    ("lower", "upper", "limits"),
    [("-5.2", "", (-5.2, None)), ("-0.2", "", (-5.2, None)), ("-5.2", "-4.9", (-5.2, -4.9))],
)
def test_limits_about_a_nominal_below_zero(lower, upper, limits):
    (row,) = parse_requirements(f"balloon,name,nominal,lower,upper\n1,x,-5,{lower},{upper}\n")
    assert (row.lower, row.upper) == limits
