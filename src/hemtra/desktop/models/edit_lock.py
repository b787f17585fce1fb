"""The lock on editing: operators start, stop, open lots and look; the rest takes a PIN.

It lives in a file of its own with the line's data on this computer, never in settings that may be moved or in
records that others share. That a line is locked is noted in its records, so that a lock file that is gone is no
open door.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from hemtra.core.errors import FileError, HemtraError
from hemtra.runtime.run_setup import LOCK_FILE
from hemtra.storage.files import make_folder, parsed_json, read_text, write_private

COST, BLOCK, LANES = 2**14, 8, 1
"""Parameters of scrypt (RFC 7914): a try takes some tens of milliseconds and 16 MB."""
LEAST = 4
"""Digits of a PIN."""
TRIES, LONGEST_WAIT = 3, 600.0
"""Wrong tries that cost nothing; each one more doubles the wait, up to so many s."""
LARGEST = 4096
LOCKED = "Editing is locked. Unlock it with the PIN in the Run workspace."
GONE = (
    "The records say that editing is locked, and the file that holds its PIN is missing or damaged. The"
    " administrator of this computer can lift the lock with “hemtra unlock --forgotten”."
)


class _Kept(BaseModel):
    """Content of the file: salt and key of the PIN, the number of wrong tries, and the time of the last one."""

    model_config = ConfigDict(extra="forbid")

    pin: str
    wrong: int = Field(0, ge=0)
    last: float = 0.0


class EditLock:
    """Whether editing is locked, and the way out of it."""

    def __init__(self, folder: Path, *, noted: Callable[[], bool], note: Callable[[bool], None]) -> None:
        """folder: of the line's data. noted: whether its records say so too; note writes it there."""
        self._path, self._note = folder / LOCK_FILE, note
        self.locked = self._path.exists() or noted()
        self._tried = _Kept(pin="")

    def lock(self, pin: str) -> None:
        """Lock editing. Raises `HemtraError` where that cannot be kept."""
        make_folder(self._path.parent)
        self._tried = _Kept(pin=known_by(pin))
        self._keep(self._tried)
        self.locked = True
        self._note(True)

    def unlock(self, pin: str) -> str:
        """Unlock with the PIN; what is wrong, or nothing."""
        wrong = self.wrong_with(pin)
        if wrong:
            return wrong
        try:
            self._path.unlink(missing_ok=True)
        except OSError as error:
            return f"The file of the lock cannot be taken away ({error.strerror}); editing stays locked."
        self.locked = False
        self._note(False)
        return ""

    def wrong_with(self, pin: str) -> str:
        """Reason why a PIN does not open the lock; empty where it does. Wrong tries are counted."""
        try:
            kept = _Kept.model_validate(parsed_json(read_text(self._path, LARGEST), "damaged"))
        except (FileError, ValidationError):
            return GONE
        tried = max(kept, self._tried, key=lambda one: one.last)
        over = max(tried.wrong - TRIES + 1, 0)
        wait = min(2.0**over, LONGEST_WAIT) if over else 0.0
        left = tried.last + wait - time.time()
        if 0.0 < left <= wait:
            return f"Wait {left:.0f} s before the next try."
        if is_pin(pin, kept.pin):
            return ""
        # counted here too: on a full disk it cannot be written, and a try must still cost its time
        self._tried = kept.model_copy(update={"wrong": tried.wrong + 1, "last": time.time()})
        with suppress(HemtraError):
            self._keep(self._tried)
        return "That is not the PIN."

    def refusal(self) -> str:
        """Reason why nothing can be edited now; empty where it can."""
        return LOCKED if self.locked else ""

    def _keep(self, kept: _Kept) -> None:
        write_private(self._path, kept.model_dump_json())


def known_by(pin: str) -> str:
    """Stored form of a PIN: a salt and the scrypt hash."""
    salt = os.urandom(16)
    return f"{salt.hex()}${_derived(pin, salt).hex()}"


def is_pin(pin: str, kept: str) -> bool:
    """Whether it is the PIN that was kept."""
    salt, _, derived = kept.partition("$")
    try:
        return hmac.compare_digest(_derived(pin, bytes.fromhex(salt)), bytes.fromhex(derived))
    except ValueError:
        return False  # what is damaged opens nothing


def _derived(pin: str, salt: bytes) -> bytes:
    return hashlib.scrypt(pin.encode(), salt=salt, n=COST, r=BLOCK, p=LANES)
