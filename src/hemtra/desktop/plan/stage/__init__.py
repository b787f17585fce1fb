"""The part on the stage: top view, view in space, and what is drawn on it."""
