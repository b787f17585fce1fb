"""Sections and strips beside the stage."""
