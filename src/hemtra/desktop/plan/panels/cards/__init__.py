"""What the card of a link in the lineage holds: the scan, a step, or the characteristic."""
