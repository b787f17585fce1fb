"""The Plan workspace: sheet, stage, section, lineage and tray."""
