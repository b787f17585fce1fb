"""Gauge studies: whether what measures a characteristic measures it well enough."""
