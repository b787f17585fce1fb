"""Exports hold what is on record, whatever is in it, and nothing half."""

import csv
import io
import json
import sys
from collections import Counter
from dataclasses import replace
from datetime import datetime
from importlib.resources import files
from xml.etree import ElementTree

import pytest
import xmlschema

from hemtra import FileError
from hemtra.core.plan.limits import Verdict
from hemtra.storage.exports import export
from hemtra.storage.exports import iteration as walking
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import part_sheet
from hemtra.storage.tables import STYLES, Table
from lots import BEGAN, DAY, made_lot, part, rows_of, two_rows

QIF = "{http://qifstandards.org/xsd/qif3}"
HOSTILE = 'a <b> & "c"\x01\n;,é'


@pytest.fixture
def records(database):
    found = Records(database)
    made_lot(found, "first", [0.2, 0.9, None])
    lot = made_lot(found, "second", [0.25], two_rows(upper=0.3, name="Height"), started=BEGAN + DAY)
    plan = two_rows(name="Code")
    odd = part(2, plan, {1: 0.2}, serial=HOSTILE, text=HOSTILE, unit="")
    found.add_all(lot, [odd], found.revision(plan))
    yield found
    found.close()


def parts_of(records):
    """Every part with its sheet, in the order of an export."""
    lots = sorted(records.all_lots(), key=lambda lot: lot.started)
    return [(lot, one, part_sheet(records, one.id).rows) for lot in lots for one in records.parts_of(lot)]


def test_a_table_has_a_column_for_each_way_a_characteristic_was_called(records, tmp_path, monkeypatch):
    monkeypatch.setattr(walking, "CHUNK", 2)
    assert export(records, tmp_path / "all.csv")
    with (tmp_path / "all.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [(r["lot"], r["number"], r["verdict"]) for r in rows] == [
        (lot.name, str(one.number), str(one.verdict)) for lot, one, _ in parts_of(records)
    ]
    assert [r["1 Rise (mm)"] for r in rows] == ["0.2", "0.9", "", "", ""]
    assert [r["1 Code"] for r in rows] == ["", "", "", "", HOSTILE]
    assert [r["1 Height (mm)"] for r in rows] == ["", "", "", "0.25", ""]
    assert rows[-1]["serial"] == HOSTILE


def test_the_document_is_json_with_everything(records, tmp_path):
    (lot,) = [lot for lot in records.all_lots() if lot.name == "first"]
    assert export(records, tmp_path / "first.json", [lot])
    held = json.loads((tmp_path / "first.json").read_text())
    assert held["lots"] == [{"name": "first", "plan": "steps", "started": lot.started, "ended": lot.ended}]
    assert [one["number"] for one in held["parts"]] == [1, 2, 3]
    first, _, missing = (one["characteristics"][0] for one in held["parts"])
    assert first == {
        "balloon": 1,
        "method": "spot 3",
        "name": "Rise",
        "unit": "mm",
        "nominal": None,
        "lower": 0.1,
        "upper": 0.3,
        "value": 0.2,
        "verdict": "PASS",
        "reason": "",
    }
    assert (missing["value"], missing["verdict"], missing["reason"]) == (None, "NOT MEASURED", "no data there")


