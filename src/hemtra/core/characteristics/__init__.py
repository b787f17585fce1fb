"""Characteristics: quantities that can be judged against limits. One file a family."""
