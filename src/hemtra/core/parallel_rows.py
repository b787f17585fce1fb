"""Row-wise work on two cores, where there is enough of it; kernels release the interpreter lock."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor


def in_halves(work: Callable[[slice], object], rows: int, *, worth: bool) -> None:
    """Do `work(rows)` for all rows, the two halves at once when that is worth a second thread's start.

    The halves must not depend on each other. Results are the same either way.
    """
    if not worth or rows < 2:
        work(slice(0, rows))
        return
    with ThreadPoolExecutor(1) as pool:
        other = pool.submit(work, slice(rows // 2, rows))
        work(slice(0, rows // 2))
        other.result()
