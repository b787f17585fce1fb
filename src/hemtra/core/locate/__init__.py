"""Finding a taught contour again, at any position and rotation."""
