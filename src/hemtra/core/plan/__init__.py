"""The plan: its document, the kinds of step it may hold, and the engine that evaluates it."""