def test_qif_refers_only_to_what_it_defines_and_says_every_value(records, tmp_path):
    assert export(records, tmp_path / "all.qif")
    root = ElementTree.parse(tmp_path / "all.qif").getroot()
    assert root.tag == f"{QIF}QIFDocument"
    assert root.get("versionQIF") == "3.0.0"
    ids = [element.get("id") for element in root.iter() if element.get("id")]
    assert max(Counter(ids).values()) == 1
    assert max(map(int, ids)) <= int(root.get("idMax"))
    for element in root.iter():
        if element.get("n") and element.tag != f"{QIF}MeasurementsResults":
            assert len(element) == int(element.get("n")), element.tag
        if element.tag.endswith("Id") and element.tag != f"{QIF}QPId":
            assert element.text in ids
    items = {e.get("id"): e for e in root.iter() if e.tag.endswith("CharacteristicItem")}
    names = {key: item.findtext(f"{QIF}Name") for key, item in items.items()}
    told = []
    for result in root.iter(f"{QIF}MeasurementResults"):
        for one in result.iter():
            if one.tag.endswith("CharacteristicMeasurement"):
                status = one.findtext(f"{QIF}Status/{QIF}CharacteristicStatusEnum")
                value = one.findtext(f"{QIF}Value")
                told.append((names[one.findtext(f"{QIF}CharacteristicItemId")], status, value))
    expected = [
        (
            row.name,
            str(row.verdict).replace(" ", "_"),
            None if row.value is None else row.text or repr(row.value),
        )
        for _, _, rows in parts_of(records)
        for row in rows
    ]
    hostile = HOSTILE.replace("\x01", " ").replace("\n", " ")
    assert Counter(told) == Counter((n, s, hostile if v == HOSTILE else v) for n, s, v in expected)


def test_qif_is_valid_by_the_schema_of_what_we_write(records, tmp_path):
    """Our own schema: it states what is written. Numbers have no exponents, and every unit is declared."""
    lot = records.all_lots()[0]
    plan = two_rows(lower=-1e-7, upper=0.5)
    tiny = [part(k, plan, {1: value, 2: 0.0}, unit="%") for k, value in ((3, 1e-9), (4, -2.5e-7), (5, 1e16))]
    records.add_all(
        lot,
        [replace(one, rows=(replace(one.rows[0], u=1e-8), *one.rows[1:])) for one in tiny],
        records.revision(plan),
    )
    assert export(records, tmp_path / "all.qif")
    schema = xmlschema.XMLSchema(files("hemtra.storage.exports") / "qif_results.xsd")
    schema.validate(tmp_path / "all.qif")
    text = (tmp_path / "all.qif").read_text()
    assert "0.000000001" in text
    assert "10000000000000000" in text
    assert 'combinedUncertainty="0.00000001"' in text
    assert "<UnitName>%</UnitName>" in text
    broken = text.replace("<DefinedAsLimit>", "<DefinedByLimit>", 1)
    with pytest.raises(xmlschema.XMLSchemaException):
        schema.validate(broken)


def test_the_uncertainty_of_a_value_is_kept_and_stands_beside_it(tmp_path):
    records, plan = Records(str(tmp_path / "records.db")), two_rows()
    lot = made_lot(records, "lot", [])
    one = part(1, plan, {1: 0.2, 2: 0.0})
    known = replace(one, rows=(replace(one.rows[0], u=0.0125), *one.rows[1:]))
    records.add_all(lot, [known], records.revision(plan))
    ((_, _, rows),) = parts_of(records)
    assert [row.u for row in rows] == [0.0125, None]
    assert export(records, tmp_path / "all.qif")
    values = list(ElementTree.parse(tmp_path / "all.qif").getroot().iter(f"{QIF}Value"))
    assert [value.get("combinedUncertainty") for value in values] == ["0.0125", None]
    assert export(records, tmp_path / "all.json")
    (told,) = json.loads((tmp_path / "all.json").read_text())["parts"]
    assert [row.get("u") for row in told["characteristics"]] == [0.0125, None]
    records.close()


def test_limits_of_qif_are_those_of_the_drawing(records, tmp_path):
    export(records, tmp_path / "all.xml")
    root = ElementTree.parse(tmp_path / "all.xml").getroot()
    found = {
        (e.findtext(f"{QIF}Name"), e.findtext(f"{QIF}Tolerance/{QIF}MinValue"))
        for e in root.iter()
        if e.tag.endswith("CharacteristicDefinition") and "Linear" in e.tag
    }
    assert ("Height", "0.1") in found
    assert ("Back", "-0.5") in found


