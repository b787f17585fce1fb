"""The signs of verdicts in a terminal."""

from __future__ import annotations

from hemtra.core.plan.limits import Verdict

SIGNS = {
    Verdict.PASS: ("○", "green"),
    Verdict.FAIL: ("◆", "red"),
    Verdict.NOT_MEASURED: ("◌", "magenta"),
    Verdict.NOT_PROVEN: ("◍", "yellow"),
}


def signed(verdict: Verdict) -> str:
    """A verdict with its sign and colour, as rich writes it."""
    sign, colour = SIGNS[verdict]
    return f"[{colour}]{sign} {verdict}[/{colour}]"
