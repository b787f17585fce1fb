"""Work of the Records workspace's lanes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from hemtra.core.plan.limits import Verdict
from hemtra.core.statistics import Blocks, bins_of, statistics
from hemtra.desktop.background.latest_task import Superseded
from hemtra.desktop.models.records_bench import CharacteristicTrend, Overview, TrendSeries
from hemtra.storage.records import Records
from hemtra.storage.records.pages import Filter, Page, count, page, revisions_of
from hemtra.storage.records.store import Lot
from hemtra.storage.records.trends import Trend, failures, not_passed, over_all, texts, trends

BINS = 36
"""Bars of a histogram."""
FEW_ENOUGH = 500_000
"""Values of which the range of a scale is taken; of more, every so manyth."""


@dataclass(frozen=True)
class PartsRequest:
    """A page of parts, the first or what comes after another."""

    records: Records
    wanted: Filter
    after: tuple[float, int] | None = None


@dataclass(frozen=True)
class LotsRequest:
    """Content of some lots."""

    records: Records
    lots: tuple[Lot, ...]


@dataclass(frozen=True)
class TrendRequest:
    """A characteristic over some lots."""

    records: Records
    lots: tuple[Lot, ...]
    balloon: int


def find_parts(request: PartsRequest, superseded: Superseded) -> Iterator[Page | int]:
    """The page, and with the first one how many parts there are."""
    yield page(request.records, request.wanted, request.after)
    if request.after is None and not superseded():
        yield count(request.records, request.wanted)


def lot_overview(request: LotsRequest, superseded: Superseded) -> Iterator[Overview]:
    """Failures, and the plan revisions used."""
    keys = [lot.id for lot in request.lots]
    yield Overview(tuple(failures(request.records, request.lots)), tuple(revisions_of(request.records, keys)))


def follow(request: TrendRequest, superseded: Superseded) -> Iterator[CharacteristicTrend]:
    """Values, statistics and verdicts."""
    records, lots, balloon = request.records, request.lots, request.balloon
    found = trends(records, lots, balloon)
    numbers = [trend for trend in found if not trend.reads]
    if superseded():
        return
    span = span_of(numbers)
    series = []
    for trend in numbers:
        known = trend.values[~np.isnan(trend.values)]
        stats = statistics(trend.values, trend.lower, trend.upper, trend.gauge)
        series.append(TrendSeries(trend, stats, Blocks.of(trend.values), bins_of(known, BINS, span)))
        if superseded():
            return
    read = texts(records, lots, balloon) if any(trend.reads for trend in found) else None
    total = sum(trend.values.size for trend in found)
    bad = not_passed(records, lots, balloon)
    reasons = (bad.get(verdict, 0) for verdict in (Verdict.FAIL, Verdict.NOT_MEASURED, Verdict.NOT_PROVEN))
    verdict = over_all(*reasons) if total else Verdict.NOT_MEASURED
    yield CharacteristicTrend(balloon, tuple(series), total, sum(bad.values()), verdict, read, span)


def span_of(trends: Sequence[Trend]) -> tuple[float, float]:
    """Range of the scale: limits and nearly all values, so that one outlier does not flatten the rest."""
    ends = [limit for trend in trends for limit in (trend.lower, trend.upper) if limit is not None]
    for trend in trends:
        known = trend.values[:: max(trend.values.size // FEW_ENOUGH, 1)]
        known = known[~np.isnan(known)]
        if known.size:
            ends += np.percentile(known, [0.2, 99.8]).tolist()
    low, high = (min(ends), max(ends)) if ends else (0.0, 1.0)
    room = 0.08 * (high - low) or 0.1
    return low - room, high + room
