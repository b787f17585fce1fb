"""Numbers only: scans, features, characteristics, plans and verdicts. No interface, no files, no network."""