@pytest.mark.parametrize("name", ["all.csv", "all.json", "all.qif"])
def test_what_was_stopped_or_cannot_be_written_leaves_what_stood_there(records, tmp_path, name):
    path = tmp_path / name
    path.write_text("before")
    assert not export(records, path, None, lambda done, of, what: False)
    assert path.read_text() == "before"
    with pytest.raises(FileError, match="was not saved"):
        export(records, tmp_path / "nowhere" / name)
    with pytest.raises(FileError, match="end its name in"):
        export(records, tmp_path / "all.doc")
    assert sorted(p.suffix for p in tmp_path.iterdir() if p.suffix not in (".db", ".db-shm", ".db-wal")) == [
        path.suffix
    ]


def test_lots_without_parts_are_exported_as_such(tmp_path):
    records = Records(str(tmp_path / "empty.db"))
    made_lot(records, "nothing", [])
    for name in ("a.csv", "a.json", "a.qif"):
        assert export(records, tmp_path / name)
    assert json.loads((tmp_path / "a.json").read_text())["parts"] == []
    assert len((tmp_path / "a.csv").read_text().splitlines()) == 1
    assert ElementTree.parse(tmp_path / "a.qif").getroot().find(f".//{QIF}MeasurementResults") is None
    records.close()


def test_rows_of_these_tests_are_evaluated_as_a_plan_does():
    good, bad, none = (rows_of(two_rows(), {1: value, 2: 0.0})[0].verdict for value in (0.2, 0.9, None))
    assert (good, bad, none) == (Verdict.PASS, Verdict.FAIL, Verdict.NOT_MEASURED)


@pytest.mark.parametrize(
    ("cell", "shown"),
    [
        ("=HYPERLINK(1)", "'=HYPERLINK(1)"),
        ("@SUM(A1)", "'@SUM(A1)"),
        ("+1+1", "'+1+1"),
        ("-2+cmd", "'-2+cmd"),
        ("-1.25", "-1.25"),
        ("+3e-4", "+3e-4"),
        ("A-17", "A-17"),
        ("", ""),
        (-1.5, "-1.5"),
        (None, ""),
    ],
)
def test_a_cell_is_never_a_formula(cell, shown):
    text = io.StringIO()
    Table(text).writerow(("x", cell))
    assert next(csv.reader(io.StringIO(text.getvalue()))) == ["x", shown]


def expected_values(records):
    """Of every value of every part: what identifies it, and what came of it."""
    for lot, one, rows in parts_of(records):
        for row in rows:
            yield lot.name, one.number, str(row.balloon), row.name, row.value, str(row.verdict)


def test_values_have_a_row_each_with_limits_and_what_came_of_them(records, tmp_path, monkeypatch):
    monkeypatch.setattr(walking, "CHUNK", 2)
    assert export(records, tmp_path / "all.values.csv")
    with (tmp_path / "all.values.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    found = [
        (
            r["lot"],
            int(r["number"]),
            r["balloon"],
            r["name"],
            float(r["value"]) if r["value"] else None,
            r["verdict"],
        )
        for r in rows
    ]
    assert found == list(expected_values(records))
    assert (rows[0]["lower"], rows[0]["upper"], rows[0]["unit"]) == ("0.1", "0.3", "mm")
    assert datetime.fromisoformat(rows[0]["scanned"]).timestamp() == pytest.approx(
        records.parts_of(records.all_lots()[-1])[0].scanned, abs=1e-3
    )


def test_parquet_holds_the_same_values_as_numbers(records, tmp_path, monkeypatch):
    parquet = pytest.importorskip("pyarrow.parquet")
    monkeypatch.setattr(walking, "CHUNK", 2)
    assert export(records, tmp_path / "all.parquet")
    table = parquet.read_table(tmp_path / "all.parquet")
    columns = [
        table.column(name).to_pylist() for name in ("lot", "number", "balloon", "name", "value", "verdict")
    ]
    assert list(zip(*columns, strict=True)) == list(expected_values(records))
    assert str(table.schema.field("scanned").type) == "timestamp[ms, tz=UTC]"
    assert str(table.schema.field("upper").type) == "double"
    assert HOSTILE in table.column("serial").to_pylist()


