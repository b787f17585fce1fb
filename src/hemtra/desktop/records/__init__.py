"""The Records workspace: what the line produced, looked back at."""
