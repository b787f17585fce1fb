"""The geometry of paths."""
