"""What the window shows, without Qt."""
