"""Edits of a plan that keep it whole."""
