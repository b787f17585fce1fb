"""Agreement of verdicts: of operators or poses with each other, and with what is known of the parts.

Cohen's kappa for two (1960), Fleiss' kappa for more (1971).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hemtra.core.errors import HemtraError


@dataclass(frozen=True)
class Agreement:
    """Shares from 0 to 1. kappa: agreement beyond chance, 1 in all, 0 none; None where all is of one sort.

    missed, refused: bad parts that were passed, and good ones that were not; None where nothing is known.
    """

    share: float
    kappa: float | None
    missed: float | None = None
    refused: float | None = None


def between(verdicts: Sequence[Sequence[str]]) -> Agreement:
    """Agreement of several operators on the same parts: verdicts[k][i] is operator k on part i."""
    table = _table(verdicts)
    evaluates, parts = table.shape
    if evaluates < 2:
        raise HemtraError("Agreement needs two operators or more.")
    sorts = np.unique(table)
    counts = np.array([[np.count_nonzero(table[:, i] == sort) for sort in sorts] for i in range(parts)])
    agreeing = (counts**2).sum(axis=1) - evaluates
    share = float(np.mean(counts.max(axis=1) == evaluates))
    observed = float(agreeing.mean() / (evaluates * (evaluates - 1)))
    if evaluates == 2:
        each = [np.array([np.mean(row == sort) for sort in sorts]) for row in table]
        chance = float(each[0] @ each[1])
    else:
        chance = float(((counts.sum(axis=0) / (evaluates * parts)) ** 2).sum())
    return Agreement(share, None if chance >= 1.0 else (observed - chance) / (1.0 - chance))


def with_tags(verdicts: Sequence[str], is_good: Sequence[bool], passes: str = "PASS") -> Agreement:
    """Agreement of one operator with the known state; any verdict but PASS counts as refused."""
    passed = np.array([verdict == passes for verdict in verdicts])
    good = np.array(is_good, np.bool_)
    if passed.size != good.size or not passed.size:
        raise HemtraError("Each part needs a verdict and a tag.")
    both = between([[str(v) for v in passed], [str(v) for v in good]])
    missed = float(np.mean(passed[~good])) if (~good).any() else None
    refused = float(np.mean(~passed[good])) if good.any() else None
    return Agreement(both.share, both.kappa, missed, refused)


def _table(verdicts: Sequence[Sequence[str]]) -> np.ndarray:
    lengths = {len(row) for row in verdicts}
    if len(lengths) != 1 or 0 in lengths:
        raise HemtraError("All appraisers must have rated the same parts.")
    return np.array([list(row) for row in verdicts], dtype=object).astype(str)
