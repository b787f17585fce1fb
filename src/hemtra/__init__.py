"""Hemtra: set up, measure and judge laser-profile scans of parts.

plan = hemtra.load_plan("cover.hplan")
scan = hemtra.load_scan("part-07.x3p")
result = hemtra.inspect(plan, scan)
print(result.verdict)
"""

from hemtra.core.errors import FileError, HemtraError, NotMeasured, PlanError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.evaluation.results import Result
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.limits import Verdict
from hemtra.storage.plans import load_plan, save_plan
from hemtra.storage.scans import load_scan, save_scan

__version__ = "0.1.0"
__all__ = [
    "Characteristic",
    "FileError",
    "HeightMap",
    "HemtraError",
    "NotMeasured",
    "Plan",
    "PlanError",
    "Result",
    "Scan",
    "Step",
    "Verdict",
    "inspect",
    "load_plan",
    "load_scan",
    "save_plan",
    "save_scan",
    "teach",
]


def inspect(plan: Plan, scan: Scan | HeightMap) -> Result:
    """Measure and judge one part. Raises `PlanError` when the plan itself does not hold."""
    engine = Engine(scan.data, scan.serial) if isinstance(scan, Scan) else Engine(scan)
    return engine.run(plan)


def teach(plan: Plan, reference: Scan | HeightMap) -> Plan:
    """The plan with what its steps learn from the reference scan: contours, and where its anchors lie.

    Plans from files have been taught; one made by a script has not. Raises `PlanError`.
    """
    return Engine(reference.data if isinstance(reference, Scan) else reference).taught(plan)
