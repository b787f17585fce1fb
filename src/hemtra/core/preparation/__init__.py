"""Preparation: what is done to a height map before anything is measured on it. One file a family of kinds."""
