"""Which workspaces there are: every folder of the desktop that holds an `entry`."""

from __future__ import annotations

import importlib
import pkgutil
from functools import cache
from importlib.util import find_spec

import hemtra.desktop
from hemtra.desktop.documents.workspace import Workspace


@cache
def workspaces() -> tuple[type[Workspace], ...]:
    """Their classes, in the order of their tabs."""
    home = hemtra.desktop.__name__
    packages = [m.name for m in pkgutil.iter_modules(hemtra.desktop.__path__) if m.ispkg]
    entries = [f"{home}.{name}.entry" for name in packages if find_spec(f"{home}.{name}.entry")]
    found: list[type[Workspace]] = [importlib.import_module(entry).WORKSPACE for entry in entries]
    return tuple(sorted(found, key=lambda workspace: workspace.order))
