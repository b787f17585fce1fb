"""Characteristics: quantities that can be evaluated against limits. One file a family."""
