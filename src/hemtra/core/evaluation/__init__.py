"""A plan on a scan: the engine, profile by profile, evaluating, and re-evaluating."""
