"""Quantities along a path: a size on every section, or what all of them come to."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.along_path import Along
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.series import MeasuredAlong, Series, beyond
from hemtra.core.runs import runs

WHATS = {
    "width": "width",
    "height": "height or depth",
    "area": "section area",
    "offset": "offset from the path",
    "lean": "lean to the right",
    "angle-left": "contact angle on the left",
    "angle-right": "contact angle on the right",
    "void": "void on top",
    "gap": "gap",
    "flush": "flush",
}
TAKES = {
    "each": "on every section",
    "mean": "mean",
    "least": "minimum",
    "greatest": "maximum",
    "deviation": "standard deviation",
    "range": "range",
    "taper": "taper over 100 mm",
    "share": "percentage in limits",
    "stretch": "longest stretch out of limits",
}
LIMITED = ("share", "stretch")
TAPER = 100.0
"""Length of path over which a taper is given, mm."""


@register
class AlongKind(Kind):
    """A size along a path."""

    kind: ClassVar = "along"
    title: ClassVar = "Size along a path"
    glyph: ClassVar = "path"
    output: ClassVar = Number
    revision: ClassVar = 2
    unit: ClassVar = "mm"
    inputs: ClassVar = {"of": Input(Along, "of", "The bead, groove, seam or edge along a path.")}

    what: Literal[
        "width", "height", "area", "offset", "lean", "angle-left", "angle-right", "void", "gap", "flush"
    ] = setting("width", "size", "Which of its sizes.", choices=WHATS)
    take: Literal["each", "mean", "least", "greatest", "deviation", "range", "taper", "share", "stretch"] = (
        setting(
            "each", "take", "Each section is evaluated on its own, or one value for all of them.", choices=TAKES
        )
    )
    from_nodes: bool = setting(
        False, "from nodes' nominals", "Count as the difference from what the nodes of the path ask for."
    )
    lower: float = setting(
        0.0, "lower limit", "A section below it is out.", when={"take": LIMITED}, ge=-1e6, le=1e6
    )
    upper: float = setting(
        1.0, "upper limit", "A section above it is out.", when={"take": LIMITED}, ge=-1e6, le=1e6
    )
    missing: float = setting(
        0.0,
        "missing up to",
        "Breaks up to this length are left to the row of breaks. Longer ones count here, too: what is"
        " missing has no width, height and area.",
        unit="mm",
        ge=0.0,
        le=1000.0,
    )
    unseen: float = setting(
        2.0,
        "longest data gap",
        "Longer gaps between measured sections are NOT MEASURED.",
        unit="mm",
        ge=0.0,
        le=1000.0,
    )
    least_measured: float = setting(
        95.0,
        "minimum measured",
        "Minimum percentage of sections measured; below it the value is NOT MEASURED.",
        unit="%",
        gt=0.0,
        le=100.0,
    )

    @property
    def convergence(self) -> float:
        """Both flanks and the top are smooth, and an area makes up for the kinks that it ends in.

        Where they lie on the part is known as well as the path is.
        """
        return 2.0 if self.what in ("width", "height", "area") else 1.0

    @property
    def outward(self) -> bool:
        """The top of a bead is its highest place."""
        return self.what == "height"

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Number` of all sections, in the unit of the size; with all of them where each is evaluated."""
        found = given.one("of", Along)
        values, evaluated = self._values(found), self._evaluated(found)
        unit = found.quantities[self.what].unit
        seen = evaluated & ~np.isnan(values)
        if not seen.any():
            raise NotMeasured("not found in any section")
        share = 100.0 * np.count_nonzero(seen) / np.count_nonzero(evaluated)
        facts = (("sections", f"{np.count_nonzero(seen)} of {np.count_nonzero(evaluated)}"),)
        if share < self.least_measured:
            raise NotMeasured(
                f"only {share:.0f} % of the sections are measured; minimum {self.least_measured:g} %;"
                f" otherwise {_usual(found, evaluated & ~seen)}"
            )
        for first, many in runs(evaluated & ~seen, found.path.curve.closed):
            if many * found.spacing > self.unseen + 1e-9:
                why = found.reasons.get(int(found.state[first]), "it could not be measured")
                raise NotMeasured(
                    f"from {found.at[first]:.1f} mm on {why}, for {many * found.spacing:.1f} mm;"
                    f" maximum {self.unseen:g} mm"
                )
        picked = values[seen]
        if self.take == "each":
            series = self._series(found, values, evaluated)
            at = _point(series.places[0])
            return Outcome(MeasuredAlong(float(picked.mean()), unit, at, series=series), facts)
        value, k = self._summary(found, values, seen)
        at = _point(found.places()[k])
        unit = {"share": "%", "stretch": "mm", "taper": unit}.get(self.take, unit)
        where = (("at", f"{found.at[k]:.1f} mm"),) if self.take in ("least", "greatest", "stretch") else ()
        return Outcome(Number(value, unit, at), (*facts, *where))

    @property
    def value_unit(self) -> str:
        """Unit of an angle, an area, a percentage, or a length."""
        if self.take in ("share", "stretch"):
            return "%" if self.take == "share" else "mm"
        return {"area": "mm²", "void": "mm²", "angle-left": "°", "angle-right": "°", "lean": "%"}.get(
            self.what, "mm"
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The sections of the feature show it."""
        return Evidence()

    def _values(self, found: Along) -> FloatArray:
        values = found.values(self.what)
        if not self.from_nodes:
            return values
        nominal = found.path.nominal_at(found.at)
        if np.isnan(nominal).all():
            raise NotMeasured("no node of the path says what is asked for there; type a nominal at one")
        return values - nominal

    def _evaluated(self, found: Along) -> BoolArray:
        """Mask of the sections that count: all not left out, and those where something is missing."""
        evaluated = found.counts & ~found.absent
        for gap in found.breaks:
            if gap.length > self.missing:
                evaluated |= found.absent & _in_run(gap.first, gap.many, found.at.size)
        if not evaluated.any():
            raise NotMeasured("there is nothing along the path")
        return evaluated

    def _series(self, found: Along, values: FloatArray, evaluated: BoolArray) -> Series:
        picked = np.flatnonzero(evaluated)
        reasons = {
            int(n): found.reasons.get(int(found.state[picked[n]]), "it could not be measured")
            for n in np.flatnonzero(np.isnan(values[picked]))
        }
        places = found.places()[picked]
        curve = found.path.curve
        around = curve.length if curve.closed else None
        return Series(values[picked], found.at[picked], places, reasons, "section", self.least_measured, around)

    def _summary(self, found: Along, values: FloatArray, seen: BoolArray) -> tuple[float, int]:
        """The number requested, and the section that stands for it."""
        at, picked = np.flatnonzero(seen), values[seen]
        if self.take == "least":
            return float(picked.min()), int(at[picked.argmin()])
        if self.take == "greatest":
            return float(picked.max()), int(at[picked.argmax()])
        if self.take in LIMITED:
            out = seen.copy()
            out[seen] = beyond(picked, self.lower, self.upper) > 0.0
            if self.take == "share":
                return 100.0 * (1.0 - float(np.count_nonzero(out)) / at.size), int(at[0])
            stretches = runs(out, found.path.curve.closed)
            first, many = max(stretches, key=lambda run: run[1], default=(int(at[0]), 0))
            return many * found.spacing, (first + many // 2) % found.at.size
        if self.take == "taper":
            if at.size < 2:
                raise NotMeasured("a taper needs two sections or more")
            return TAPER * float(np.polyfit(found.at[seen], picked, 1)[0]), int(at[0])
        if self.take == "deviation":
            if at.size < 2:
                raise NotMeasured("a standard deviation needs two sections or more")
            return float(picked.std(ddof=1)), int(at[0])
        return float(np.ptp(picked) if self.take == "range" else picked.mean()), int(at[0])


def _usual(found: Along, missing: BoolArray) -> str:
    codes = found.state[missing].astype(int)
    return found.reasons.get(int(np.bincount(codes).argmax()), "it could not be measured") if codes.size else ""


def _in_run(first: int, many: int, count: int) -> BoolArray:
    """(count,) which indices a run holds that may go round the start."""
    found = np.zeros(count, np.bool_)
    found[np.arange(first, first + many) % count] = True
    return found


def _point(place: FloatArray) -> Point:
    return Point(*(float(c) for c in place))
