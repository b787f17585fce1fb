"""Outline: a taught contour of the part, found again at any position and rotation."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import model_validator

from hemtra.core.arrays import BoolArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.frames import Frame
from hemtra.core.locate.contour import HEIGHT, INTENSITY, Contour, contour_in
from hemtra.core.locate.search import Match, Model, Search, differ, find
from hemtra.core.marks import Evidence, MatchPicture, Strokes
from hemtra.core.plan.kind import Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.text import percent
from hemtra.core.zones.zone import AnyZone, EllipseZone

COLUMNS = ("x", "y", "z", "direction", "step", "channel")
DIGITS = {"direction": 5}
TWINS = 0.012
"""Share of the contour by which the best place must be ahead of the second."""
STROKE = 0.006
"""Length of the stroke drawn for a contour point, as a share of the contour's size."""


@dataclass(frozen=True)
class FoundOutline(Frame):
    """Pose of a found outline and the share of it with data; `others` are further instances in order."""

    share: float = 0.0
    seen: BoolArray = field(default_factory=lambda: np.empty(0, np.bool_), compare=False)
    """(n,) which points of the taught contour were found."""
    others: tuple[FoundOutline, ...] = ()


@register
class OutlineKind(Kind):
    """A taught contour, looked for in the whole scan."""

    kind: ClassVar = "outline"
    title: ClassVar = "Outline"
    glyph: ClassVar = "outline"
    output: ClassVar = FoundOutline
    needs_zone: ClassVar = True
    teachable: ClassVar = True

    source: Literal["height", "intensity", "both"] = setting(
        "height",
        "contour from",
        "What the contour is taken from: steps of the surface, of its intensity, or both.",
        choices={"height": "height steps", "intensity": "intensity"},
    )
    least_step: float = setting(
        1.0,
        "minimum step",
        "Steps of the surface lower than this are no contour.",
        unit="mm",
        when={"source": ("height", "both")},
        gt=0.0,
        le=1000.0,
    )
    least_contrast: float = setting(
        40.0,
        "minimum contrast",
        "Differences of intensity smaller than this are no contour; the scale goes to 255.",
        when={"source": ("intensity", "both")},
        gt=0.0,
        le=255.0,
    )
    turn_from: float = setting(
        -180.0,
        "turned from",
        "The smallest rotation to search, relative to the reference scan.",
        unit="°",
        ge=-180.0,
        le=180.0,
    )
    turn_to: float = setting(
        180.0,
        "to",
        "The largest rotation to search; 170 to 190 searches about half a turn.",
        unit="°",
        ge=-180.0,
        le=360.0,
    )
    reach: float = setting(
        0.0,
        "within",
        "Search radius about the reference position; 0 = whole scan.",
        unit="mm",
        ge=0.0,
        le=10_000.0,
    )
    least_match: float = setting(
        60.0,
        "minimum match",
        "Share of the taught contour that must be found.",
        unit="%",
        gt=0.0,
        le=100.0,
    )
    most_against: float = setting(
        15.0,
        "at most against",
        "Share of the taught contour that may lie where the surface is seen to continue without an edge. A"
        " mirrored part, or one of another size, matches elsewhere and contradicts there.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
    count: int = setting(1, "instances", "Maximum number to find.", ge=1, le=100)
    order: Literal["match", "x", "y"] = setting(
        "match",
        "ordered by",
        "Which of several instances is the first, which zones follow.",
    )
    rubbed: tuple[tuple[float, float, float], ...] = ()
    """Discs, x, y and radius in mm on the reference scan, in which the contour has been rubbed out."""

    @model_validator(mode="after")
    def _turns_forward(self) -> Self:
        if not 0.0 < self.turn_to - self.turn_from <= 360.0:
            span = f"{self.turn_from:g} to {self.turn_to:g}°"
            raise ValueError(f"the rotation must end above where it starts and within one turn, not {span}")
        return self

    def teach(self, given: StepContext) -> Mapping[str, tuple[float, ...]]:
        """The contour in the zone, by column."""
        assert given.zone is not None
        least = {}
        if self.source != "intensity":
            least[HEIGHT] = self.least_step
        if self.source != "height":
            least[INTENSITY] = self.least_contrast
        contour = contour_in(given.data, given.zone, least, self.rubbed)
        return {name: tuple(np.round(getattr(contour, name), DIGITS.get(name, 4)).tolist()) for name in COLUMNS}

    def carried(self, move: Callable[[AnyZone], AnyZone]) -> dict[str, Any]:
        """Erased pieces of the contour."""
        moved = [move(EllipseZone(x=x, y=y, width=2 * r, height=2 * r)) for x, y, r in self.rubbed]
        return {"rubbed": [[zone.x, zone.y, zone.width / 2] for zone in moved]} if moved else {}

    def evaluate(self, given: StepContext) -> Outcome:
        """A `FoundOutline`; facts: match, turn and instances."""
        if not given.taught:
            raise NotMeasured("it has not been taught yet; that takes the reference scan, so open or set one")
        model = model_of(tuple(given.taught[name] for name in COLUMNS))
        if given.data.intensity is None and (model.contour.channel == INTENSITY).any():
            raise NotMeasured("its contour was taught from intensity, and this scan has no intensity")
        search = Search(
            near=(model.home.x, model.home.y, self.reach) if self.reach > 0.0 else None,
            turn_from=self.turn_from,
            turn_to=self.turn_to,
            least_match=self.least_match / 100.0,
        )
        found = find(model, given.data, search)
        matches = [m for m in found if 100.0 * m.against <= self.most_against]
        if found and not matches:
            raise NotMeasured(
                f"what lies there is not this part, but mirrored, of another size or another one:"
                f" {percent(found[0].share)} of the outline match, and on"
                f" {percent(found[0].against)} of it the surface"
                " continues without an edge"
            )
        if not matches:
            raise NotMeasured(
                f"the outline was not found; no place shows {self.least_match:.0f} % of its contour"
            )
        if self.count == 1:
            self._check_ambiguity(matches, model)
        kept = matches[: self.count]
        if self.order != "match":
            kept = sorted(kept, key=lambda m: m.frame.x if self.order == "x" else m.frame.y)
        first, *others = (_found(match) for match in kept)
        outline = replace(first, others=tuple(others))
        facts = [
            ("match", percent(first.share, 1)),
            ("at", f"{first.x:.3f}, {first.y:.3f} mm"),
            ("turned", f"{first.rotation:.3f}°"),
        ]
        if self.count > 1:
            facts.append(("instances", str(len(kept))))
        elif len(matches) > 1:
            facts.append(("next best", percent(matches[1].share, 1)))
        return Outcome(outline, tuple(facts))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The contour where it was found, what of it was seen, and a picture of both."""
        first: FoundOutline = outcome.value
        model = model_of(tuple(given.taught[name] for name in COLUMNS))
        marks = []
        for found in (first, *first.others):
            strokes = model.strokes(found, STROKE * model.size)
            marks += [Strokes(strokes[found.seen], "fit"), Strokes(strokes[~found.seen], "left-out")]
        return Evidence(tuple(marks), MatchPicture("contour found", model.points[:, :2], first.seen))

    def _check_ambiguity(self, matches: list[Match], model: Model) -> None:
        """Two places that match equally well are no place."""
        if len(matches) < 2:
            return
        best, second = matches[:2]
        if best.share - second.share <= TWINS and differ(best.frame, second.frame, model):
            raise NotMeasured(
                f"two places match the outline equally well, {100 * best.share:.0f} and"
                f" {percent(second.share)}; teach more of the contour, or reduce the search range"
            )


def _found(match: Match) -> FoundOutline:
    f = match.frame
    return FoundOutline(f.x, f.y, f.z, f.rotation, f.tilt_x, f.tilt_y, share=match.share, seen=match.seen)


@lru_cache(maxsize=16)
def model_of(columns: tuple[tuple[float, ...], ...]) -> Model:
    """The contour of a lesson, ready to be searched for; kept, since each part needs the same one."""
    return Model(Contour(*(np.array(column) for column in columns)))
