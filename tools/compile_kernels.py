"""Compiles all kernels of this checkout, so that nobody waits for them later."""

import hashlib
from pathlib import Path

from hemtra.kernel_cache import is_warm
from hemtra.virtual.warm_up import warm_up

SOURCES = Path(__file__).parents[1] / "src"
STAMP = Path(__file__).parents[1] / ".venv" / "kernels"
"""Digest of the code that was compiled: the compiler does not notice that what a kernel calls has changed."""


def forget_older_code() -> None:
    """Delete what was compiled from other sources than those there are."""
    texts = [path.read_bytes() for path in sorted(SOURCES.rglob("*.py"))]
    digest = hashlib.sha256(b"".join(t for t in texts if b"hemtra.core.compiled import" in t)).hexdigest()
    if STAMP.is_file() and STAMP.read_text() == digest:
        return
    for code in (*SOURCES.rglob("*.nbi"), *SOURCES.rglob("*.nbc")):
        code.unlink()
    STAMP.write_text(digest)


if __name__ == "__main__":
    forget_older_code()
    if not is_warm():
        print("Compiling once, which takes about a minute …", flush=True)
    warm_up()
