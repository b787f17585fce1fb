"""Widgets shared by several workspaces."""
