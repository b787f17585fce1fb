"""A plan on a scan: the engine, profile by profile, judging, and judging again."""
