"""Features: geometric elements taken from the data. One file a kind."""
