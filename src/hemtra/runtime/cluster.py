"""A crew on a cluster of Dask workers, on other computers or started here."""

from __future__ import annotations

import gc
import logging
import os
import pickle
import time
import traceback
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import CancelledError
from contextlib import suppress
from typing import Any, TypeVar

from hemtra import __version__
from hemtra.core.errors import HemtraError
from hemtra.runtime.crews import AHEAD, TRIES, Lost
from hemtra.runtime.kept_memory import keep_memory

T = TypeVar("T")
R = TypeVar("R")
LOCAL = "local"
"""Stands for a cluster that is started on this computer."""
LOOK = 0.5
"""Interval between checks of what is done, s; a stop is noticed within it."""
CONNECT = 10.0
"""Time limit for reaching a scheduler, s."""
PATIENCE = 120.0
"""Time that a scheduler, or all of its workers, may be away before the work is given up, s."""
log = logging.getLogger(__name__)


class ClusterCrew:
    """Workers of a Dask cluster, which is joined for as long as there is work.

    What a dead worker had is done again by another one; results are fetched as soon as they are there, so that
    none dies with its worker. Where the scheduler is restarted, what is missing is handed to it again.
    """

    def __init__(self, address: str, jobs: int = 2) -> None:
        """address: of the scheduler, or “local” for a cluster of `jobs` workers on this computer.

        Raises `HemtraError` where it cannot be an address, or the library is missing.
        """
        if address != LOCAL and "://" not in address:
            raise HemtraError(
                f"“{address}” is not the address of a cluster; write tcp://scheduler:8786 or local."
            )
        self._distributed, self._address, self._jobs = _library(), address, jobs
        self._local: Any = None
        self._client: Any = None
        self._size, self._counted = 0, -LOOK

    @property
    def size(self) -> int:
        """Number of workers, as it was at most `LOOK` s ago: each time it asks the scheduler."""
        if time.monotonic() >= self._counted + LOOK:
            self._size = 0
            with suppress(Exception):
                self._size = len(self._client.scheduler_info(n_workers=-1)["workers"])
            self._counted = time.monotonic()
        return self._size

    def map(self, work: Callable[[T], R], items: Sequence[T]) -> Generator[R | Lost, None, None]:
        """See `Crew`. Raises `HemtraError` where the cluster cannot be used."""
        found: dict[int, Any] = {}
        flying: dict[Any, int] = {}
        tries = [0] * len(items)
        begun = given = 0
        held: Any = None
        seen = time.monotonic()
        try:
            self._client = self._joined()
            while given < len(items):
                if given in found:
                    yield _whole(found.pop(given))
                    given += 1
                    continue
                try:
                    if held is None:
                        held = self._handed_out(work)
                        again = sorted(k for k in range(given, begun) if k not in found)
                        flying = {self._submitted(held, items[k]): k for k in again}
                    while begun < len(items) and begun - given <= (AHEAD + 1) * max(self.size, 1):
                        flying[self._submitted(held, items[begun])] = begun
                        begun += 1
                    for future in self._ended(flying):
                        k = flying.pop(future)
                        one = self._result(future)
                        if one is not None:
                            found[k] = one
                            continue
                        tries[k] += 1
                        if tries[k] >= TRIES:
                            found[k] = Lost(f"Workers died on it {TRIES} times; see their logs for the cause.")
                        else:
                            flying[self._submitted(held, items[k])] = k
                    if self.size:
                        seen = time.monotonic()
                    elif time.monotonic() - seen > PATIENCE:
                        raise HemtraError(f"The cluster at {_shown(self._address)} has no workers any more.")
                except (OSError, CancelledError, self._distributed.client.FuturesCancelledError) as error:
                    log.warning("cluster at %s: %s", _shown(self._address), error)
                    held, flying = None, {}
                    self._client = self._joined_again()
        finally:
            with suppress(Exception):
                self._client.cancel(list(flying))
            self._leave()

    def _leave(self) -> None:
        """Leave the cluster, and end it where it was started here."""
        for held in (self._client, self._local):
            if held is not None:
                with suppress(Exception):
                    held.close(timeout=2.0)
        self._client = self._local = None

    def _joined(self) -> Any:
        if self._address == LOCAL:
            self._local = self._started_here()
        return self._connected(CONNECT)

    def _started_here(self) -> Any:
        import dask

        environment = {
            "OMP_NUM_THREADS": "1",
            "OPENBLAS_NUM_THREADS": "1",
            "MKL_NUM_THREADS": "1",
        }
        dask.config.set({"distributed.nanny.pre-spawn-environ": environment})
        _let_go()
        return self._distributed.LocalCluster(
            n_workers=max(1, self._jobs),
            threads_per_worker=1,
            host="127.0.0.1",
            dashboard_address=None,
            # without the pages it still has a port for questions, which must be any that is free
            scheduler_kwargs={"dashboard_address": ":0"},
            silence_logs=logging.ERROR,
        )

    def _connected(self, limit: float) -> Any:
        where = self._local if self._local is not None else self._address
        _let_go()
        try:
            client = self._distributed.Client(where, timeout=limit, set_as_default=False)
        except (OSError, ValueError) as error:
            cause = str(error).partition("\n")[0].rstrip(".").replace(_inside(self._address), "…")
            raise HemtraError(f"The cluster at {_shown(self._address)} does not answer: {cause}.") from None
        try:
            self._check_versions(client)
        except BaseException:
            client.close(timeout=1.0)
            raise
        return client

    def _check_versions(self, client: Any) -> None:
        """Raise `HemtraError` where there is no worker, or one runs another version."""
        try:
            client.wait_for_workers(1, timeout=CONNECT)
            found = client.run(_version)
        except TimeoutError:
            raise HemtraError(f"The cluster at {_shown(self._address)} has no workers.") from None
        except ModuleNotFoundError as error:
            raise HemtraError(f"A worker of the cluster has no Hemtra: {error}.") from None
        for worker, version in sorted(found.items()):
            if version != __version__:
                raise HemtraError(_other_version(worker, version, __version__))

    def _joined_again(self) -> Any:
        """The cluster again, after it went away."""
        with suppress(Exception):
            self._client.close(timeout=1.0)
        until = time.monotonic() + PATIENCE
        while True:
            try:
                return self._connected(max(1.0, min(CONNECT, until - time.monotonic())))
            except HemtraError:
                if time.monotonic() >= until or self._local is not None:
                    raise
                time.sleep(LOOK)

    def _handed_out(self, work: Callable[[T], R]) -> Any:
        """The work as a task of its own: each worker gets it once, and it is made again where these died."""
        return self._client.submit(_unpacked, pickle.dumps(work), pure=False)

    def _submitted(self, held: Any, item: T) -> Any:
        return self._client.submit(_done, held, __version__, item, pure=False, retries=0)

    def _ended(self, flying: dict[Any, int]) -> list[Any]:
        """Those that ended, waited for a moment."""
        if flying:
            with suppress(TimeoutError), self._client.as_current():
                self._distributed.wait(list(flying), timeout=LOOK, return_when="FIRST_COMPLETED")
        return [future for future in flying if future.done()]

    def _result(self, future: Any) -> Any:
        """What came out, or what was raised; None where its worker died."""
        try:
            return future.result(timeout=CONNECT)
        except self._distributed.KilledWorker:
            return None


