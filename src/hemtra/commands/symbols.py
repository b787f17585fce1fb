"""The signs of verdicts in a terminal."""

from __future__ import annotations

from rich.text import Text

from hemtra.core.plan.limits import Verdict

SIGNS = {
    Verdict.PASS: ("○", "green"),
    Verdict.FAIL: ("◆", "red"),
    Verdict.NOT_MEASURED: ("◌", "magenta"),
    Verdict.NOT_PROVEN: ("◍", "yellow"),
}


def signed(verdict: Verdict) -> Text:
    """A verdict with its sign and colour, as rich writes it."""
    sign, colour = SIGNS[verdict]
    return Text(f"{sign} {verdict}", style=colour)
