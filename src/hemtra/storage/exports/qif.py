"""Results as QIF 3.0 (ISO 23952:2020): what was requested, and what each part measured.

Every balloon is a characteristic that the user defines, by its unit: linear, angular, area or of another unit,
or an attribute where text is read; as definition, nominal and item. Each part is an actual component with one
set of measurement results that refers to these.

`qif_results.xsd` beside this file says what is written, element by element; it is our own, and covers no
more.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import count
from typing import IO, Any
from xml.sax.saxutils import escape, quoteattr

from hemtra.core.plan.limits import Verdict
from hemtra.core.text import decimal
from hemtra.storage.exports.iteration import VALUES, Chunk, Walk
from hemtra.storage.records.schema import VERDICTS

U = VALUES.index("u")
NAMESPACE = "http://qifstandards.org/xsd/qif3"
KINDS = {
    "mm": "UserDefinedLinear",
    "°": "UserDefinedAngular",
    "mm²": "UserDefinedArea",
}
"""Kind of characteristic by unit; all others have a unit of their own."""
TEXT, OTHER = "UserDefinedAttribute", "UserDefinedUnit"
UNITS = (
    ("AngularUnit", "radian", "degree", "0.017453292519943295"),
    ("AreaUnit", "square meter", "mm2", "0.000001"),
    ("LinearUnit", "meter", "mm", "0.001"),
    ("VolumeUnit", "cubic meter", "mm3", "0.000000001"),
)
WITH_A_PLACE = {"°", "mm²", "mm", "mm³"}
"""Units declared by `UNITS`, as rows have them."""
STATUS = {
    Verdict.PASS: "PASS",
    Verdict.FAIL: "FAIL",
    Verdict.NOT_MEASURED: "NOT_MEASURED",
    Verdict.NOT_PROVEN: "UNKNOWN",
}


def write_qif(walk: Walk, stream: IO[bytes]) -> None:
    """Write all parts of some lots."""
    _Writer(walk, stream).write()


class _Writer:
    """Writes elements one after the other, so that memory stays bounded."""

    def __init__(self, walk: Walk, stream: IO[bytes]) -> None:
        self._walk, self._stream = walk, stream
        self._pieces: list[str] = []
        self._ids = count(1)
        self._items: dict[int, tuple[str, int]] = {}
        """Kind of each characteristic, and the id of its item."""

    def write(self) -> None:
        rows, parts = self._walk.characteristics, self._walk.total
        # definition, nominal and item of each; of a part its component, its results and a measurement of each
        most = 3 * len(rows) + parts * (2 + len(rows)) + 1
        self._pieces.append('<?xml version="1.0" encoding="utf-8"?>\n')
        attributes = {"xmlns": NAMESPACE, "versionQIF": "3.0.0", "idMax": str(most)}
        with self._element("QIFDocument", **attributes):
            self._text("QPId", str(uuid.uuid4()))
            with self._element("Header"):
                with self._element("Application"):
                    self._text("Name", "Hemtra")
                    self._text("Organization", "Hemtra")
                self._text("Description", ", ".join(sorted({lot.plan for lot in self._walk.lots})))
            self._units()
            self._characteristics()
            self._results(parts)
        self._flush()

    def _units(self) -> None:
        with self._element("FileUnits"), self._element("PrimaryUnits"):
            for element, si, name, factor in UNITS:
                with self._element(element):
                    self._text("SIUnitName", si)
                    self._text("UnitName", name)
                    with self._element("UnitConversion"):
                        self._text("Factor", factor)
            # every unit that a value is in is declared; those without a place of their own by their name
            for unit in sorted({row.unit for row in self._walk.characteristics} - WITH_A_PLACE):
                name = unit or "one"
                with self._element("UserDefinedUnit"):
                    self._text("WhatIsMeasured", "ratio" if unit in ("%", "") else "quantity")
                    self._text("UnitName", name)

    def _characteristics(self) -> None:
        rows = self._walk.characteristics
        kinds = {row.id: self._kind(row) for row in rows}
        definitions = {row.id: next(self._ids) for row in rows}
        nominals = {row.id: next(self._ids) for row in rows}
        self._items = {row.id: (kinds[row.id], next(self._ids)) for row in rows}
        number = str(len(rows))
        with self._element("Characteristics"):
            with self._element("CharacteristicDefinitions", n=number):
                for row in rows:
                    name = f"{kinds[row.id]}CharacteristicDefinition"
                    with self._element(name, id=str(definitions[row.id])):
                        self._text("Name", row.name)
                        self._tolerance(row, kinds[row.id])
            with self._element("CharacteristicNominals", n=number):
                for row in rows:
                    name = f"{kinds[row.id]}CharacteristicNominal"
                    with self._element(name, id=str(nominals[row.id])):
                        self._text("CharacteristicDefinitionId", str(definitions[row.id]))
                        if row.nominal is not None and kinds[row.id] != TEXT:
                            self._text("TargetValue", decimal(row.nominal))
            with self._element("CharacteristicItems", n=number):
                for row in rows:
                    kind, key = self._items[row.id]
                    with self._element(f"{kind}CharacteristicItem", id=str(key)):
                        self._text("Description", f"balloon {row.balloon}")
                        self._text("Name", row.name)
                        with self._element("CharacteristicDesignator"):
                            self._text("Designator", str(row.balloon))
                        self._text("CharacteristicNominalId", str(nominals[row.id]))

    def _kind(self, row: Any) -> str:
        return TEXT if row.id in self._walk.texts else KINDS.get(row.unit, OTHER)

    def _tolerance(self, row: Any, kind: str) -> None:
        if kind == TEXT:
            return
        with self._element("Tolerance"):
            if row.upper is not None:
                self._text("MaxValue", decimal(row.upper))
            if row.lower is not None:
                self._text("MinValue", decimal(row.lower))
            self._text("DefinedAsLimit", "true")

    def _results(self, parts: int) -> None:
        with self._element("MeasurementsResults"), self._element("MeasurementResultsSet", n=str(parts)):
            for chunk in self._walk.chunks():
                found = self._measured(chunk)
                for row in chunk.rows:
                    self._part(row, found.get(row.id, []))
                    self._flush()

    def _measured(self, chunk: Chunk) -> dict[int, list[tuple[int, Any]]]:
        """Characteristics of each part, in balloon order."""
        found: dict[int, list[tuple[int, Any]]] = {}
        for key in self._items:
            for part, one in chunk.values(key).items():
                found.setdefault(part, []).append((key, one))
        return found

    def _part(self, row: Any, found: list[tuple[int, Any]]) -> None:
        taken = datetime.fromtimestamp(row.scanned, UTC).isoformat()
        element = self._element
        with element("MeasurementResults", id=str(next(self._ids))):
            with element("MeasuredCharacteristics"), element("CharacteristicMeasurements", n=str(len(found))):
                for key, one in found:
                    value, verdict, text, reason = one[:4]
                    self._measurement(key, value, verdict, text, reason, one[U])
            with element("ActualComponents", n="1"), element("ActualComponent", id=str(next(self._ids))):
                self._text("Description", f"part {row.number} of lot {row.lot}, scanned {taken}")
                self._text("SerialNumber", row.serial or f"{row.lot}/{row.number}")
                with element("Status"):
                    self._text("InspectionStatusEnum", STATUS[VERDICTS[row.verdict]])

    def _measurement(
        self,
        key: int,
        value: float | None,
        verdict: int,
        text: str | None,
        reason: str | None,
        u: float | None,
    ) -> None:
        kind, item = self._items[key]
        name = f"{kind}CharacteristicMeasurement"
        message = f"<Description>{_said(reason)}</Description>" if reason else ""
        given = ""
        if kind == TEXT and text:
            given = f"<Value>{_said(text)}</Value>"
        elif value is not None:
            known = "" if u is None else f' combinedUncertainty="{decimal(u)}"'
            given = f"<Value{known}>{decimal(value)}</Value>"
        # in one piece, since there are a great many of them
        self._pieces.append(
            f'<{name} id="{next(self._ids)}">{message}'
            f"<Status><CharacteristicStatusEnum>{STATUS[VERDICTS[verdict]]}</CharacteristicStatusEnum></Status>"
            f"<CharacteristicItemId>{item}</CharacteristicItemId>{given}</{name}>\n"
        )

    @contextmanager
    def _element(self, name: str, **attributes: str) -> Iterator[None]:
        message = "".join(f" {key}={quoteattr(value)}" for key, value in attributes.items())
        self._pieces.append(f"<{name}{message}>\n")
        yield
        self._pieces.append(f"</{name}>\n")

    def _text(self, name: str, text: str) -> None:
        self._pieces.append(f"<{name}>{_said(text)}</{name}>\n")

    def _flush(self) -> None:
        self._stream.write("".join(self._pieces).encode())
        self._pieces.clear()


def _said(text: str) -> str:
    """Replace what XML cannot hold, such as control characters of a misread code, by a gap."""
    return escape(text if text.isprintable() else "".join(ch if ch.isprintable() else " " for ch in text))
