"""Whether parts may still lie between the eye and a gate: known beyond a crash, on the computer of the line."""

from __future__ import annotations

import hashlib
from contextlib import suppress
from pathlib import Path

import platformdirs

from hemtra.core.errors import HemtraError
from hemtra.storage.files import make_folder, write_text


class BeltNotClear(HemtraError):
    """The line was cut off; the belt must be checked before it starts again."""


class BeltMark:
    """A file that is there while parts of a line may be on their way to a gate."""

    def __init__(self, line: str) -> None:
        """line: the name of its station."""
        name = hashlib.sha256(line.encode()).hexdigest()[:16]
        self._path = Path(platformdirs.user_state_dir("hemtra")) / "belts" / name

    @property
    def there(self) -> bool:
        """Whether the line ended with parts under way, or did not end at all."""
        return self._path.exists()

    def put(self) -> None:
        """Parts may be under way from now on. Raises `FileError`."""
        make_folder(self._path.parent)
        write_text(self._path, "Parts may lie between the eye of this line and its gate.\n")

    def take_away(self) -> None:
        """All parts have passed their gates, or somebody says that the belt is clear."""
        with suppress(OSError):
            self._path.unlink(missing_ok=True)
