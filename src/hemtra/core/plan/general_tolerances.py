"""General tolerances: permissible deviations of linear dimensions by class (ISO 2768-1, table 1)."""

from __future__ import annotations

from collections.abc import Mapping

from hemtra.core.errors import HemtraError

SIZES = (3.0, 6.0, 30.0, 120.0, 400.0, 1000.0, 2000.0, 4000.0)
"""Upper bounds of the table's columns, inclusive, mm; the first begins at 0.5 mm."""
CLASSES: Mapping[str, tuple[float | None, ...]] = {
    "f": (0.05, 0.05, 0.1, 0.15, 0.2, 0.3, 0.5, None),
    "m": (0.1, 0.1, 0.2, 0.3, 0.5, 0.8, 1.2, 2.0),
    "c": (0.2, 0.3, 0.5, 0.8, 1.2, 2.0, 3.0, 4.0),
    "v": (None, 0.5, 1.0, 1.5, 2.5, 4.0, 6.0, 8.0),
}
"""± mm of the classes fine, medium, coarse and very coarse; None where the standard gives none."""


def permissible(nominal: float, class_: str = "m") -> float:
    """Deviation ± in mm that a class allows a linear dimension; sizes below 0.5 mm take the first column's.

    Raises `HemtraError` where the standard gives none.
    """
    column = next((k for k, size in enumerate(SIZES) if abs(nominal) <= size), None)
    found = None if column is None else CLASSES[class_][column]
    if found is None:
        raise HemtraError(f"ISO 2768-1 gives no deviation for {abs(nominal):g} mm in class {class_}.")
    return found
