"""Compiling the kernels, which takes a minute once."""

from __future__ import annotations

import sys

from hemtra.commands.terminal import out
from hemtra.kernel_cache import is_warm


def warm_up() -> None:
    """Compile all that is compiled, so that nobody waits for it at the first part."""
    from hemtra.virtual.warm_up import warm_up as compile_all

    compile_all()
    out.print("Everything is compiled.")


def say_when_cold() -> None:
    """Announce on stderr that the first part takes longer, where nothing was compiled yet."""
    if not is_warm():
        words = "compiling once, which takes up to a minute; hemtra warm-up does it beforehand"
        print(f"hemtra: {words}.", file=sys.stderr)
