"""Proposals from a click or from the list of a drawing."""
