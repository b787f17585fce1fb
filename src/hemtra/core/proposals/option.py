"""Characteristics a drawing can require, with their clicks; each stands at the function proposing it."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal, TypeVar

F = TypeVar("F", bound=Callable[..., Any])

HOME = "hemtra.core.proposals"
GROUPS = (
    *("Heights", "Sizes", "Form", "Along a path", "Places", "Surfaces", "Other"),
    *("Points", "Lines", "Planes", "Circles and frames", "Values"),
)
"""Groups in the order in which they are offered."""
COUNTED = ("", ": one click", ": two clicks")


@dataclass(frozen=True)
class Option:
    """A characteristic that a drawing can require."""

    id: str
    name: str
    key: str
    """The letter that chooses it."""
    meaning: str
    group: str
    propose: Callable[..., Any]
    """Takes the plan, the engine of the part and the places clicked; on profiles an `OnProfile` and those."""
    clicks: tuple[str, ...] = ()
    """Prompts of the clicks, in order."""
    more: Literal["", "spots", "path", "traced"] = ""
    """Whether clicks continue until Enter, and what they are: spots, or nodes of a path, “traced” or not."""
    printed: bool = False
    """Whether it can be asked to take printed edges first."""
    on: tuple[str, ...] = ("map",)
    """Whether it is clicked on the map of a whole part, on one “profile” of a sequence, or made of other
    “features”, each clicked on the map or named by its id."""
    wants: tuple[type, ...] = ()
    """Types of the features it is made of; further ones have the type of the last."""
    least: int = 1
    """Minimum number of clicks where they continue until Enter."""

    @property
    def help(self) -> str:
        """A sentence on it."""
        words = ": clicks, then Enter" if self.more else COUNTED[len(self.clicks)]
        return f"{self.meaning[:1].upper()}{self.meaning[1:]}{words}."


_options: dict[str, Option] = {}


def option(id: str, name: str, key: str, meaning: str, group: str, **more: Any) -> Callable[[F], F]:
    """Decorator: offer what a function proposes. The arguments are the fields of `Option`."""

    def offered(propose: F) -> F:
        if id in _options:
            raise ValueError(f"two options are called {id!r}")
        _options[id] = Option(id, name, key, meaning, group, propose, **more)
        return propose

    return offered


@cache
def options(on: Literal["map", "profile", "features"]) -> tuple[Option, ...]:
    """All that can be requested there, by group; the file of one only has to lie in this package."""
    for module in pkgutil.iter_modules(importlib.import_module(HOME).__path__):
        importlib.import_module(f"{HOME}.{module.name}")
    return tuple(sorted((o for o in _options.values() if on in o.on), key=lambda o: GROUPS.index(o.group)))
