"""How many examples property tests try: the same few every time, or many more at random in `make soak`."""

import os

from hypothesis import settings

MORE = int(os.environ.get("HEMTRA_EXAMPLES", "1"))
"""Times as many examples as usual; above 1 they are drawn at random."""
PROFILE = "hemtra"
# how long an example takes says something about the machine, not about the code
settings.register_profile(
    "hemtra", deadline=None, derandomize=MORE == 1, max_examples=100 * MORE, print_blob=True
)


def examples(usual: int) -> int:
    """So many examples, or as many times more as are asked for."""
    return usual * MORE
