"""Files: scans, plans and stations. File formats are handled nowhere else."""
