"""Cards of the links in the lineage: the scan, a step, or the characteristic."""
