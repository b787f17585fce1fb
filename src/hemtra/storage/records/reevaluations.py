"""Re-evaluations on record: who had which lot evaluated by which plan, what came of it, and checkpoints."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, insert, select, update

from hemtra.core.plan.document import Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.text import plain
from hemtra.storage.records.schema import reevaluated_parts, reevaluations
from hemtra.storage.records.store import Lot, Records, key_of


@dataclass(frozen=True)
class KeptReevaluation:
    """One that was begun. began, ended: s since 1970; ended and result None while it is under way or stopped.

    digest: of the plan. result: what came of it, as JSON has it.
    """

    id: int
    lot_id: int
    lot: str
    plan: str
    digest: str
    author: str
    began: float
    ended: float | None
    result: Mapping[str, Any] | None


def digest_of(plan: Plan) -> str:
    """SHA-256 of all that a plan says, and of how its kinds measure."""
    how = sorted({f"{step.kind} {kind_named(step.kind).revision}" for step in plan.steps})
    return hashlib.sha256("\n".join([plan.model_dump_json(), *how]).encode()).hexdigest()


def begin(records: Records, lot: Lot, plan: Plan, author: str) -> tuple[int, dict[int, Any]]:
    """Key of a new re-evaluation, or of one that was stopped, and what it found by the key of the part.

    Raises `RecordsError`.
    """
    digest = digest_of(plan)
    with records.writing() as db:
        r = reevaluations.c
        same = r.lot_id == lot.id, r.lot == lot.name, r.digest == digest, r.ended.is_(None)
        key = db.execute(select(r.id).where(*same)).scalar()
        if key is None:
            row = {
                "lot_id": lot.id,
                "lot": lot.name,
                "plan": plan.name,
                "digest": digest,
                "author": plain(author, 120),
                "began": time.time(),
            }
            return key_of(db.execute(insert(reevaluations).values(row))), {}
        of_it = reevaluated_parts.c.reevaluation_id == key
        columns = reevaluated_parts.c.part_id, reevaluated_parts.c.result
        return int(key), {part: json.loads(text) for part, text in db.execute(select(*columns).where(of_it))}


def checkpoint(records: Records, key: int, found: Mapping[int, Any]) -> None:
    """Keep the outcomes of some more parts, by their keys. Raises `RecordsError`."""
    rows = [
        {"reevaluation_id": key, "part_id": part, "result": json.dumps(one, ensure_ascii=False)}
        for part, one in found.items()
    ]
    if rows:
        own = reevaluated_parts.c.reevaluation_id == key
        with records.writing() as db:
            # somebody else may have continued the same one
            db.execute(delete(reevaluated_parts).where(own, reevaluated_parts.c.part_id.in_(found)))
            db.execute(insert(reevaluated_parts), rows)


def finish(records: Records, key: int, result: Mapping[str, Any]) -> None:
    """Keep what came of all of it, in place of its checkpoints. Raises `RecordsError`."""
    text = json.dumps(result, ensure_ascii=False)
    with records.writing() as db:
        own = reevaluations.c.id == key
        db.execute(update(reevaluations).where(own).values(ended=time.time(), result=text))
        db.execute(delete(reevaluated_parts).where(reevaluated_parts.c.reevaluation_id == key))


def kept(records: Records, known: Mapping[int, KeptReevaluation] | None = None) -> list[KeptReevaluation]:
    """All that were begun, the newest first. Raises `RecordsError`.

    known: those with a result from the last time, by their keys, whose results are not read again.
    """
    known = known or {}
    r = reevaluations.c
    with records.reading() as db:
        rows = db.execute(
            select(r.id, r.lot_id, r.lot, r.plan, r.digest, r.author, r.began, r.ended).order_by(r.id.desc())
        ).mappings()
        found = list(rows)
        new = [row["id"] for row in found if row["ended"] is not None and row["id"] not in known]
        query = select(r.id, r.result).where(r.id.in_(new))
        results = {key: json.loads(text) for key, text in db.execute(query)}
    return [known.get(row["id"]) or KeptReevaluation(**row, result=results.get(row["id"])) for row in found]
