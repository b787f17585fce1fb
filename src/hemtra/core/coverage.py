"""Coverage of a value: the share of its zone, edge or path with data, and the points left out."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Coverage:
    """Share of the evaluated area or line that holds data.

    seen: share that holds data, 0 to 1. gap: mm of the longest stretch that was not seen and that its
    surroundings do not bound. filled: share that was not seen, in patches so small that their surroundings
    bound what can be there. spikes: isolated points left out; points: of so many.
    """

    seen: float = 1.0
    gap: float = 0.0
    filled: float = 0.0
    spikes: int = 0
    points: int = 0

    @property
    def known(self) -> float:
        """Share that was seen or is bounded, 0 to 1."""
        return min(self.seen + self.filled, 1.0)

    @property
    def spike_share(self) -> float:
        """Share of the points that are isolated ones left out, 0 to 1."""
        return self.spikes / self.points if self.points else 0.0

    def and_(self, other: Coverage) -> Coverage:
        """Coverage of a value that needs both: the smaller share and the longer gap."""
        worse = self if self.known <= other.known else other
        return Coverage(
            worse.seen,
            max(self.gap, other.gap),
            worse.filled,
            self.spikes + other.spikes,
            self.points + other.points,
        )


def format_coverage(found: Coverage) -> str:
    """Format as text: “seen 97.6 %, longest gap 3.8 mm, 5 isolated points left out”."""
    parts = [f"seen {100.0 * found.seen:.1f} %"]
    if found.filled >= 0.0005:
        parts.append(f"filled from rims {100.0 * found.filled:.1f} %")
    if found.gap > 0.0:
        parts.append(f"longest gap {found.gap:.1f} mm")
    if found.spikes:
        parts.append(f"{found.spikes} isolated point{'s' if found.spikes > 1 else ''} left out")
    return ", ".join(parts)


WHOLE = Coverage()
"""Everything was seen."""
