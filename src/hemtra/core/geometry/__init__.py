"""Geometric elements, frames and fits. Right-handed millimetres, degrees counter-clockwise about +z."""
