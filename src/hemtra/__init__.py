"""Hemtra: set up, measure and inspect laser-profile scans of parts.

plan = hemtra.load_plan("cover.hplan")
scan = hemtra.load_scan("part-07.x3p")
result = hemtra.inspect(plan, scan)
print(result.verdict)
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from numpy.typing import ArrayLike

from hemtra.core.edits.draft import Feature, PlanDraft
from hemtra.core.errors import FileError, HemtraError, NotMeasured, PlanError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.limits import Verdict
from hemtra.core.zones.zone import EllipseZone, PathZone, PolygonZone, RectangleZone, RingZone
from hemtra.storage.plans import load_plan, save_plan
from hemtra.storage.scans import load_scan, save_scan

if TYPE_CHECKING:
    from hemtra.storage.records.reader import RecordsReader

__version__ = "0.1.0"
__all__ = [
    "Characteristic",
    "EllipseZone",
    "Feature",
    "FileError",
    "HeightMap",
    "HemtraError",
    "NotMeasured",
    "PathZone",
    "Plan",
    "PlanDraft",
    "PlanError",
    "PolygonZone",
    "RectangleZone",
    "Result",
    "RingZone",
    "Scan",
    "Step",
    "Verdict",
    "inspect",
    "load_plan",
    "load_scan",
    "plan",
    "records",
    "save_plan",
    "save_scan",
    "teach",
]


def inspect(
    plan: Plan, scan: Scan | HeightMap | ArrayLike, *, dx: float | None = None, dy: float | None = None
) -> Result:
    """Inspect one part: a scan, a height map, or an array (rows, cols) of mm with spacings in mm.

    Raises `PlanError` when the plan itself does not hold, and `HemtraError` for an array without spacings.
    """
    if isinstance(scan, Scan):
        return Engine(scan.data, scan.serial).run(plan)
    if not isinstance(scan, HeightMap):
        if dx is None or dy is None:
            raise HemtraError("An array does not say how far its points lie apart; give dx and dy in mm.")
        scan = HeightMap(scan, None, dx, dy)
    return Engine(scan).run(plan)


def plan(name: str) -> PlanDraft:
    """A plan to build step by step: every kind of step is a method of the draft."""
    return PlanDraft(name)


def records(url: str) -> RecordsReader:
    """Records to read: the address of a database, or the path of a SQLite file. Raises `FileError`."""
    from hemtra.storage.records.reader import RecordsReader  # loads databases

    return RecordsReader(url)


def teach(plan: Plan, reference: Scan | HeightMap) -> Plan:
    """The plan with what its steps are taught by the reference scan: contours, and where its anchors lie.

    Plans from files have been taught; one made by a script has not. Raises `PlanError`.
    """
    return Engine(reference.data if isinstance(reference, Scan) else reference).taught(plan)
