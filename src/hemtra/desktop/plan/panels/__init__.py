"""The sheet, the tray, the lineage and its cards."""
