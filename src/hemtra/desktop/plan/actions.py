"""Actions on a plan, its sheet and its tray."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QFileDialog

from hemtra.core.errors import HemtraError
from hemtra.core.proposals.option import Option, options
from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.session import Session
from hemtra.desktop.plan.document_actions import DocumentActions
from hemtra.desktop.plan.stage.picture_file import KINDS, save_picture
from hemtra.desktop.plan.workspace import PlanWorkspace
from hemtra.storage.requirement_lists import read_requirements


class PlanActions:
    """Records of the actions, in the order of the menu."""

    def __init__(self, session: Session, workspace: PlanWorkspace) -> None:
        self._session, self._workspace = session, workspace
        self._bench, self._tray = session.bench, session.bench.tray
        self.document = DocumentActions(session, workspace)

    def all(self) -> Iterable[Action]:
        """Actions on the plan, its characteristics, the sheet, anchors, the tray and the view."""
        yield from self.document.all()
        yield from self._of_new_ones()
        yield from self._of_the_sheet()
        yield from self._of_the_order()
        yield from self._of_anchors()
        yield from self._of_the_tray()
        yield from self._of_the_view()

    # -- when something can be done ---------------------------------------------------------------

    def _has_part(self) -> bool:
        return self._tray.current is not None

    def _has_row(self) -> bool:
        return self._bench.row is not None

    def _can_teach(self) -> bool:
        return self._has_row() and self._bench.document.teacher is not None

    def _can_match(self) -> bool:
        document = self._bench.document
        waits = any(row.step is None for row in document.plan.sheet)
        return waits and document.teacher is not None

    def _has_rows(self) -> bool:
        return bool(self._bench.document.plan.sheet)

    # -- what there is ----------------------------------------------------------------------------

    def _of_new_ones(self) -> Iterable[Action]:
        new = self._workspace.new
        yield Action(
            "characteristic.new",
            "New characteristic",
            "Edit",
            new.ask,
            self._has_part,
            keys="N",
            help="Choose a characteristic, then click the part.",
        )
        yield Action(
            "characteristic.from-features",
            "New from other features",
            "Edit",
            new.ask_features,
            lambda: self._has_part() and self._bench.document.plan.by_profile is None,
            keys="Shift+N",
            help="Points, lines and planes made of others; distances and angles between them.",
        )
        yield Action(
            "feature.go",
            "Go to a feature…",
            "Edit",
            self._workspace.connections.ask_feature,
            lambda: bool(self._bench.document.plan.steps),
            keys="Ctrl+G",
            help="Those that no characteristic uses come first.",
        )
        for wanted in dict.fromkeys((*options("map"), *options("profile"), *options("features"))):
            yield Action(
                f"characteristic.{wanted.id}",
                f"New {wanted.name.lower()}{_which(wanted)}",
                "New",
                partial(new.begin, wanted.id),
                partial(self._can_begin, wanted),
                help=wanted.help,
            )

    def _can_begin(self, wanted: Option) -> bool:
        by_profile = self._bench.document.plan.by_profile is not None
        return self._has_part() and ("profile" in wanted.on if by_profile else wanted.on != ("profile",))

    def _of_the_sheet(self) -> Iterable[Action]:
        rows, row = self._workspace.rows, self._has_row
        yield Action(
            "sheet.import",
            "Import a requirement list…",
            "Edit",
            self._ask_requirements,
            help="CSV or QIF 3.0; rows wait to be bound.",
        )
        yield Action(
            "sheet.match",
            "Measure the list automatically…",
            "Edit",
            self._workspace.matching.measure,
            self._can_match,
            keys="M",
            help="Proposes what each waiting row measures, from its words, numbers and the reference scan.",
        )
        yield Action(
            "characteristic.duplicate",
            "Duplicate characteristic",
            "Edit",
            rows.duplicate,
            row,
            keys="Ctrl+D",
            help="With the next balloon and features of its own.",
        )
        yield Action(
            "characteristic.copy-value",
            "Copy value",
            "Edit",
            rows.copy_value,
            row,
            help="Of the selected characteristic, as a number.",
        )
        yield Action(
            "characteristic.delete",
            "Delete characteristic",
            "Edit",
            rows.delete,
            row,
            keys="Del",
            help="With the steps only it uses.",
        )

    def _of_the_order(self) -> Iterable[Action]:
        rows, row = self._workspace.rows, self._has_row
        group = "Sheet"
        yield Action("characteristic.earlier", "Move up", group, lambda: rows.move(-1), row, keys="Alt+Up")
        yield Action("characteristic.later", "Move down", group, lambda: rows.move(1), row, keys="Alt+Down")
        yield Action(
            "characteristic.hide",
            "Hide or show on the stage",
            group,
            lambda: rows.toggle("hidden"),
            row,
            help="It is still evaluated.",
        )
        yield Action(
            "characteristic.off",
            "Enable or disable",
            group,
            lambda: rows.toggle("off"),
            row,
            help="Disabled, it is not evaluated.",
        )
        yield Action(
            "characteristic.nominal",
            "Nominal from the reference part",
            group,
            rows.take_nominal,
            self._can_teach,
            help="Its limits move along.",
        )
        yield Action(
            "characteristic.master",
            "Evaluate the difference from the reference part",
            group,
            rows.toggle_master,
            self._can_teach,
            help="The reference part counts as zero.",
        )
        yield Action(
            "characteristic.correct",
            "Two-point correction…",
            group,
            rows.ask_correction,
            row,
            help="Linear, by two references.",
        )
        yield Action(
            "sheet.not-capable",
            "Show rows whose gauge is not capable",
            group,
            lambda: self._workspace.sheet.search_for("not capable"),
            lambda: any(row.gauge for row in self._bench.document.plan.sheet),
            help="By the gauge study whose grades the plan keeps.",
        )
        yield Action(
            "sheet.find",
            "Find a characteristic",
            group,
            self._workspace.sheet.search,
            self._has_rows,
            keys="/",
            help="By number, name or group.",
        )
        yield Action(
            "sheet.renumber",
            "Renumber the sheet",
            group,
            rows.renumber,
            self._has_rows,
            help="Balloons 1, 2, 3 … in its order.",
        )

    def _of_anchors(self) -> Iterable[Action]:
        anchors, group = self._workspace.anchors, "Anchor"
        yield Action(
            "anchor.outline",
            "Find the part by its outline",
            group,
            anchors.add_outline,
            self._has_part,
            help="Zones then move with the part, wherever it lies.",
        )
        yield Action(
            "anchor.delete",
            "Delete the selected anchor or feature",
            group,
            anchors.delete_selected,
            lambda: self._bench.selected_step is not None,
            keys="Ctrl+Del",
            help="Of a feature, where nothing uses it; of an anchor, zones that follow it are listed.",
        )
        yield Action(
            "anchor.rebind",
            "Follow another anchor instead",
            group,
            anchors.rebind,
            lambda: anchors.can_rebind,
            help="After one was deleted.",
        )

    def _of_the_tray(self) -> Iterable[Action]:
        plans, group, part = self._session.plans, "Tray", self._has_part
        yield Action(
            "tray.add",
            "Add scans to the tray…",
            group,
            plans.ask_scans,
            keys="Ctrl+Shift+O",
            help="X3P or float TIFF.",
        )
        yield Action(
            "tray.folder", "Add a folder of scans…", group, plans.ask_folder, help="Every scan in it, by name."
        )
        yield Action("tray.next", "Next part", group, lambda: self._step(1), part, keys="Space")
        yield Action("tray.previous", "Previous part", group, lambda: self._step(-1), part, keys="Shift+Space")
        yield Action(
            "tray.tag",
            "Change the tag of this part",
            group,
            self._change_tag,
            part,
            keys="T",
            help="Good, bad, not measurable, unknown.",
        )
        yield Action(
            "tray.reference",
            "Make this part the reference",
            group,
            plans.make_reference,
            part,
            help="Saved inside the plan.",
        )
        yield Action(
            "tray.unflip",
            "Undo edit that changed verdicts",
            group,
            self._workspace.evaluation.undo_verdict_changes,
            lambda: bool(self._workspace.evaluation.flips),
            help="As undo does.",
        )

    def _of_the_view(self) -> Iterable[Action]:
        stage, part = self._workspace.stage, self._has_part
        view = partial(Action, group="View", enabled=part)
        yield view("view.fit", "Show the whole part", do=stage.fit, keys="F")
        yield view(
            "view.stretch",
            "Colours fit the selected zone",
            do=stage.stretch_colours,
            keys="Z",
            help="Shows small steps; press again to fit the colours to the part.",
        )
        yield view(
            "view.cycle",
            "Top view, section, 3D",
            do=self._workspace.arrangement.cycle,
            keys="X",
            help="Cycles through view layouts.",
        )
        yield view(
            "view.save-picture",
            "Save image of the stage…",
            do=self._ask_picture,
            help="As PNG, SVG or PDF.",
        )
        yield view(
            "view.fold",
            "Fold the side panels, or bring them back",
            do=self._workspace.fold,
            keys="W",
            help="Sheet, tray and card give their place to the stage.",
        )
        yield view(
            "view.space-window",
            "3D in a window of its own",
            do=self._workspace.arrangement.open_space_window,
            help="On another monitor where there is one.",
        )
        yield view("view.intensity", "Colour by height or intensity", do=self._toggle_intensity, keys="I")
        yield view(
            "view.pin",
            "Pin the probe here",
            do=stage.pin,
            keys="P",
            help="The cursor then reads its distance from the pin.",
        )

    # -- what they do -----------------------------------------------------------------------------

    def _ask_picture(self) -> None:
        part, stage = self._bench.tray.current, self._workspace.stage
        proposed = self._session.plans.folder / f"{part.name if part is not None else 'stage'}.png"
        name, kind = QFileDialog.getSaveFileName(stage, "Save image", str(proposed), KINDS)
        if not name:
            return
        path = Path(name)
        if not path.suffix:
            path = path.with_suffix(kind.partition("*")[2].rstrip(")"))
        try:
            save_picture(stage, path)
        except HemtraError as error:
            self._session.notifications.error(error)

    def _ask_requirements(self) -> None:
        start = str(self._session.plans.folder)
        name, _ = QFileDialog.getOpenFileName(
            self._session.window, "Import a requirement list", start, "Lists (*.csv *.tsv *.txt *.qif *.xml)"
        )
        if name:
            self.import_requirements(Path(name))

    def import_requirements(self, path: Path) -> None:
        """Read a requirement list beside the window, then take its rows into the sheet."""
        self._session.show("plan")
        self._session.tasks.start(
            f"Reading {path.name}", lambda task: read_requirements(path), self._workspace.requirements.take
        )

    def _step(self, by: int) -> None:
        """Another part; but where a button or a list has the focus, Space means that."""
        focused = QApplication.focusWidget()
        if isinstance(focused, QAbstractButton):
            focused.click()
        elif isinstance(focused, QComboBox):
            focused.showPopup()
        else:
            self._tray.step(by)

    def _change_tag(self) -> None:
        part = self._tray.current
        if part is not None:
            self._bench.next_tag(part)

    def _toggle_intensity(self) -> None:
        self._workspace.stage.colour_by("height" if self._bench.colour == "intensity" else "intensity")


def _which(wanted: Option) -> str:
    """Words that set an option apart from others of its name."""
    if "map" in wanted.on:
        return ""
    return " on profiles" if "profile" in wanted.on else f" {wanted.meaning}"
