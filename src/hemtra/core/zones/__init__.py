"""Zones: where a feature looks, their shapes, what is added and cut out, and their edits."""
