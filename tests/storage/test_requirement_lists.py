"""Requirement lists in files: the encodings of office programs, QIF documents, and what is neither."""

import json

import pytest

from hemtra.core.errors import FileError, HemtraError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.requirements import guessed_columns, rows_of
from hemtra.storage.exports import export
from hemtra.storage.records import Records
from hemtra.storage.records.evidence import part_sheet
from hemtra.storage.records.store import Lot
from hemtra.storage.records.trends import balloons_in, trends
from hemtra.storage.requirement_lists import read_requirements
from lots import BEGAN, made_lot, part, two_rows

LIST = "balloon;name;nominal;lower;upper;unit\n4.1;Größe der Öffnung;5,0;-0,1;+0,1;mm\n"


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_the_encodings_of_office_programs(tmp_path, encoding):
    path = tmp_path / "list.csv"
    path.write_bytes(LIST.encode(encoding))
    table = read_requirements(path)
    (row,) = rows_of(table, guessed_columns(table))
    assert (str(row.balloon), row.name, row.lower, row.upper) == ("4.1", "Größe der Öffnung", 4.9, 5.1)


def qif(items: str, linear: str = "mm") -> str:
    return f"""<?xml version="1.0"?>
<QIFDocument xmlns="http://qifstandards.org/xsd/qif3" versionQIF="3.0.0" idMax="99">
 <FileUnits><PrimaryUnits><LinearUnit><SIUnitName>meter</SIUnitName><UnitName>{linear}</UnitName></LinearUnit>
 </PrimaryUnits></FileUnits>
 <Characteristics>{items}</Characteristics>
</QIFDocument>"""


LENGTH = """<CharacteristicDefinitions n="2">
 <LengthCharacteristicDefinition id="1"><Name>len</Name><Tolerance><MaxValue>0.1</MaxValue>
  <MinValue>-0.2</MinValue><DefinedAsLimit>false</DefinedAsLimit></Tolerance></LengthCharacteristicDefinition>
 <AngleCharacteristicDefinition id="2"><Tolerance><MaxValue>30.5</MaxValue><MinValue>29.5</MinValue>
  <DefinedAsLimit>true</DefinedAsLimit></Tolerance></AngleCharacteristicDefinition>
</CharacteristicDefinitions><CharacteristicNominals n="2">
 <LengthCharacteristicNominal id="3"><CharacteristicDefinitionId>1</CharacteristicDefinitionId>
  <TargetValue>5.0</TargetValue></LengthCharacteristicNominal>
 <AngleCharacteristicNominal id="4"><CharacteristicDefinitionId>2</CharacteristicDefinitionId>
  <TargetValue>30</TargetValue></AngleCharacteristicNominal>
</CharacteristicNominals><CharacteristicItems n="2">
 <LengthCharacteristicItem id="5"><Name>Slot width</Name><CharacteristicDesignator><Designator>12a</Designator>
  </CharacteristicDesignator><CharacteristicNominalId>3</CharacteristicNominalId></LengthCharacteristicItem>
 <AngleCharacteristicItem id="6"><Name>Draft</Name><CharacteristicNominalId>4</CharacteristicNominalId>
 </AngleCharacteristicItem>
</CharacteristicItems>"""


@pytest.mark.parametrize(("said", "unit"), [("mm", "mm"), ("inch", "in")])
def test_characteristics_of_a_qif_document(tmp_path, said, unit):
    path = tmp_path / "drawing.qif"
    path.write_text(qif(LENGTH, said))
    slot, draft = read_requirements(path)
    assert (str(slot.balloon), slot.name, slot.nominal, slot.unit) == ("12a", "Slot width", 5.0, unit)
    assert (slot.lower, slot.upper) == (4.8, 5.1)
    # without a designator it gets the place it has in the document
    assert (str(draft.balloon), draft.lower, draft.upper, draft.unit) == ("2", 29.5, 30.5, "°")


def test_what_hemtra_exports_is_read_back(tmp_path):
    records = Records(str(tmp_path / "line.db"))
    lot = made_lot(records, "one", [0.2, 0.21], two_rows())
    export(records, tmp_path / "one.qif", [lot])
    records.close()
    rows = read_requirements(tmp_path / "one.qif")
    assert [(r.balloon, r.name, r.lower, r.upper, r.unit) for r in rows] == [
        (1, "Rise", 0.1, 0.3, "mm"),
        (2, "Back", -0.5, 0.5, "mm"),
    ]


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.csv", b"", "The list is empty"),
        ("a.csv", b"\0\1\2binary", "is not text"),
        ("a.csv", b"\xff\xfe\x00", "is not text"),
        ("a.qif", b"<QIF", "is no QIF document"),
        ("a.qif", b'<!DOCTYPE x [<!ENTITY a "b">]><x/>', "defines entities"),
        ("a.qif", qif("").encode(), "no characteristics with tolerances"),
        ("a.qif", qif(LENGTH.replace("-0.2", "0.3")).encode(), "the limits or the name of “Slot width”"),
    ],
)
def test_what_is_no_list_is_said(tmp_path, name, content, words):
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(HemtraError, match=words):
        read_requirements(path)


def test_a_list_that_is_too_large_is_not_read(tmp_path):
    path = tmp_path / "big.csv"
    with path.open("wb") as stream:
        stream.truncate(17 * 1024**2)
    with pytest.raises(FileError, match="larger than the 16 MiB"):
        read_requirements(path)


def test_records_keep_balloons_with_parts_in_the_order_of_the_drawing(tmp_path):
    plan = two_rows()
    rows = [row.edited(balloon=balloon) for row, balloon in zip(plan.sheet, ("12a", "4.1"), strict=True)]
    plan = plan.edited(sheet=(*rows, rows[0].edited(balloon=5, name="Rise too")))
    records = Records(str(tmp_path / "line.db"))
    lot = records.add_lot(Lot(0, "one", plan.name, BEGAN, BEGAN + 60))
    measured = part(1, plan, {row.balloon: 0.2 for row in plan.sheet}, at=BEGAN)
    records.add_all(lot, [measured], records.revision(plan))
    key = records.parts_of(lot)[0].id
    sheet = part_sheet(records, key)
    assert [str(row.balloon) for row in sheet.rows] == ["4.1", "5", "12a"]
    assert [str(b) for b in balloons_in(records, [lot])] == ["4.1", "5", "12a"]
    assert str(trends(records, [lot], Balloon.parse("12a"))[0].balloon) == "12a"
    export(records, tmp_path / "one.json", [lot])
    export(records, tmp_path / "one.csv", [lot])
    export(records, tmp_path / "one.qif", [lot])
    records.close()
    found = json.loads((tmp_path / "one.json").read_text())
    assert '"balloon": "12a"' in json.dumps(found)
    assert "4.1 Back" in (tmp_path / "one.csv").read_text()
    assert "<Designator>12a</Designator>" in (tmp_path / "one.qif").read_text()
