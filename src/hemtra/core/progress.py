"""Progress of long work."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

Progress: TypeAlias = Callable[[int, int, str], bool]
"""Called with how many of how many are done and what comes next; answers whether to continue."""
