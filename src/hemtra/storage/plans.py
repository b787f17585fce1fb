"""Plan files: `.hplan`, a zip of plan.json and the reference scan."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from hemtra.core.errors import FileError, PlanError
from hemtra.core.evaluation.known_to import without_old_budgets
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import SCHEMA, Plan
from hemtra.core.plan.graph import ordered
from hemtra.storage import x3p
from hemtra.storage.container import Container, open_container
from hemtra.storage.files import atomic_write, parsed_json
from hemtra.storage.plan_migrations import MIGRATIONS
from hemtra.storage.revisions import kept_in, revision_document, with_revision, write_revisions

DOCUMENT, REFERENCE, NOMINAL = "plan.json", "reference.x3p", "nominal.x3p"
LARGEST_DOCUMENT = 16 * 1024**2
LARGEST_REFERENCE = 2 * 1024**3


@dataclass(frozen=True)
class PlanFile:
    """Content of a plan file."""

    plan: Plan
    reference: Scan | None


def load_plan(path: str | Path, revision: int | None = None) -> Plan:
    """Read a plan without its reference scan, as it is or as it was in a revision.

    Raises `FileError` or `PlanError` in the user's words.
    """
    path = Path(path)
    with open_container(path) as container:
        if revision is None:
            return without_old_budgets(_document(container))
        source = f"{path.name}, revision {revision}"
        return from_json(revision_document(container, revision, LARGEST_DOCUMENT), source)


def load_plan_file(path: str | Path) -> PlanFile:
    """Read a plan with its reference scan. Raises `FileError` or `PlanError` in the user's words."""
    path = Path(path)
    with open_container(path) as container:
        plan = without_old_budgets(_document(container))
        if plan.nominal is not None and container.has(NOMINAL):
            plan = plan.edited(
                nominal=plan.nominal.with_data(_scan_in(container, NOMINAL, "nominal surface").data)
            )
        if not container.has(REFERENCE):
            return PlanFile(plan, None)
        return PlanFile(plan, _scan_in(container, REFERENCE, "reference scan"))


def save_plan(
    plan: Plan,
    path: str | Path,
    reference: Scan | None = None,
    *,
    comment: str = "",
    before: str | Path | None = None,
) -> None:
    """Save atomically, as one more revision. Raises `FileError`; what stood there before is untouched then.

    comment: what has changed, for people. before: the file whose revisions it continues from, `path` itself
    by default.
    """
    path, source = Path(path), Path(before or path)
    document = to_json(plan).encode()
    kept = with_revision(kept_in(source, LARGEST_DOCUMENT), document, comment)
    surface = _surface(plan, source)
    with atomic_write(path) as stream, zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(DOCUMENT, document, compress_type=zipfile.ZIP_DEFLATED)
        write_revisions(kept, archive)
        for name, scan in ((REFERENCE, reference), (NOMINAL, surface)):
            if scan is None:
                continue
            inner = io.BytesIO()
            with zipfile.ZipFile(inner, "w", zipfile.ZIP_STORED) as nested:
                x3p.write_records(scan, nested)
            archive.writestr(name, inner.getbuffer())


def _surface(plan: Plan, before: Path) -> Scan | None:
    """The nominal surface of a plan as it is kept; where it is not at hand, that of the file before."""
    if plan.nominal is None:
        return None
    data = plan.nominal.data
    if data is None and before.is_file():
        found = load_plan_file(before).plan.nominal
        data = found.data if found is not None and found.digest == plan.nominal.digest else None
    return None if data is None else Scan(data, plan.nominal.name)


def to_json(plan: Plan) -> str:
    """The document as text: sorted, one step a block, so that two plans can be compared line by line."""
    return json.dumps(plan.model_dump(mode="json", by_alias=True), indent=1, sort_keys=True, ensure_ascii=False)


def from_json(text: str | bytes, source: str) -> Plan:
    """The plan in a text, migrated and checked. Raises `PlanError` that names `source` and the place in it."""
    try:
        content = parsed_json(text, f"{source} is damaged: its {DOCUMENT} is not JSON.")
    except FileError as error:
        raise PlanError(str(error)) from None
    if not isinstance(content, dict) or not isinstance(content.get("schema"), int):
        raise PlanError(f"{source} is no plan: its {DOCUMENT} names no schema.")
    if content["schema"] > SCHEMA:
        raise PlanError(
            f"{source} was written by a newer Hemtra (schema {content['schema']}, known is {SCHEMA});"
            " update Hemtra to open it."
        )
    try:
        while content["schema"] < SCHEMA and content["schema"] in MIGRATIONS:
            content = MIGRATIONS[content["schema"]](content)
    except (KeyError, TypeError, AttributeError, ValueError):
        raise PlanError(f"{source} is damaged: its steps or rows cannot be read.") from None
    try:
        plan = Plan.model_validate(content)
        ordered(plan)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = " › ".join(str(part) for part in first["loc"]) or "the plan"
        message = first["msg"].removeprefix("Value error, ")
        raise PlanError(f"{source} cannot be used, at {where}: {message}.") from None
    except PlanError as error:
        raise PlanError(f"{source} cannot be used. {error}") from None
    return plan


def _document(container: Container) -> Plan:
    return from_json(container.read(DOCUMENT, LARGEST_DOCUMENT), container.path.name)


def _scan_in(container: Container, name: str, what: str) -> Scan:
    content = container.read(name, LARGEST_REFERENCE)
    try:
        return x3p.read_stream(io.BytesIO(content), Path(name))
    except FileError as error:
        raise FileError(f"{container.path.name}, its {what}: {error}") from error
