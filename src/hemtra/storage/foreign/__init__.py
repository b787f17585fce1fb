"""Scans as other programs write them, one file a format: images of heights, and clouds of points."""
