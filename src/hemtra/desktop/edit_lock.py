"""The lock on editing: operators start, stop, open lots and look; the rest takes a PIN."""

from __future__ import annotations

import hashlib
import hmac
import os

COST, BLOCK, LANES = 2**14, 8, 1
"""Of scrypt (RFC 7914): a try takes some tens of milliseconds and 16 MB."""
LEAST = 4
"""Letters of a PIN."""
FREE = ("run.", "help.", "view.dark", "records.")
"""What may be done while editing is locked, by how its action begins."""


def known_by(pin: str) -> str:
    """What is kept of a PIN: a salt and what scrypt makes of both."""
    salt = os.urandom(16)
    return f"{salt.hex()}${_derived(pin, salt).hex()}"


def is_pin(pin: str, kept: str) -> bool:
    """Whether it is the PIN that was kept."""
    salt, _, derived = kept.partition("$")
    try:
        return hmac.compare_digest(_derived(pin, bytes.fromhex(salt)), bytes.fromhex(derived))
    except ValueError:
        return False  # a damaged setting opens nothing


def allowed(action_id: str) -> bool:
    """Whether an action may be done while editing is locked."""
    return action_id.startswith(FREE)


def _derived(pin: str, salt: bytes) -> bytes:
    return hashlib.scrypt(pin.encode(), salt=salt, n=COST, r=BLOCK, p=LANES)
