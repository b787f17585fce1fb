"""Work over many parts: batches, acquisition from a line, the demo."""
