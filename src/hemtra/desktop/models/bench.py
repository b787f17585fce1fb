"""State of the Plan workspace: document, tray, selection, and the results on the stage."""

from __future__ import annotations

from dataclasses import dataclass, field

from hemtra.core.coverage import Coverage
from hemtra.core.edits.anchors import homes_of, own_follow, place_back, place_on, tidy, values_of
from hemtra.core.errors import NotMeasured
from hemtra.core.evaluation.results import Result
from hemtra.core.features.along_path import Along
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.marks import Evidence, Mark
from hemtra.core.plan.document import Characteristic, Plan, Step
from hemtra.core.plan.follow import followed_on_profile
from hemtra.core.plan.graph import ancestry
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.document import PlanDocument
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.tray import TAGS, Tray, TrayPart

Place = tuple[float, float]
COLOURS = {
    "height": "height",
    "grey": "height in grey",
    "isolines": "height with isolines",
    "intensity": "intensity",
    "slope": "slope",
    "plane": "deviation from the plane",
    "reference": "deviation from the reference scan",
    "nominal": "deviation from the nominal surface",
}
"""Colourings of a part, by key."""
SCAN, ROW = "(scan)", "(row)"
"""The links at either end of a lineage; those between are steps, by their ids."""


@dataclass(frozen=True)
class Shown:
    """View of one part: its result, the evidence of the selected lineage, and the section.

    plan: the plan evaluated, with what it was taught by the reference scan.
    """

    result: Result
    plan: Plan = field(default_factory=Plan)
    evidence: dict[str, Evidence] = field(default_factory=dict)
    profile: Profile | None = None
    reference: Profile | None = None
    """The same section of the reference scan, laid onto this part."""
    line: tuple[Place, Place] | None = None
    coloured: HeightMap | None = None
    """Values that colour the part instead of its height."""
    index: int = -1
    """Profile shown of a profile sequence; the steps of the result are its own."""
    here: Result | None = None
    """Values of that one profile."""
    along: Along | None = None
    """Path evidence of the selected characteristic; the section is then one across it."""
    at: float | None = None
    """Position along the path of the section shown, mm."""
    by_hand: bool = False
    """Whether the section lies along a line that was dragged."""
    across: tuple[Mark, ...] = ()
    """The result on the section there."""
    coverage: Coverage | None = None
    floor: float | None = None
    """Form floor of a characteristic of form, mm."""
    early: bool = False
    """Whether it is to be seen before what places balloons has been loaded."""

    @property
    def across_path(self) -> bool:
        """Whether the section is one across the path, not along a line that was drawn."""
        return self.along is not None and not self.by_hand


