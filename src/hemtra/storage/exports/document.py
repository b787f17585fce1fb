"""JSON document (RFC 8259): lots, and parts with all their evaluated characteristics."""

from __future__ import annotations

import json
from typing import IO, Any

from hemtra.storage.exports.iteration import Chunk, Walk
from hemtra.storage.records.fields import NUMBERS
from hemtra.storage.records.schema import VERDICTS


def write_document(walk: Walk, stream: IO[bytes]) -> None:
    """Write all parts. Times are seconds since 1970; what was not measured is null and has its reason."""
    stated = {row.id: _stated(row) for row in walk.characteristics}
    lots = [
        {"name": lot.name, "plan": lot.plan, "started": lot.started, "ended": lot.ended} for lot in walk.lots
    ]
    stream.write(b'{"lots": ' + _json(lots) + b',\n"parts": [')
    first = True
    for chunk in walk.chunks():
        found = _evaluated(chunk, stated)
        for row in chunk.rows:
            stream.write((b"\n" if first else b",\n") + _json(_part(row, found.get(row.id, []))))
            first = False
    stream.write(b"\n]}\n")


def _json(value: Any) -> bytes:
    return json.dumps(value, ensure_ascii=False, allow_nan=False).encode()


def _stated(row: Any) -> dict[str, Any]:
    names = ("name", "unit", "nominal", "lower", "upper", "method")
    return {"balloon": row.balloon.plain, **{name: getattr(row, name) for name in names}}


def _evaluated(chunk: Chunk, stated: dict[int, dict[str, Any]]) -> dict[int, list[dict[str, Any]]]:
    """Characteristics of each part, in balloon order."""
    found: dict[int, list[dict[str, Any]]] = {}
    for key, said in stated.items():
        for part, (value, verdict, text, reason, *ends) in chunk.values(key).items():
            one = {**said, "value": value, "verdict": VERDICTS[verdict], "reason": reason or ""}
            known = zip((number.key for number in NUMBERS), ends, strict=True)
            one |= {name: end for name, end in known if end is not None}
            found.setdefault(part, []).append(one | {"text": text} if text else one)
    return found


def _part(row: Any, found: list[dict[str, Any]]) -> dict[str, Any]:
    names = (
        "lot",
        "number",
        "serial",
        "reason",
        "source",
        "scan",
        "triggered",
        "scanned",
        "recorded",
        "signal",
    )
    plain = {name: getattr(row, name) for name in names}
    return plain | {"verdict": VERDICTS[row.verdict], "characteristics": found}
