"""State of the Records workspace: lots, filtered parts, and one characteristic over many parts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from hemtra.core.arrays import IntArray
from hemtra.core.plan.limits import Verdict
from hemtra.core.statistics import Blocks, Statistics
from hemtra.core.units import LengthUnit
from hemtra.desktop.models.observe import Signal
from hemtra.storage.records.pages import Filter, LotView, Page, Revision
from hemtra.storage.records.store import Counts, Lot, PartRecord
from hemtra.storage.records.trends import Failures, Texts, Trend


@dataclass(frozen=True)
class Group:
    """All lots of one plan, newest first."""

    plan: str
    lots: tuple[LotView, ...]

    @property
    def counts(self) -> Counts:
        """Counts of all their parts."""
        found = [view.counts for view in self.lots]
        return Counts(sum(c.passed for c in found), sum(c.failed for c in found), sum(c.missing for c in found))


@dataclass(frozen=True)
class Overview:
    """Content of the chosen lots."""

    failures: tuple[Failures, ...] = ()
    revisions: tuple[Revision, ...] = ()


@dataclass(frozen=True)
class TrendSeries:
    """A characteristic under one set of limits, with its statistics and what is painted of all its values.

    bins: (k,) how many values lie in each part of the span of all series.
    """

    trend: Trend
    statistics: Statistics
    blocks: Blocks
    bins: IntArray

    def in_unit(self, unit: LengthUnit) -> TrendSeries:
        """The same with its numbers in another unit, where they are lengths."""
        factor = 1.0 / unit.factor(self.trend.unit)
        if factor == 1.0:
            return self
        return replace(
            self,
            trend=self.trend.in_unit(unit),
            statistics=self.statistics.scaled(factor),
            blocks=self.blocks.scaled(factor),
        )


@dataclass(frozen=True)
class CharacteristicTrend:
    """A characteristic over the parts of the chosen lots; texts where it has no numbers.

    total: parts that it was evaluated on. bad: of these, how many do not pass it. verdict: of all of them.
    """

    balloon: int
    series: tuple[TrendSeries, ...]
    total: int
    bad: int
    verdict: Verdict
    texts: Texts | None = None
    span: tuple[float, float] = (0.0, 1.0)
    """Range of the scale of all series."""

    def in_unit(self, unit: LengthUnit) -> CharacteristicTrend:
        """The same with its numbers in another unit, where they are lengths."""
        factor = unit.factor(self.series[0].trend.unit) if self.series else 1.0
        low, high = self.span
        return replace(
            self,
            series=tuple(one.in_unit(unit) for one in self.series),
            span=(low / factor, high / factor),
        )


class RecordsBench:
    """Model of the Records workspace; `*_wanted` announce what is requested anew."""

    def __init__(self) -> None:
        self.lots_changed, self.parts_changed = Signal(), Signal()
        self.overview_changed, self.trend_changed = Signal(), Signal()
        self.parts_wanted, self.overview_wanted, self.trend_wanted = Signal(), Signal(), Signal()
        self.groups: tuple[Group, ...] = ()
        self.chosen: tuple[int, ...] = ()
        """Keys of the chosen lots."""
        self.filter = Filter()
        self.parts: list[PartRecord] = []
        self.more: tuple[float, int] | None = None
        self.total: int | None = None
        """Parts that are wanted, once they are counted."""
        self.overview = Overview()
        self.balloon: int | None = None
        self.trend: CharacteristicTrend | None = None

    @property
    def lots(self) -> list[Lot]:
        """The chosen lots, newest first."""
        return [view.lot for group in self.groups for view in group.lots if view.lot.id in self.chosen]

    @property
    def lot(self) -> Lot | None:
        """The chosen lot, where it is one."""
        found = self.lots
        return found[0] if len(found) == 1 else None

    @property
    def counts(self) -> Counts:
        """Counts of all parts in the chosen lots."""
        views = [view for group in self.groups for view in group.lots if view.lot.id in self.chosen]
        return Group("", tuple(views)).counts

    def lot_name(self, key: int) -> str:
        """The name of a lot by its key."""
        known = (v.lot.name for g in self.groups for v in g.lots if v.lot.id == key)
        return next(known, "")

    def take_lots(self, views: Iterable[LotView]) -> None:
        """Update the list of lots; the newest is chosen where none is."""
        plans: dict[str, list[LotView]] = {}
        for view in views:
            plans.setdefault(view.lot.plan, []).append(view)
        self.groups = tuple(Group(plan, tuple(found)) for plan, found in plans.items())
        there = {view.lot.id for group in self.groups for view in group.lots}
        kept = tuple(key for key in self.chosen if key in there)
        self.lots_changed.emit()
        if not kept and self.groups:
            kept = tuple(view.lot.id for view in self.groups[0].lots)
        self.choose(kept)

    def choose(self, keys: tuple[int, ...]) -> None:
        """Show some lots."""
        self.chosen = keys
        everything = sum(len(group.lots) for group in self.groups)
        # all of them is no condition, which is answered soonest
        self.filter = replace(self.filter, lots=() if len(keys) == everything else keys, revision=None)
        self.lots_changed.emit()
        self.overview_wanted.emit()
        self.trend_wanted.emit()
        self._ask_parts()

    def narrow(self, wanted: Filter) -> None:
        """Want other parts of the chosen lots."""
        wanted = replace(wanted, lots=self.filter.lots)
        if wanted != self.filter:
            self.filter = wanted
            self._ask_parts()

    def _ask_parts(self) -> None:
        self.total = None
        self.parts_wanted.emit()

    def take_page(self, wanted: Filter, page: Page, *, first: bool) -> None:
        """A page of parts has come."""
        if wanted != self.filter:
            return
        self.parts = list(page.parts) if first else [*self.parts, *page.parts]
        self.more = page.more
        self.parts_changed.emit()

    def take_total(self, wanted: Filter, total: int) -> None:
        """The parts are counted."""
        if wanted == self.filter:
            self.total = total
            self.parts_changed.emit()

    def take_overview(self, overview: Overview) -> None:
        """Update the content of the chosen lots; the most failed characteristic is shown by default."""
        self.overview = overview
        known = [row.balloon for row in overview.failures]
        if self.balloon not in known:
            self.balloon = known[0] if known else None
            self.trend_wanted.emit()
        self.overview_changed.emit()

    def look_at(self, balloon: int) -> None:
        """Show a characteristic."""
        if balloon != self.balloon:
            self.balloon = balloon
            self.overview_changed.emit()
            self.trend_wanted.emit()

    def take_trend(self, trend: CharacteristicTrend | None) -> None:
        """The characteristic over the chosen lots."""
        self.trend = trend
        self.trend_changed.emit()
