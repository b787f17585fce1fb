"""Work over many parts: batches and the demo; later the running line."""
