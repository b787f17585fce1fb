"""Registry of the kinds of step. A kind registers itself.

Its file only has to lie in one of three packages, or in any package that names its module as an entry point.
"""

from __future__ import annotations

import importlib
import logging
import pkgutil
from collections.abc import Mapping
from functools import cache
from importlib.metadata import entry_points
from types import MappingProxyType
from typing import TypeVar

from hemtra.core.errors import PlanError
from hemtra.core.plan.kind import Kind

K = TypeVar("K", bound=type[Kind])

_HOMES = ("hemtra.core.preparation", "hemtra.core.features", "hemtra.core.characteristics")
GROUP = "hemtra.kinds"
"""Entry points of other packages whose modules register kinds."""
log = logging.getLogger("hemtra")
_kinds: dict[str, type[Kind]] = {}


def register(cls: K) -> K:
    """Class decorator: make a kind known under its `kind`."""
    if cls.kind in _kinds and _kinds[cls.kind] is not cls:
        raise ValueError(f"two kinds are called {cls.kind!r}")
    _kinds[cls.kind] = cls
    return cls


@cache
def kinds() -> Mapping[str, type[Kind]]:
    """All kinds by name."""
    for home in _HOMES:
        package = importlib.import_module(home)
        for module in pkgutil.iter_modules(package.__path__):
            importlib.import_module(f"{home}.{module.name}")
    for entry in entry_points(group=GROUP):
        # a package of somebody else that makes kinds known: its module registers them
        try:
            entry.load()
        except Exception as error:  # nothing that is installed beside must keep plans from opening
            log.error("the kind %s of %s cannot be loaded: %s", entry.name, entry.value, error)
    return MappingProxyType(_kinds)


def kind_named(name: str) -> type[Kind]:
    """The kind of that name. Raises `PlanError` when there is none."""
    try:
        return kinds()[name]
    except KeyError:
        raise PlanError(f"“{name}” is not a kind of step; there are {', '.join(sorted(kinds()))}") from None