class WorkspaceModel:
    """Models of one window and the selection they share."""

    def __init__(self) -> None:
        self.document = PlanDocument()
        self.tray = Tray()
        self.selection_changed = Signal()
        self.shown_changed = Signal()
        self.line_changed = Signal()
        self.node_changed = Signal()
        self.shown: Shown | None = None
        self._selected_step: str | None = None
        self.line: tuple[Place, Place] | None = None
        self.profile: int | None = None
        """Profile to show of a profile sequence; None for the one the plan is drawn on."""
        self.distance: float | None = None
        """Position along the selected path to show, mm; None for the worst section."""
        self.node = 0
        """Node of the selected path whose numbers are shown."""
        self.section_width = 1.0
        self.read_only = False
        """Whether zones are only looked at."""
        self.colour = "height"
        """Colouring of the part: one of `COLOURS`."""
        self._balloon: int | None = None
        self._card = ""
        """SCAN or ROW where the card of that is open, “step” for that of the selected step, "" for none."""
        self._placed: dict[str, tuple[Step, AnyZone | None]] = {}
        self._placed_for: tuple[Shown | None, Plan | None] = (None, None)

    @property
    def balloon(self) -> int | None:
        """The selected characteristic's balloon."""
        return self._balloon

    @property
    def selected_step(self) -> str | None:
        """The step whose zone has handles, as long as the plan has it."""
        chosen = self._selected_step
        if chosen is None or all(step.id != chosen for step in self.document.shown.steps):
            return None
        return chosen

    @property
    def row(self) -> Characteristic | None:
        """The selected characteristic."""
        return None if self._balloon is None else self.document.shown.characteristic(self._balloon)

    @property
    def subject(self) -> str | None:
        """The step whose lineage is looked at: that of the selected characteristic, or one that is selected
        without any."""
        row = self.row
        return self.selected_step if row is None else row.step

    def select(self, balloon: int | None) -> None:
        """Select a characteristic and, of its lineage, the nearest step that has a zone."""
        self._balloon = balloon
        row = self.row
        self._selected_step = None
        if row is not None and row.step is not None:
            self._selected_step = self._nearest_zoned(row.step)
        self.selection_changed.emit()

    def _nearest_zoned(self, step_id: str) -> str | None:
        """The step with a zone that a step is made from most directly."""
        plan, waiting = self.document.shown, [step_id]
        while waiting:
            steps = [plan.step(i) for i in waiting]
            waiting = [i for s in steps for name in kind_named(s.kind).inputs for i in s.inputs.get(name, ())]
            found = next((i for i in waiting if plan.step(i).zone is not None), None)
            if found is not None:
                return found
        return None

    def select_step(self, step_id: str | None) -> None:
        """Select a step of the lineage, whose zone then has handles; an open card becomes its own."""
        self._selected_step = step_id
        if self._card and step_id is not None:
            self._card = "step"
        self.selection_changed.emit()

    @property
    def card(self) -> str | None:
        """The link of the lineage whose card is open: SCAN, ROW or a step's id."""
        if not self._card or self.subject is None:
            return None
        if self.row is None:
            return SCAN if self._card == SCAN else self.selected_step
        if self._card != "step":
            return self._card
        return ROW if self.selected_step in (None, self.subject) else self.selected_step

    def select_alone(self, step_id: str) -> None:
        """Select a feature without a characteristic, and open its card."""
        self._balloon = None
        self.open_card(step_id)

    def open_card(self, link: str) -> None:
        """Open the card of a link of the lineage; a step is selected by it."""
        self._card = link if link in (SCAN, ROW) else "step"
        if self._card == "step":
            self._selected_step = link
        self.selection_changed.emit()

    def close_card(self) -> None:
        """Give its place back to the section."""
        if self._card:
            self._card = ""
            self.selection_changed.emit()

    def go_to(self, step_id: str) -> None:
        """Select a step, with a characteristic in whose lineage it stands: its own, or the nearest."""
        plan = self.document.shown
        bound = [row for row in plan.sheet if row.step is not None]
        chains = [(ancestry(plan, row.step), row.balloon) for row in bound if row.step is not None]
        holding = [
            (len(columns), balloon)
            for columns, balloon in chains
            if any(s.id == step_id for column in columns for s in column)
        ]
        own = next((row.balloon for row in bound if row.step == step_id), None)
        if own is None and not holding:
            self.select_alone(step_id)
            return
        self.select(own if own is not None else min(holding)[1])
        if plan.step(step_id).zone is not None:
            self.select_step(step_id)

    def lineage(self) -> tuple[tuple[Step, ...], ...]:
        """The steps that the subject rests on in columns, from the data to itself."""
        return () if self.subject is None else ancestry(self.document.shown, self.subject)

    def placed(self, step: Step) -> AnyZone | None:
        """Zone of a step on the part shown; None where its anchor was not found."""
        now = (self.shown, self.document.shown)
        if now[0] is not self._placed_for[0] or now[1] is not self._placed_for[1]:
            # requested many times while one picture is painted
            self._placed_for, self._placed = now, {}
        known = self._placed.get(step.id)
        if known is None or known[0] is not step:
            known = self._placed[step.id] = (step, self._place(step))
        return known[1]

    def _place(self, step: Step) -> AnyZone | None:
        kind = kind_named(step.kind)
        follow = own_follow(step) if kind.teachable else step.follow
        if kind.section_input and step.inputs.get(kind.section_input):
            return None
        if step.zone is None or not follow.anchors:
            return step.zone
        if self.shown is None:
            return None
        try:
            return place_on(self.shown.plan, self.shown.result, step.zone, follow)
        except NotMeasured:
            return None

    def on_section(self, step: Step) -> AnyZone | None:
        """Zone on the section of a step that works on sections; None where it has no place."""
        if step.zone is None or not step.follow.anchors:
            return step.zone
        if self.shown is None:
            return None
        try:
            values = values_of(self.shown.result, step.follow)
        except NotMeasured:
            return None
        return followed_on_profile(step.zone, step.follow, homes_of(self.shown.plan), values)

    def drawn(self, step: Step, zone: AnyZone) -> AnyZone:
        """A zone on the part on the stage as it is drawn on the reference. Raises `NotMeasured`."""
        if kind_named(step.kind).section_input in step.inputs and self.shown is not None:
            values = values_of(self.shown.result, step.follow)
            homes = homes_of(self.shown.plan)
            return tidy(followed_on_profile(zone, step.follow, homes, values, back=True))
        follow = own_follow(step) if kind_named(step.kind).teachable else step.follow
        if self.shown is None or not follow.anchors:
            return zone
        return place_back(self.shown.plan, self.shown.result, zone, follow)

    def next_tag(self, part: TrayPart) -> None:
        """Tag a part good, bad or unknown in turn; undo takes it back."""
        held = [TAGS[(TAGS.index(part.tag) + 1) % len(TAGS)]]

        def swap() -> None:
            old = part.tag
            self.tray.tag(part, held[0])
            held[0] = old

        swap()
        self.document.edit(f"tag of {part.name}", self.document.plan, swap)

    def set_line(self, line: tuple[Place, Place] | None) -> None:
        """Cut the part along another line."""
        self.line = line
        self.line_changed.emit()

    def set_profile(self, index: int | None) -> None:
        """Show another profile of the run."""
        if index != self.profile:
            self.profile = index
            self.line_changed.emit()

    def select_node(self, node: int) -> None:
        """Show another node of the selected path."""
        self.node = node
        self.node_changed.emit()

    @property
    def shown_along(self) -> bool:
        """Whether what is shown lies along a path."""
        return self.shown is not None and self.shown.along is not None

    def set_distance(self, distance: float | None) -> None:
        """Show another place along the selected path."""
        if distance != self.distance or self.line is not None:
            self.distance, self.line = distance, None
            self.line_changed.emit()

    def show(self, shown: Shown | None) -> None:
        """Show results on the stage."""
        self.shown = shown
        self.shown_changed.emit()
