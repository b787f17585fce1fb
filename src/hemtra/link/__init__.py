"""Signals to the outside: open protocols, and a stand-in for what is wired to them."""
