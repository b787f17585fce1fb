"""Lanes: values of many profiles at once, as one value whose numbers are arrays, one entry a profile.

A `Point` of 2000 profiles is one `Point` with x, y and z of (2000,). What only adds, multiplies and takes roots
by NumPy computes on lanes as it does on single values, so each number has one definition.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields, is_dataclass, replace
from operator import attrgetter
from typing import Any

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray


def single(lanes: Any, k: int) -> Any:
    """The value in the k-th lane."""
    return type(lanes)(**{f.name: _single(getattr(lanes, f.name), k) for f in fields(lanes)})


def _single(part: Any, k: int) -> Any:
    if isinstance(part, np.ndarray):
        return float(part[k])
    return single(part, k) if is_dataclass(part) and not isinstance(part, type) else part


def numbers(lanes: Any, names: Sequence[str], count: int) -> FloatArray:
    """(count, names) attributes of the values in all lanes, what is the same in all of them repeated."""
    columns = (attrgetter(name)(lanes) for name in names)
    return np.column_stack([np.broadcast_to(np.asarray(column, np.float64), count) for column in columns])


def without(lanes: Any, where: BoolArray) -> Any:
    """The same with NaN in some lanes, for which nothing stands there."""
    if not where.any():
        return lanes
    changed = {}
    for f in fields(lanes):
        part = getattr(lanes, f.name)
        if isinstance(part, np.ndarray):
            changed[f.name] = np.where(where, np.nan, part)
        elif is_dataclass(part) and not isinstance(part, type):
            changed[f.name] = without(part, where)
    return replace(lanes, **changed)
