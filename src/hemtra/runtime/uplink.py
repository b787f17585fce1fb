"""Parts of a line forwarded to a server of records: from a file on this computer, in order, each once.

The line writes to the file, so that a part is on record however the server does; what waits is forwarded as
soon as the server answers.
"""

from __future__ import annotations

import hashlib
import math
import threading
import time
from collections.abc import Callable
from pathlib import Path

from hemtra.core.errors import FileError
from hemtra.core.events import Event
from hemtra.storage.files import read_text, write_text
from hemtra.storage.records import Records
from hemtra.storage.records.merging import count_after, forwarded, last_key
from hemtra.storage.records.opening import RecordsError, masked

EVERY = 1.0
"""Interval between searches for parts to forward, s."""
SETTLE = 2.0
"""Age at which a part is forwarded, s: by then its signal was given and its scan kept."""
AT_THE_END = 20.0
"""Time limit of forwarding when a line ends, s."""
SENT = ".forwarded"
"""Ends the name of the file beside the spool that says up to which part it was forwarded."""


def is_server(db: str) -> bool:
    """Whether an address of records names a server, which may be away."""
    return "://" in db and not db.startswith("sqlite")


def spool_of(folder: Path, db: str, line: str) -> Path:
    """The file in which a line keeps its parts for a server."""
    digest = hashlib.blake2b(f"{masked(db)} {line}".encode(), digest_size=6).hexdigest()
    return folder / "spool" / f"{digest}.db"


class Uplink:
    """Forwards from a thread of its own. heard: gets events, that the server is away and that it is back."""

    def __init__(self, spool: Path, db: str, heard: Callable[[Event], None]) -> None:
        self._spool, self._db, self._heard = spool, db, heard
        self._sent_file = spool.with_name(spool.name + SENT)
        self._after = _read(self._sent_file)
        self._away_since: int | None = None
        """Key of the last part that was forwarded before the server went away."""
        self._target: Records | None = None
        self._source: Records | None = None
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="uplink", daemon=True)

    @property
    def target(self) -> Records | None:
        """The server's records; None while it is away."""
        return self._target

    @property
    def waiting(self) -> int:
        """Parts that were not forwarded yet."""
        return count_after(self._open_source(), self._after)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def finish(self) -> None:
        """Forward the rest, if the server is there; from then on only when asked."""
        self._stopping.set()
        self._thread.join()
        self.once(settle=0.0, end=time.monotonic() + AT_THE_END)

    def close(self) -> None:
        """Close the server and the spool."""
        for records in (self._target, self._source):
            if records is not None:
                records.close()

    def once(self, settle: float = SETTLE, end: float = math.inf) -> bool:
        """Forward what there is now, until a time of `time.monotonic`; False where the server is away."""
        try:
            if self._target is None:
                self._target = Records(self._db)
                self._target.patience.seconds = 0.0  # it is asked again soon
            while time.monotonic() < end:
                with self._open_source().reading() as source:
                    last, merged = forwarded(self._target, source, self._after, time.time() - settle)
                if last == self._after:
                    break
                self._after = last
                write_text(self._sent_file, f"{last}\n")
                if merged.clashing:
                    self._heard(Event("not forwarded", time.time(), fields={"count": merged.clashing}))
        except (RecordsError, FileError) as error:
            self._went_away(str(error))
            return False
        if self._away_since is not None:
            count, self._away_since = self._after - self._away_since, None
            self._heard(Event("server back", time.time(), fields={"count": count}))
        return True

    def _went_away(self, why: str) -> None:
        if self._target is not None:
            self._target.close()
            self._target = None
        if self._away_since is None:
            self._away_since = self._after
            self._heard(Event("server away", time.time(), fields={"why": why}))

    def _open_source(self) -> Records:
        if self._source is None:
            self._source = Records(str(self._spool), create=False)
            if self._after > last_key(self._source):
                self._after = 0  # noted of a spool that is gone; nothing is doubled
        return self._source

    def _run(self) -> None:
        while not self._stopping.wait(EVERY):
            self.once()


def _read(path: Path) -> int:
    """Number of the last part forwarded from a spool; 0 where unknown: nothing is doubled."""
    try:
        return max(0, int(read_text(path, 64)))
    except (FileError, ValueError):
        return 0
