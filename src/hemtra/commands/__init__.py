"""What the longer commands do; `cli.py` only declares them."""
