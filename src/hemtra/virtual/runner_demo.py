"""The second demo scenario: runners evaluated profile by profile, and what is true of each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Literal

import numpy as np

from hemtra.core.evaluation.engine import Engine
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import ByProfile, Characteristic, Follow, Plan, Step
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.series import Demand, Over, Series, combined
from hemtra.core.station.mount import SensorMount
from hemtra.core.station.station import Station
from hemtra.core.station.travel import Travel, WheelEncoder
from hemtra.core.station.trigger_sources import Trigger
from hemtra.core.zones.zone import RectangleZone
from hemtra.virtual.runner import AT_REST, LENGTH, Runner, make_runner
from hemtra.virtual.sensor import scan_part

RUNNER_STATION = Station(
    name="runner line",
    sensors=(SensorMount(model="Sim 60", stand_off=90.0),),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=2000, circumference=160.0),
        counts_per_profile=2,
        speed=200.0,
        ends="nearest",
    ),
    trigger=Trigger(distance=60.0, delay=60.0, length=80.0),
)
"""500 profiles of 800 points each."""
TAKEN = "2026-01-13T08:00:00+00:00"
PROFILES, PITCH = 500, 0.16


@dataclass(frozen=True)
class RunnerPart:
    """A runner of the tray."""

    seed: int
    tag: Literal["good", "bad"]
    defects: tuple[str, ...] = ()

    @property
    def file(self) -> str:
        """Name of its scan file."""
        return f"runner-{self.seed:02d}.x3p"

    @property
    def runner(self) -> Runner:
        """The part itself; the reference lies in its place."""
        runner = make_runner(self.seed, dict.fromkeys(self.defects))
        return replace(runner, pose=AT_REST) if self.seed == 1 else runner

    def scan(self) -> Scan:
        """Its scan at the runner line."""
        return scan_part(self.runner, RUNNER_STATION, self.seed, taken=TAKEN, name=self.file)


RUNNERS = (
    RunnerPart(1, "good"),
    RunnerPart(2, "good"),
    RunnerPart(3, "bad", ("groove-shallow",)),
    RunnerPart(4, "bad", ("groove-off",)),
    RunnerPart(5, "bad", ("groove-wide",)),
    RunnerPart(6, "bad", ("groove-dented",)),
    RunnerPart(7, "bad", ("web-low",)),
    RunnerPart(8, "bad", ("lip-open",)),
    RunnerPart(9, "bad", ("bend-wide",)),
    RunnerPart(10, "bad", ("slit-tapered",)),
    RunnerPart(11, "bad", ("cage-high",)),
    RunnerPart(12, "bad", ("hem-drift",)),
)


@cache
def runner_plan() -> Plan:
    """The plan of the drawer runner, taught on its reference part."""
    return Engine(RUNNERS[0].scan().data).taught(drawn_runner_plan())


def drawn_runner_plan() -> Plan:
    """The plan of the drawer runner before anything is taught."""
    left, right = Follow(x="left-hem", z="upper-web"), Follow(x="right-hem", z="upper-web")
    cage = Follow(x="slit-edge", z="upper-web")
    features = [
        Step(id="profile", name="Profile", kind="profile"),
        _edge("left-hem", "Left hem", -20.0, "falls", 8.6, 3.0),
        _edge("right-hem", "Right hem", 20.1, "rises", 2.7, 5.0),
        _on("upper-web", "Upper web", "profile-line", (-16.0, 8.0, 7.2, 3.0), Follow(x="left-hem")),
        _on("lower-web", "Lower web", "profile-level", (-5.2, 2.0, 3.6, 1.6), left),
        _on("left-groove", "Left groove", "groove", (-16.0, 7.6, 6.0, 2.0), left, at=60.0),
        _on("left-ball", "Left round groove", "arc", (-16.0, 7.4, 2.4, 1.4), left),
        _on("right-groove", "Right groove", "groove", (16.15, 1.7, 6.0, 2.0), right, at=60.0),
        _on("lip", "Lip", "profile-line", (-9.13, 4.45, 1.2, 2.8), left),
        _on("bend", "Outer bend", "arc", (-10.8, 7.1, 2.3, 1.9), left),
        _on("slit-left", "Left side of the gap", "arc", (-2.43, 1.65, 0.74, 1.0), left),
        _on("slit-edge", "Edge of the cage", "profile-edge", (0.1, -2.0, 2.4, 9.0), left, change="rises"),
        _on("slit-right", "Right side of the gap", "arc", (0.43, 1.85, 0.74, 1.4), cage),
    ]
    across = {"along": "x"}
    quantities = [
        _of("left-depth", "Left groove depth", "groove-size", of="left-groove"),
        _of("left-place", "Left groove from its hem", "distance", across, start="left-hem", end="left-groove"),
        _of("left-radius", "Left groove radius", "radius", of="left-ball"),
        _of("right-depth", "Right groove depth", "groove-size", of="right-groove"),
        _of(
            "right-place",
            "Right groove from its hem",
            "distance",
            across,
            start="right-groove",
            end="right-hem",
        ),
        _of("offset", "Web offset", "distance", start="lower-web", end="upper-web"),
        _of("lip-angle", "Lip angle", "angle", {"take": "obtuse"}, line="lip", to="upper-web"),
        _of("bend-radius", "Outer bend radius", "radius", of="bend"),
        _of("slit-gap", "Gap", "gap", left="slit-left", right="slit-right"),
        _of(
            "slit-flush",
            "Gap flush",
            "gap",
            {"take": "flush"},
            left="slit-left",
            right="slit-right",
            line="upper-web",
        ),
        _of("hems", "Distance of the hems", "distance", across, start="left-hem", end="right-hem"),
    ]
    return Plan(
        name="drawer runner",
        steps=(*features, *quantities),
        sheet=_sheet([step.id for step in quantities]),
        by_profile=ByProfile(at=0.0, average=1, least_measured=95.0),
    )


def _sheet(steps: list[str]) -> tuple[Characteristic, ...]:
    rows: list[tuple[str, float, float, Over]] = [
        ("Left groove depth", 0.9, 0.05, "each"),
        ("Left groove from its hem", 4.0, 0.12, "each"),
        ("Left groove radius", 1.6, 0.1, "mean"),
        ("Right groove depth", 0.9, 0.05, "share"),
        ("Right groove from its hem", 4.0, 0.12, "each"),
        ("Web offset", 6.0, 0.1, "worst"),
        ("Lip angle", 105.0, 1.5, "mean"),
        ("Outer bend radius", 2.5, 0.2, "mean"),
        ("Gap", 2.0, 0.2, "worst"),
        ("Gap flush", 0.1, 0.1, "mean"),
        ("Distance of the hems", 40.0, 0.4, "each"),
    ]
    return tuple(
        Characteristic(
            balloon=balloon,
            name=name,
            step=step,
            nominal=nominal,
            lower=nominal - room,
            upper=nominal + room,
            over=over,
        )
        for balloon, (step, (name, nominal, room, over)) in enumerate(zip(steps, rows, strict=True), start=1)
    )


def runner_truth(parts: tuple[RunnerPart, ...] = RUNNERS) -> dict[str, dict[str, Any]]:
    """Truth by scan file: tag, failing balloons, and true mean values."""
    y = (np.arange(PROFILES) - (PROFILES - 1) / 2) * PITCH
    found = {}
    for part in parts:
        values = part.runner.truth(np.clip(y, -LENGTH / 2, LENGTH / 2))
        found[part.file] = {
            "tag": part.tag,
            "fails": [row.balloon for row in drawn_runner_plan().sheet if not _passes(row, values, y)],
            "values": {str(balloon): float(series.mean()) for balloon, series in values.items()},
        }
    return found


def _passes(row: Characteristic, values: Mapping[int, Any], y: Any) -> bool:
    series = Series(values[row.balloon], y, np.zeros((y.size, 3)), {})
    demand = Demand(row.over or "each", row.lower, row.upper, row.decimals, share=row.least_share)
    return combined(series, demand).verdict is Verdict.PASS


def _edge(step_id: str, name: str, x: float, change: str, z: float, width: float) -> Step:
    return _on(step_id, name, "profile-edge", (x, z, width, 3.0), Follow(), change=change)


def _on(
    step_id: str, name: str, kind: str, box: tuple[float, float, float, float], follow: Follow, **params: Any
) -> Step:
    """A feature on the profile, in a rectangle given by middle and size in x and z."""
    x, z, width, height = box
    zone = RectangleZone(x=x, y=z, width=width, height=height)
    inputs = {"section": ("profile",)}
    return Step(id=step_id, name=name, kind=kind, params=params, inputs=inputs, zone=zone, follow=follow)


def _of(step_id: str, name: str, kind: str, params: dict[str, Any] | None = None, **inputs: str) -> Step:
    wired = {key: (source,) for key, source in inputs.items()}
    return Step(id=step_id, name=name, kind=kind, params=params or {}, inputs=wired)
