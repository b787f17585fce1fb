"""Edges, islands and outlines in a map; what a zone has unseen."""
