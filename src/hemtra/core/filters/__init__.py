"""Medians, smoothing and filling of maps."""
