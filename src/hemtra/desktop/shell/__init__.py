"""The application, its window, and what frames all workspaces."""