def _let_go() -> None:
    """Let clients that nobody holds any more close themselves now.

    The library starts its loop under a lock that a closing client takes as well: one that is collected at that
    moment would wait for it forever.
    """
    gc.collect()


def _unpacked(packed: bytes) -> Any:
    """On a worker: what it is to do."""
    return pickle.loads(packed)


class _Raised:
    """What work raised on a worker, with the place."""

    def __init__(self, error: Exception) -> None:
        self.error, self.trace = error, "".join(traceback.format_exception(error))


class _Result:
    """What work returned, which may be nothing."""

    def __init__(self, value: Any) -> None:
        self.value = value


def _whole(found: Any) -> Any:
    """What the work returned, or that it was lost. Raises what the work raised."""
    if isinstance(found, _Raised):
        log.error("a worker failed:\n%s", found.trace)
        raise found.error
    return found if isinstance(found, Lost) else found.value


def _done(work: Callable[[Any], Any], version: str, item: Any) -> Any:
    """On a worker: the work on one item."""
    keep_memory()
    if version != __version__:
        return _Raised(HemtraError(_other_version(f"on {os.uname().nodename}", __version__, version)))
    try:
        return _Result(work(item))
    except Exception as error:
        return _Raised(error)


def _version() -> str:
    """On a worker: its version."""
    return __version__


def _other_version(worker: str, version: str, ours: str) -> str:
    return f"The worker {worker} runs Hemtra {version}, this is {ours}; install the same version on both."


def _inside(address: str) -> str:
    """An address without its scheme, as the library names it in errors."""
    return address.rpartition("://")[2]


def _shown(address: str) -> str:
    """An address without what may be secret in it."""
    scheme, mark, rest = address.rpartition("://")
    return f"{scheme}{mark}{rest.rpartition('@')[2].partition('?')[0]}"


def _library() -> Any:
    try:
        import distributed
    except ImportError:
        raise HemtraError(
            "Work on a cluster needs the package distributed: pip install 'hemtra[cluster]'."
        ) from None
    # a scheduler that goes away is dealt with here; the library prints a traceback for it
    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    for name in ("client", "core", "batched", "utils"):
        logging.getLogger(f"distributed.{name}").setLevel(logging.CRITICAL)
    return distributed
