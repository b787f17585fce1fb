"""All actions of the desktop in one table: menu, shortcuts, command search and help page come from it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Action:
    """Something the user can do: where it stands in the menu, its keys, and what it is good for."""

    id: str
    title: str
    group: str
    keys: str = ""
    help: str = ""


ACTIONS: tuple[Action, ...] = (
    Action("plan.demo", "Open the demo", "Plan", "", "A made-up pump cover with 24 recorded parts."),
    Action(
        "plan.demo-runner",
        "Open the demo of a run of profiles",
        "Plan",
        "",
        "Drawer runners, 500 profiles each.",
    ),
    Action("plan.open", "Open plan…", "Plan", "Ctrl+O", "A .hplan file with its tray."),
    Action("plan.new", "New plan", "Plan", "Ctrl+Shift+N", "Start from the parts in the tray."),
    Action(
        "plan.by-profile",
        "Judge profile by profile…",
        "Plan",
        "",
        "A scan is then a run of profiles, each measured by itself.",
    ),
    Action("plan.whole", "Judge parts as a whole", "Plan", "", "A scan is then one height map."),
    Action(
        "plan.not-proven",
        "What not proven counts as…",
        "Plan",
        "",
        "For a part, where a value lies too near to its limit for its uncertainty.",
    ),
    Action("plan.save", "Save plan", "Plan", "Ctrl+S"),
    Action("plan.save-as", "Save plan as…", "Plan", "Ctrl+Shift+S"),
    Action(
        "station.show",
        "Station workspace",
        "Station",
        "Alt+1",
        "The station as a drawing, with its scan budget.",
    ),
    Action("station.open", "Open station…", "Station", "", "A .hstation file."),
    Action("station.save", "Save station", "Station"),
    Action("station.save-as", "Save station as…", "Station"),
    Action("station.trial", "Scan a trial part", "Station", "", "Its scan goes to the tray."),
    Action("station.encoder", "Measure the encoder resolution", "Station", "", "Over a known travel."),
    Action("station.exposure", "Tune the exposure", "Station", "", "Until the part is bright enough."),
    Action("station.level", "Level on something flat", "Station", "", "Takes the mount's tilt out."),
    Action("station.align", "Align the sensors", "Station", "", "All of them in one frame, by a target."),
    Action("station.correct", "Correct the scales", "Station", "", "By known heights and diameters."),
    Action("station.two", "Open the demo with two sensors", "Station", "", "Side by side, not aligned yet."),
    Action("station.reference", "Keep this profile as the reference", "Station", "", "Drawn dimmed behind."),
    Action("plan.show", "Plan workspace", "Plan", "Alt+2"),
    Action("edit.undo", "Undo", "Edit", "Ctrl+Z"),
    Action("edit.redo", "Redo", "Edit", "Ctrl+Shift+Z"),
    Action(
        "characteristic.new", "New characteristic", "Edit", "N", "Say what the drawing asks for, then click."
    ),
    *(
        Action(f"characteristic.{name}", f"New {name.replace('-', ' ')}", "New", "", help_text)
        for name, help_text in (
            ("height", "Height of a spot above a plane: one click."),
            ("step", "Height of one spot above another: two clicks."),
            ("distance", "Between holes, edges or spots: two clicks."),
            ("width", "Between two edges: two clicks."),
            ("gap", "Between two sides: two clicks."),
            ("flush", "Of two surfaces beside each other: two clicks."),
            ("diameter", "Of a hole or boss: one click."),
            ("true-position", "Of a hole or boss: one click."),
            ("roundness", "Of a hole or boss: one click."),
            ("angle", "Between two edges: two clicks."),
            ("tilt", "Of a surface against the datum: one click."),
            ("flatness", "Of a surface: one click."),
            ("straightness", "Of an edge: one click."),
            ("area", "Of what stands out: one click."),
            ("volume", "Of what stands out: one click."),
            ("code", "That must be readable: one click."),
            ("formula", "Calculated from other rows."),
        )
    ),
    Action(
        "sheet.import",
        "Import a requirement list…",
        "Edit",
        "",
        "CSV with balloon, name, nominal, lower, upper, unit; rows wait to be bound.",
    ),
    Action(
        "characteristic.duplicate",
        "Duplicate characteristic",
        "Edit",
        "Ctrl+D",
        "With the next balloon and features of its own.",
    ),
    Action("characteristic.earlier", "Earlier in the sheet", "Sheet", "Alt+Up"),
    Action("characteristic.later", "Later in the sheet", "Sheet", "Alt+Down"),
    Action("characteristic.hide", "Hide on the stage, or show", "Sheet", "", "It is judged all the same."),
    Action("characteristic.off", "Switch off, or on", "Sheet", "", "Switched off it is not judged."),
    Action(
        "characteristic.nominal",
        "Nominal from the reference part",
        "Sheet",
        "",
        "Its limits move along.",
    ),
    Action(
        "characteristic.master",
        "Judge the difference from the reference part",
        "Sheet",
        "",
        "The reference part counts as zero.",
    ),
    Action("characteristic.correct", "Correct by two known sizes…", "Sheet", "", "Linear, through both."),
    Action("sheet.find", "Find a characteristic", "Sheet", "/", "By number, name or group."),
    Action("sheet.renumber", "Renumber the sheet", "Sheet", "", "Balloons 1, 2, 3 … in its order."),
    Action("characteristic.delete", "Delete characteristic", "Edit", "Del", "With the steps only it uses."),
    Action(
        "anchor.outline",
        "Find the part by its outline",
        "Anchor",
        "",
        "Zones then move with the part, wherever it lies.",
    ),
    Action("anchor.delete", "Delete the selected anchor", "Anchor", "Ctrl+Del", "What follows it is told."),
    Action("anchor.rebind", "Follow another anchor instead", "Anchor", "", "After one was deleted."),
    Action("zone.rectangle", "Zone: rectangle", "Zone", "", "The selected zone in another shape."),
    Action("zone.ellipse", "Zone: ellipse", "Zone"),
    Action("zone.ring", "Zone: ring", "Zone", "", "With a handle for its inner size."),
    Action("zone.polygon", "Zone: polygon", "Zone", "", "With a handle on every node."),
    Action("zone.node", "Zone: one more node", "Zone", "", "In the middle of the longest side."),
    Action("zone.cut", "Zone: cut out", "Zone", "", "What lies in a cut-out does not count."),
    Action("zone.add", "Zone: add a piece", "Zone", "", "What lies in it belongs to the zone."),
    Action("zone.whole", "Zone: without cut-outs and pieces", "Zone"),
    Action("zone.circle-of", "Repeat in a circle…", "Zone", "", "The feature with what is measured of it."),
    Action("zone.grid-of", "Repeat in a grid…", "Zone", "", "The feature with what is measured of it."),
    Action("zone.mirror-x", "Zone: mirror left to right", "Zone", "", "At x = 0 of the part."),
    Action("zone.mirror-y", "Zone: mirror front to back", "Zone", "", "At y = 0 of the part."),
    Action("zone.copy", "Copy zone", "Zone", "Ctrl+C"),
    Action("zone.paste", "Paste zone", "Zone", "Ctrl+V", "Shape and size, in the place of the selected one."),
    Action("tray.add", "Add scans to the tray…", "Tray", "Ctrl+Shift+O", "X3P or float TIFF."),
    Action("tray.folder", "Add a folder of scans…", "Tray", "", "Every scan in it, by name."),
    Action("tray.next", "Next part", "Tray", "Space"),
    Action("tray.previous", "Previous part", "Tray", "Shift+Space"),
    Action("tray.tag", "Change the tag of this part", "Tray", "T", "Good, bad or unknown."),
    Action("tray.reference", "Make this part the reference", "Tray", "", "Saved inside the plan."),
    Action("tray.unflip", "Take back the edit that flipped parts", "Tray", "", "As undo does."),
    Action("view.fit", "Show the whole part", "View", "F"),
    Action(
        "view.stretch",
        "Colours fit the selected zone",
        "View",
        "Z",
        "So that small steps in it show; once more, and they fit the part.",
    ),
    Action("view.cycle", "Top view, section, 3D", "View", "X", "Goes through the arrangements of the stage."),
    Action("view.intensity", "Colour by height or intensity", "View", "I"),
    Action("view.unit", "Millimetres or inches", "View", "", "For display only."),
    Action("view.pin", "Pin the probe here", "View", "P", "The cursor then reads its distance from the pin."),
    Action("view.dark", "Dark or light", "View"),
    Action("help.search", "Find a command", "Help", "Ctrl+K"),
    Action("help.keys", "Keys and signs", "Help", "F1"),
    Action("help.quit", "Quit", "Help", "Ctrl+Q", "Unsaved changes are kept for the next start."),
)
