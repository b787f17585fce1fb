"""Work beside the window: tasks, the latest of many requests, evaluation."""
