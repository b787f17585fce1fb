"""Twenty lots of covers with something to find: drift, a tool change, a bad batch, a limit that was changed.

* The reamer of the bore wears, so the bore grows until the tool is changed in the middle of lot 10.
* Half of lot 14 has plugs of another supplier, which stand proud.
* From lot 16 on the nozzle of the bead clogs and the bead gets narrower.
* From the middle of lot 17 on the hub height is evaluated by closer limits.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.evaluation.rows import evaluated
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.plan.document import Plan
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.virtual.cover import DEFECTS, Cover, make_cover

LOTS, PARTS_PER_LOT = 20, 60
BEGAN = 1_768_204_800.0
"""2026-01-12 08:00 UTC, in seconds since 1970."""
SHIFT, CYCLE = 12 * 3600.0, 40.0
"""Time from lot to lot and from part to part, s."""
TOOL_CHANGE = (9, 30)
BAD_BATCH = (13, range(18, 48))
CLOGS_FROM = 15
REVISED = (16, 30)
"""Lot and part, both counted from 0, at which something happens."""
NOISE = 0.004
"""Repeatability of a measurement of the same part, mm."""
RARE = ("boss-short", "pocket-shallow", "bead-broken", "marking-missing", "hub-tilted", "flange-long")
RARELY = 1 / 50
FLATNESS = 0.70
"""Flatness of the datum's area per mm of bow, mm."""
UNITS = {7: "°", 17: "°", 22: "mm³"}
ROUGHER = {"mm": 1.0, "°": 5.0, "mm³": 1000.0}
"""Repeatability of other quantities relative to lengths in mm."""
COUNTS = (23, 24)


@dataclass(frozen=True)
class SimulatedPart:
    """A part of a lot, both counted from 0, and when it was made, in seconds since 1970."""

    lot: int
    number: int
    cover: Cover
    time: float

    @property
    def revised(self) -> bool:
        """Whether it was evaluated by the closer limits of the hub."""
        return (self.lot, self.number) >= REVISED


def lot_name(lot: int) -> str:
    """Running number of a lot, counted from 0."""
    return f"cover lot {lot + 1:02d}"


def revised(plan: Plan) -> Plan:
    """The plan with closer limits of the hub's height."""
    row = plan.characteristic(6)
    assert row is not None
    return plan.with_characteristic(row.edited(lower=7.90, upper=8.10))


def made_parts(lots: int = LOTS, count: int = PARTS_PER_LOT) -> Iterator[SimulatedPart]:
    """All parts, oldest first; the same every time."""
    rng = np.random.default_rng(2026)
    for lot in range(lots):
        for number in range(count):
            rare = {str(rng.choice(RARE)): None} if rng.random() < RARELY else {}
            cover = _at(lot, number, make_cover(10_000 + lot * count + number, rare))
            yield SimulatedPart(lot, number, cover, BEGAN + lot * SHIFT + number * CYCLE)


def _at(lot: int, number: int, cover: Cover) -> Cover:
    """A part as the process makes it at that time."""
    place = (lot, number)
    wear = lot + number / PARTS_PER_LOT
    if place >= TOOL_CHANGE:
        wear -= TOOL_CHANGE[0] + TOOL_CHANGE[1] / PARTS_PER_LOT
    cover = replace(cover, bore_diameter=cover.bore_diameter - 0.03 + 0.0105 * wear)
    if lot == BAD_BATCH[0] and number in BAD_BATCH[1]:
        cover = DEFECTS["plug-proud"].apply(cover, 0.16)
    if lot >= CLOGS_FROM:
        since = lot - CLOGS_FROM + number / PARTS_PER_LOT
        cover = replace(cover, bead=replace(cover.bead, width=cover.bead.width - 0.085 * since))
    return cover


def measured(made: SimulatedPart, plan: Plan) -> tuple[CharacteristicResult, ...]:
    """Sheet of a part without a scan: its true values with a small spread, evaluated."""
    rng = np.random.default_rng([made.lot, made.number])
    # how flat the flange is takes long to work out; it goes with the bow
    values: Mapping[int, float | str] = replace(made.cover, bow=0.0).truth() | {15: FLATNESS * made.cover.bow}
    rows = []
    for row in sorted(plan.sheet, key=lambda row: row.balloon):
        value = values[row.balloon]
        noise = 0.0 if row.balloon in COUNTS else NOISE * rng.standard_normal()
        rows.append(evaluated(row, *_number(row.balloon, value, noise), UNITS.get(row.balloon, "mm")))
    return tuple(rows)


def _number(balloon: int, value: float | str, noise: float) -> tuple[Number | None, str]:
    """Result of a measurement, or the reason why there is none."""
    at = Point(0.0, 0.0, 0.0)
    if isinstance(value, str):
        if not value:
            return None, "no code can be read there"
        return Number(1.0, "", at, value), ""
    if value != value:
        return None, "because of “plug”: there is nothing in the slot"
    if balloon in COUNTS:
        return Number(value, "", at), ""
    noisy = value + noise * ROUGHER[UNITS.get(balloon, "mm")]
    # neither an angle nor a deviation can be below zero
    floor = 0.0 if balloon in (5, 7, 9, 15, 21) else -np.inf
    return Number(max(noisy, floor), UNITS.get(balloon, "mm"), at), ""
