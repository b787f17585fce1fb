"""The report of one part: drawing, sheet, and the evidence of what did not pass."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeAlias

from reportlab.lib.units import mm
from reportlab.platypus import Flowable, Spacer

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Mark
from hemtra.core.plan.limits import CharacteristicResult, Verdict, format_limits, format_value
from hemtra.storage.records.fields import numbers_in_words
from hemtra.storage.reports import page
from hemtra.storage.reports.drawing import PartPicture, Pointer, around, part_extent

DRAWING = (page.WIDTH, 118 * mm)
CLOSE = (78 * mm, 56 * mm)
"""Largest sizes of the whole part and of a close look, in points."""
REACH = 0.16
"""Half size of a detail, as a share of the part's size."""
MOST_CLOSE = 12
"""Close looks of one part; a part that fails everything needs no more."""


Look: TypeAlias = list[Flowable]
"""Detail of one place, with the result there."""


@dataclass(frozen=True)
class PartEvidence:
    """A part as it was evaluated: its map, what each balloon points at, and marks of some balloons."""

    data: HeightMap
    pointers: Sequence[Pointer]
    marks: Mapping[int, Sequence[Mark]] = field(default_factory=dict)


@dataclass(frozen=True)
class PartContent:
    """Content of a part report. missing: why there is no picture. notes: further remarks."""

    title: str
    verdict: Verdict
    reason: str
    facts: Sequence[tuple[str, str]]
    rows: Sequence[CharacteristicResult]
    seen: PartEvidence | None = None
    missing: str = ""
    notes: Sequence[str] = ()


def save_part_report(path: Path, parts: Sequence[PartContent]) -> None:
    """Save one or more parts, each on pages of its own, as a PDF. Raises `FileError`."""
    story: list[Flowable] = []
    for k, part in enumerate(parts):
        if k:
            story.append(page.new_page())
        story += part_story(part)
    title = parts[0].title if len(parts) == 1 else f"{len(parts)} parts"
    page.build(path, title, "Evidence: points that were used are tinted copper, those left out violet.", story)


def part_story(part: PartContent) -> list[Flowable]:
    """Everything about one part, in the order it is read."""
    story: list[Flowable] = [
        page.text(part.title, size=15, bold=True, colour=page.SPRUCE, after=4),
        page.Sign(part.verdict, word=True, size=14),
        Spacer(0, 4),
    ]
    if part.reason:
        story.append(page.text(part.reason, after=4))
    story += [page.facts(part.facts), Spacer(0, 6)]
    story += pictured(part)
    story += [*page.heading("Sheet"), sheet(part.rows), Spacer(0, 8)]
    if part.seen is not None:
        story += _close_looks(part.rows, part.seen)
    return story


def pictured(part: PartContent) -> list[Flowable]:
    """Its notes, and the part with its balloons, or why there is no picture."""
    story: list[Flowable] = [page.text(note, bold=True, colour=page.COPPER, after=4) for note in part.notes]
    if part.seen is None:
        return [*story, page.text(part.missing, colour=page.MUTED, after=6)]
    picture = PartPicture(part.seen.data, DRAWING, part.seen.pointers, legend=True)
    picture.hAlign = "CENTER"
    return [*story, picture, Spacer(0, 6)]


def sheet(rows: Sequence[CharacteristicResult]) -> Flowable:
    """The sheet of a part: one row a characteristic."""
    lines = []
    for row in rows:
        nominal = "" if row.nominal is None else f"{row.nominal:.{row.decimals}f}"
        name = page.fitted(row.name, 8, 44 * mm)
        verdict = page.Sign(row.verdict, word=True, size=7)
        more = ", ".join(filter(None, (row.reason, numbers_in_words(row))))
        reason = page.text(more, size=7, colour=page.MUTED)
        value = page.fitted(format_value(row), 8, 25 * mm)
        lines.append(
            [
                page.Sign(row.verdict, str(row.balloon)),
                name,
                value,
                nominal,
                format_limits(row.lower, row.upper, row.decimals),
                verdict,
                reason,
            ]
        )
    head = ["", "characteristic", "value", "nominal", "limits", "verdict", "reason"]
    widths = [side * mm for side in (9, 46, 27, 15, 28, 25, 28)]
    return page.plain_table([head, *lines], widths, head=1, right=(2, 3, 4))


def _close_looks(rows: Sequence[CharacteristicResult], seen: PartEvidence) -> list[Flowable]:
    bad = [row for row in rows if row.verdict is not Verdict.PASS]
    looks = [look for row in bad[:MOST_CLOSE] if (look := close_look(row, seen))]
    if not looks:
        return []
    left = len(bad) - MOST_CLOSE
    story = [*page.heading("Evidence of failures"), *in_pairs(looks)]
    if left > 0:
        story.append(page.text(f"{left} more not passed: see sheet.", colour=page.MUTED))
    return story


def close_look(row: CharacteristicResult, seen: PartEvidence, caption: str = "") -> Look:
    """The place of a characteristic with its marks, and the result; nothing where it has no place."""
    pointer = next((p for p in seen.pointers if p.balloon == row.balloon), None)
    if pointer is None:
        return []
    x0, x1, y0, y1 = part_extent(seen.data)
    reach = REACH * max(x1 - x0, y1 - y0)
    marks = seen.marks.get(row.balloon, ())
    picture = PartPicture(seen.data, CLOSE, (), marks, around(pointer.x, pointer.y, reach))
    words = row.reason or format_value(row)
    title = page.text(f"{row.balloon} {row.name}", bold=True)
    lines = [title, page.text(words), *([page.text(caption, colour=page.MUTED)] if caption else [])]
    return [picture, Spacer(0, 2), *lines, Spacer(0, 6)]


def in_pairs(looks: Sequence[Look]) -> list[Flowable]:
    """Two beside each other."""
    rows = [[*looks[k : k + 2], []][:2] for k in range(0, len(looks), 2)]
    return [page.plain_table(rows, [page.WIDTH / 2] * 2, lines=False, layout=True)] if rows else []
