"""Documents whose fields say what they are, so that forms follow from them instead of being written by hand."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from inspect import get_annotations
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel, ConfigDict, Field


@dataclass(frozen=True)
class Setting:
    """A field as a form shows it."""

    label: str
    help: str
    unit: str
    choices: Mapping[str, str]
    value: Any


def setting(
    default: Any,
    label: str,
    help: str,
    *,
    unit: str = "",
    choices: Mapping[str, str] | None = None,
    when: Mapping[str, tuple[Any, ...]] | None = None,
    **bounds: Any,
) -> Any:
    """A field of a form: its default, label, unit and meaning; `bounds` as in `pydantic.Field`.

    choices: titles of values, where they are not called as they are; the values follow from the field's type.
    when: the values that other fields must have for this one to matter.
    """
    shown: dict[str, Any] = {"unit": unit, "choices": dict(choices or {}), "when": dict(when or {})}
    return Field(default, title=label, description=help, json_schema_extra=shown, **bounds)


class Form(BaseModel):
    """An immutable document with fields made by `setting`; others are not shown."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, defer_build=True)

    def shown_settings(self) -> dict[str, Setting]:
        """The fields that matter as the others stand, by name: a class's own ones before those it inherits."""
        found = {}
        fields = type(self).model_fields
        for name in _own_first(type(self), fields):
            field_info = fields[name]
            extra: Any = field_info.json_schema_extra
            if extra is None or any(
                getattr(self, other) not in values for other, values in extra["when"].items()
            ):
                continue
            found[name] = Setting(
                label=field_info.title or name,
                help=field_info.description or "",
                unit=extra["unit"],
                choices=_titled(field_info.annotation, extra["choices"]),
                value=getattr(self, name),
            )
        return found


def _titled(annotation: Any, titles: Mapping[str, str]) -> Mapping[str, str]:
    """Choices by value, each with its title."""
    if get_origin(annotation) is not Literal:
        return titles
    return {value: titles.get(value, value) for value in map(str, get_args(annotation))}


def _own_first(cls: type, names: Iterable[str]) -> list[str]:
    """The names in the order in which a class and then its bases declare them."""
    declared = [name for base in cls.__mro__ for name in get_annotations(base)]
    return sorted(names, key=declared.index)
