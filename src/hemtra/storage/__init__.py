"""Files: scans, plans and stations. The only place that knows file formats."""
