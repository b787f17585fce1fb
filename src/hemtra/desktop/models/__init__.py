"""State of the window, without Qt."""
