"""The work of the longer commands; `cli.py` only declares them."""
