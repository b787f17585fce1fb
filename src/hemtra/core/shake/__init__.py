"""The shake test: a plan tried on copies of scans that are worse than they were."""