def test_a_workbook_opens_with_numbers_times_and_harmless_text(records, tmp_path):
    openpyxl = pytest.importorskip("openpyxl")
    plan = two_rows(name="Code")
    lot = made_lot(records, "formulas", [], started=BEGAN + 2 * DAY)
    records.add_all(lot, [part(1, plan, {1: 0.2}, serial="=1+1")], records.revision(plan))
    assert export(records, tmp_path / "all.xlsx")
    book = openpyxl.load_workbook(tmp_path / "all.xlsx")
    head, *rows = book["Parts"].iter_rows(values_only=True)
    held = [dict(zip(head, row, strict=True)) for row in rows]
    assert [row["number"] for row in held] == [one.number for _, one, _ in parts_of(records)]
    assert held[0]["1 Rise (mm)"] == 0.2
    assert isinstance(held[0]["scanned"], datetime)
    assert "'=1+1" in [row["serial"] for row in held]
    head, *asked = book["Statistics"].iter_rows(values_only=True)
    found = [dict(zip(head, row, strict=True)) for row in asked]
    rise = next(row for row in found if (row["name"], row["upper"]) == ("Rise", 0.3))
    assert (rise["balloon"], rise["unit"], rise["nominal"], rise["lower"]) == ("1", "mm", None, 0.1)
    assert (rise["measured"], rise["not measured"]) == (2, 1)
    assert rise["mean"] == pytest.approx(0.55)
    assert (rise["minimum"], rise["maximum"]) == (0.2, 0.9)
    assert rise["Ppk"] == pytest.approx((0.3 - 0.55) / (3 * 0.7 / 2**0.5))


def test_the_wide_table_says_all_of_each_characteristic_in_one_row(records, tmp_path):
    assert export(records, tmp_path / "all.wide.csv")
    with (tmp_path / "all.wide.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [int(row["number"]) for row in rows] == [one.number for _, one, _ in parts_of(records)]
    first, second, third = rows[:3]
    assert (first["1 Rise (mm)"], first["1 Rise (mm), verdict"], first["1 Rise (mm), upper"]) == (
        "0.2",
        "PASS",
        "0.3",
    )
    assert (second["1 Rise (mm)"], second["1 Rise (mm), verdict"]) == ("0.9", "FAIL")
    assert (third["1 Rise (mm)"], third["1 Rise (mm), reason"]) == ("", "no data there")
    assert rows[3]["1 Rise (mm), verdict"] == "", "another revision has another row"
    assert rows[3]["1 Height (mm)"] == "0.25"
    assert rows[-1]["1 Code"] == rows[-1]["serial"] == HOSTILE


def test_without_its_library_a_format_says_what_to_install(records, tmp_path, monkeypatch):
    monkeypatch.setitem(sys.modules, "openpyxl", None)
    with pytest.raises(FileError, match="Excel files need the package openpyxl"):
        export(records, tmp_path / "all.xlsx")
    assert not (tmp_path / "all.xlsx").exists()


@pytest.mark.parametrize(
    ("name", "start", "cell"),
    [
        ("plain", b'"lot"', "0.2\n"),
        ("rfc4180", b'"lot"', "0.2\r\n"),
        ("bom", b'\xef\xbb\xbf"lot"', "0.2\r\n"),
        ("comma", b'\xef\xbb\xbf"lot";', "0,2\r\n"),
    ],
)
def test_tables_are_written_as_the_reader_needs_them(records, tmp_path, name, start, cell):
    made_lot(records, "only", [0.2], plan=two_rows().edited(sheet=two_rows().sheet[:1]))
    assert export(records, tmp_path / "t.csv", records.all_lots()[:1], style=STYLES[name])
    raw = (tmp_path / "t.csv").read_bytes()
    assert raw.startswith(start)
    last = raw.decode("utf-8-sig").splitlines(keepends=True)[-1]
    assert last.endswith(cell)
    assert '"S00001"' in last, "serials stay text"
    assert "2026-01-12T" in last
    assert "+00:00" in last
