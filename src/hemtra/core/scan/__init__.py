"""Scans: height maps, profiles, sections, and the zones that mark places in them."""
