"""Looking back: a million parts with 24 values each, and reports of a lot of 500."""

from __future__ import annotations

from itertools import cycle, islice
from pathlib import Path

import platformdirs
import pytest
from many_parts import BEGAN, many_parts

from hemtra.core.plan.limits import Verdict
from hemtra.core.statistics import statistics
from hemtra.runtime.feeds import Arrived
from hemtra.runtime.lot_reevaluation import reevaluate
from hemtra.runtime.reporting import report_lot, report_part
from hemtra.runtime.workers import evaluate
from hemtra.storage.exports import export
from hemtra.storage.records import Records
from hemtra.storage.records.pages import NOT_PASS, Filter, count, lot_views, page
from hemtra.storage.records.store import PartRecord
from hemtra.storage.records.trends import failures, trends
from hemtra.virtual.demo import STATION, demo_plan

LOT = 500
WANTED = {
    "everything": Filter(),
    "not passed": Filter(verdicts=NOT_PASS),
    "not measured": Filter(verdicts=(Verdict.NOT_MEASURED,)),
    "balloon": Filter(balloon=12),
    "balloon and verdict": Filter(balloon=12, verdicts=(Verdict.FAIL,)),
    "serial": Filter(serial="RPC-7 01234"),
    "any serial, not measured": Filter(serial="RPC", verdicts=(Verdict.NOT_MEASURED,)),
    "old days": Filter(since=BEGAN + 1e6, until=BEGAN + 2e6, verdicts=(Verdict.FAIL,), balloon=3),
    "revision": Filter(revision=1, verdicts=NOT_PASS),
    "one lot": Filter(lots=(6,), verdicts=(Verdict.FAIL,)),
    "some lots": Filter(lots=(3, 4, 5, 6)),
    "nothing": Filter(serial="nothing"),
}


@pytest.fixture(scope="module")
def million():
    """Made once, some minutes; 830 MB in the cache folder."""
    folder = Path(platformdirs.user_cache_dir("hemtra"))
    folder.mkdir(parents=True, exist_ok=True)
    records = Records(str(many_parts(folder / "many-parts.db")))
    yield records
    records.close()


@pytest.fixture(scope="module")
def lot_of_500(demo_folder, tmp_path_factory):
    """Parts of the demo's tray over and over, three of four fail; their scans are there."""
    records, plan = Records(str(tmp_path_factory.mktemp("lot") / "records.db")), demo_plan()
    paths = sorted((demo_folder / "tray").glob("*.x3p"))
    found = [evaluate(plan, Arrived(str(path), 1.0, 1.0, path=path), False) for path in paths]
    lot, revision, station = (
        records.open_lot(plan.name, "500"),
        records.revision(plan),
        records.station(STATION),
    )
    parts = [
        PartRecord(
            number,
            one.verdict,
            one.reason,
            one.serial,
            one.rows,
            1.0,
            2.0,
            3.0,
            one.elapsed_ms,
            source=str(path),
        )
        for number, (path, one) in enumerate(islice(cycle(zip(paths, found, strict=True)), LOT), start=1)
    ]
    records.add_all(lot, parts, revision, station)
    yield records, lot
    records.close()


@pytest.mark.parametrize("wanted", WANTED.values(), ids=WANTED)
def test_filtered_page(benchmark, million, wanted):
    """150 ms."""
    benchmark(page, million, wanted)


@pytest.mark.parametrize("name", ["everything", "not passed", "balloon"])
def test_count_of_wanted_parts(benchmark, million, name):
    benchmark(count, million, WANTED[name])


def test_lots_with_their_counts(benchmark, million):
    benchmark(lot_views, million)


def test_trend_with_statistics(benchmark, million):
    """Of a million parts, 1 s."""
    lots = million.all_lots()

    def follow():
        return [statistics(t.values, t.lower, t.upper) for t in trends(million, lots, 8)]

    (found,) = benchmark.pedantic(follow, rounds=5)
    assert found.count + found.missing == 1_000_000


def test_failures_by_balloon(benchmark, million):
    lots = million.all_lots()
    benchmark.pedantic(failures, (million, lots), rounds=3)


def test_export_of_a_million_parts(benchmark, million, tmp_path):
    """As a table, 180 s."""
    assert benchmark.pedantic(export, (million, tmp_path / "all.csv"), rounds=1)


def test_report_of_a_lot(benchmark, lot_of_500, tmp_path):
    """Of 500 parts, 10 s."""
    benchmark.pedantic(report_lot, (*lot_of_500, tmp_path / "lot.pdf"), rounds=3, warmup_rounds=1)


def test_report_of_a_part(benchmark, lot_of_500, tmp_path):
    """0.7 s."""
    records, lot = lot_of_500
    (bad,) = page(records, Filter(lots=(lot.id,), verdicts=(Verdict.FAIL,)), most=1).parts
    benchmark.pedantic(report_part, (records, bad.id, tmp_path / "part.pdf"), rounds=5, warmup_rounds=1)


def test_a_lot_evaluated_by_other_limits(benchmark, million):
    """50 000 parts from their values."""
    plan, lot = demo_plan(), million.all_lots()[0]
    row = plan.characteristic(1)
    other = plan.with_characteristic(row.edited(upper=4.05))
    benchmark.pedantic(reevaluate, (million, lot, other, lambda done, of, what: True), rounds=1)
