"""Requirement lists from files: tables as text, and characteristics of QIF 3.0 documents."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

from hemtra.core.errors import FileError, PlanError
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.requirements import MOST_ROWS, RequirementTable, read_table, without_doubles
from hemtra.storage.files import opened, parsed_xml

LARGEST = 16 * 1024**2
"""Largest size of a requirement list, bytes."""
QIF = (".qif", ".xml")
_LINEAR = {"mm": "mm", "millimeter": "mm", "millimetre": "mm", "in": "in", "inch": "in", "m": "m", "meter": "m"}
"""Names that documents have for units of length."""


def read_requirements(path: Path) -> RequirementTable | tuple[Characteristic, ...]:
    """A table whose columns may have to be requested, or the rows of a QIF document.

    Raises `FileError` or `PlanError`.
    """
    with opened(path) as stream:
        raw = stream.read(LARGEST + 1)
    if len(raw) > LARGEST:
        raise FileError(f"{path.name} is larger than the {LARGEST // 1024**2} MiB such a list may have.")
    if path.suffix.lower() in QIF:
        return _of_qif(
            parsed_xml(raw, f"{path.name} is no QIF document; it is damaged or something else."), path.name
        )
    return read_table(text_of(raw, path.name))


def text_of(raw: bytes, name: str) -> str:
    """The text of a file, whatever of the usual ways its letters are written in."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        ways: tuple[str, ...] = ("utf-16",)
    else:
        # what is no UTF-8 is what office programs of western languages write
        ways = ("utf-8-sig", "cp1252")
    if b"\0" not in raw or ways == ("utf-16",):
        for way in ways:
            try:
                return raw.decode(way)
            except UnicodeDecodeError:
                continue
    raise FileError(f"{name} is not text; save the list as CSV and choose that.")


def _of_qif(root: ElementTree.Element, name: str) -> tuple[Characteristic, ...]:
    """The characteristic items of a document, with the nominals and tolerances these point at (ISO 23952)."""
    all_of = {id_: each for each in root.iter() if (id_ := each.get("id")) is not None}
    linear = _LINEAR.get(_unit_name(root, "LinearUnit"), "mm")
    angular = "rad" if _unit_name(root, "AngularUnit") in ("rad", "radian") else "°"
    found: list[Characteristic] = []
    for item in (each for each in root.iter() if _tag(each).endswith("CharacteristicItem")):
        if len(found) >= MOST_ROWS:
            raise PlanError(f"{name} has more than {MOST_ROWS} characteristics.")
        kind = _tag(item).removesuffix("CharacteristicItem")
        nominal = all_of.get(_said(item, "CharacteristicNominalId"))
        definition = None if nominal is None else all_of.get(_said(nominal, "CharacteristicDefinitionId"))
        target = None if nominal is None else _number(_said(nominal, "TargetValue"))
        lower, upper = _limits(definition, target)
        if lower is None and upper is None:
            continue
        designator = _said(item, "Designator") or _said(item, "Name")
        title = _said(item, "Name") or designator
        try:
            balloon = Balloon.parse(designator)
        except ValueError:
            balloon = Balloon(len(found) + 1)
        try:
            found.append(
                Characteristic(
                    balloon=balloon,
                    name=title,
                    nominal=target,
                    lower=lower,
                    upper=upper,
                    unit=_unit(kind, linear, angular),
                )
            )
        except ValueError:
            raise PlanError(f"{name}: the limits or the name of “{title}” do not hold.") from None
    if not found:
        raise PlanError(f"{name} holds no characteristics with tolerances.")
    return without_doubles(found)


def _limits(definition: ElementTree.Element | None, target: float | None) -> tuple[float | None, float | None]:
    tolerance = None if definition is None else next((e for e in definition if _tag(e) == "Tolerance"), None)
    if tolerance is None:
        return None, None
    lower, upper = _number(_said(tolerance, "MinValue")), _number(_said(tolerance, "MaxValue"))
    if _said(tolerance, "DefinedAsLimit").strip().lower() in ("true", "1") or target is None:
        return lower, upper
    return (None if lower is None else target + lower), (None if upper is None else target + upper)


def _unit(kind: str, linear: str, angular: str) -> str:
    """The unit of a kind of characteristic; '' where it is one of its own."""
    if "Ang" in kind:
        return angular
    if "Area" in kind:
        return "mm²"
    return "" if kind.startswith("UserDefined") and "Linear" not in kind else linear


def _unit_name(root: ElementTree.Element, tag: str) -> str:
    """The name a document gives one of its units; '' where it gives none."""
    said = (_said(each, "UnitName") or _said(each, "SIUnitName") for each in root.iter() if _tag(each) == tag)
    return next(said, "").lower()


def _tag(element: ElementTree.Element) -> str:
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""


def _said(element: ElementTree.Element, tag: str) -> str:
    return next((each.text or "" for each in element.iter() if _tag(each) == tag), "").strip()


def _number(text: str) -> float | None:
    try:
        return float(text) if text else None
    except ValueError:
        return None
