"""Revisions of a plan: what it was at each time it was saved, kept inside its file."""

from __future__ import annotations

import getpass
import hashlib
import json
import time
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from hemtra.core.errors import FileError
from hemtra.core.text import plain
from hemtra.storage.container import Container, open_container
from hemtra.storage.files import shown
from hemtra.storage.settings import load_settings

INDEX, FOLDER = "revisions.json", "revisions"
MOST = 150
"""Revisions that are kept; the oldest go first."""
MOST_BYTES = 64 * 1024**2
"""Total size of them, unpacked."""
LARGEST_INDEX = 1024**2
LONGEST_COMMENT = 200


class Revision(BaseModel):
    """A saved state of a plan. saved: seconds since 1970. author: the system user who saved it."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    number: int = Field(ge=1)
    saved: float = Field(allow_inf_nan=False)
    author: str = Field("", max_length=120)
    comment: str = Field("", max_length=LONGEST_COMMENT)
    digest: str = Field(pattern="^[0-9a-f]{64}$")

    @property
    def entry(self) -> str:
        """Entry of its document in the file."""
        return f"{FOLDER}/{self.number:06}.json"


_INDEX = TypeAdapter(list[Revision])


@dataclass(frozen=True)
class Kept:
    """A revision with its document as it is kept."""

    revision: Revision
    document: bytes


def read_revisions(path: Path) -> tuple[Revision, ...]:
    """The revisions of a plan file, oldest first; none where it has none. Raises `FileError`."""
    with open_container(path) as container:
        return _index(container)


def revision_document(container: Container, number: int, largest: int) -> bytes:
    """The document of a revision. Raises `FileError` where there is none of that number."""
    found = next((r for r in _index(container) if r.number == number), None)
    if found is None:
        raise FileError(f"{shown(container.path)} has no revision {number}.")
    return container.read(found.entry, largest)


def kept_in(path: Path, largest: int) -> list[Kept]:
    """All revisions of a file with their documents, to be kept in the next; none where they cannot be read."""
    if not path.is_file():
        return []
    try:
        with open_container(path) as container:
            return [Kept(r, container.read(r.entry, largest)) for r in _index(container)]
    except FileError:
        # a file that is damaged is replaced by one that is not
        return []


def with_revision(kept: Sequence[Kept], document: bytes, comment: str) -> list[Kept]:
    """The revisions with one more where the plan differs from the last; where only a comment is new, the last
    takes it. The oldest go where they would be too many or too large."""
    digest, comment = hashlib.sha256(document).hexdigest(), plain(comment.strip(), LONGEST_COMMENT)
    last = kept[-1] if kept else None
    if last is not None and last.revision.digest == digest:
        if not comment:
            return list(kept)
        return [*kept[:-1], Kept(last.revision.model_copy(update={"comment": comment}), last.document)]
    number = 1 if last is None else last.revision.number + 1
    made = Revision(number=number, saved=time.time(), author=author(), comment=comment, digest=digest)
    found = [*kept, Kept(made, document)][-MOST:]
    while len(found) > 1 and sum(len(one.document) for one in found) > MOST_BYTES:
        found.pop(0)
    return found


def write_revisions(kept: Sequence[Kept], archive: zipfile.ZipFile) -> None:
    """Write them into a file."""
    index = json.dumps([one.revision.model_dump() for one in kept], indent=1, ensure_ascii=False)
    archive.writestr(INDEX, index, compress_type=zipfile.ZIP_DEFLATED)
    for one in kept:
        archive.writestr(one.revision.entry, one.document, compress_type=zipfile.ZIP_DEFLATED)


def _index(container: Container) -> tuple[Revision, ...]:
    if not container.has(INDEX):
        return ()
    try:
        found = _INDEX.validate_json(container.read(INDEX, LARGEST_INDEX))
    except ValidationError:
        raise FileError(f"{shown(container.path)} has a damaged list of revisions.") from None
    return tuple(sorted((r for r in found if container.has(r.entry)), key=lambda r: r.number))


def author() -> str:
    """Name of who works here: from the settings, else of the system's user, cut short; '' where it has none."""
    if own := load_settings().author:
        return plain(own, 120)
    try:
        return plain(getpass.getuser(), 120)
    except (OSError, KeyError, ImportError):
        # a system without a name for its user
        return ""
