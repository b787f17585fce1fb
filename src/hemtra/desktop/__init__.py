"""The desktop. The only place that knows Qt."""
