"""Where tasks are done: in this process, in processes of this machine, or on a cluster that is there already.
Operations know nothing of it."""

from __future__ import annotations

import time
from collections.abc import Collection
from concurrent.futures import Future
from contextlib import suppress
from typing import Any

from ...core.errors import Cancelled, Trouble
from ...core.progress import Progress
from .parcel import Parcel, done_afar
from .place import Lost, Place

TRIES = 3
"""Pools that are begun for a task before that is given up."""
GRACE = 2.0
"""Seconds that a pool is given to see that one of its processes has ended."""


class Here:
    """This process: a task is done when it is sent."""

    width, words = 1, "here"

    def __init__(self, progress: Progress | None = None):
        self.progress = progress

    def send(self, parcel: Parcel) -> Future:
        future: Future = Future()
        try:
            part = None if self.progress is None else self.progress.part(self.progress.fraction, self.progress.fraction)
            future.set_result(done_afar(parcel, part))
        except Cancelled:
            raise
        except Exception as error:
            future.set_exception(error)
        return future

    def wait(self, futures: Collection[Future], seconds: float) -> set[Future]:
        return set(futures)

    def outcome(self, future: Future) -> Any:
        return future.result()

    def close(self, at_once: bool) -> None:
        return


class Processes:
    """Processes of this machine, which end with this one. When one is killed, its pool is: all its tasks are lost and
    can be sent again, to another pool."""

    def __init__(self, count: int):
        self.width, self.words = count, f"here, {count} at a time"
        self._pool: Any = None
        self._pools: dict[Future, Any] = {}
        self._dead_since: float | None = None

    def send(self, parcel: Parcel) -> Future:
        from concurrent.futures.process import BrokenProcessPool

        from ...core.workers import worker_pool

        for _ in range(TRIES):
            if self._pool is None:
                self._pool = worker_pool(self.width)
            try:
                future = self._pool.submit(done_afar, parcel)
            except (BrokenProcessPool, OSError, RuntimeError, ValueError):  # it ends in the midst of this
                self._leave()
                continue
            self._pools[future] = self._pool
            return future
        raise Trouble("No process can be begun on this machine", "close other programs")

    def _leave(self) -> None:
        """Go on without a pool that is broken."""
        pool, self._pool, self._dead_since = self._pool, None, None
        for process in list((pool._processes or {}).values()):
            process.kill()
        with suppress(OSError, AttributeError):
            pool._result_queue._writer.close()  # the last end that is open: who waits for the rest of a result goes on
        pool.shutdown(wait=False, cancel_futures=True)

    def wait(self, futures: Collection[Future], seconds: float) -> set[Future]:
        from concurrent.futures import FIRST_COMPLETED, wait

        lost = {f for f in futures if self._pools[f] is not self._pool}
        over = lost or wait(futures, timeout=seconds, return_when=FIRST_COMPLETED).done
        if not over and self._is_stuck():
            self._leave()
        return over

    def _is_stuck(self) -> bool:
        """Whether a process has ended and its pool does not see it: when one is killed in the midst of sending a
        result, the pool waits for the rest of that for ever."""
        if all(process.is_alive() for process in list((self._pool._processes or {}).values())):
            self._dead_since = None
            return False
        self._dead_since = self._dead_since or time.monotonic()
        return time.monotonic() - self._dead_since > GRACE

    def outcome(self, future: Future) -> Any:
        from concurrent.futures import CancelledError
        from concurrent.futures.process import BrokenProcessPool

        pool = self._pools.pop(future)
        if pool is not self._pool and not future.done():
            raise Lost
        try:
            return future.result()
        except (BrokenProcessPool, CancelledError) as error:
            if pool is self._pool:
                self._leave()
            raise Lost from error

    def close(self, at_once: bool) -> None:
        if self._pool is None:
            return
        if at_once:
            for process in list((self._pool._processes or {}).values()):  # a kernel in another process knows no cancel
                process.kill()
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._pool = None


def place_for(workers: int, cluster: str = "", folder: Any = None, progress: Progress | None = None) -> Place:
    """Where a run is done.

    Parameters
    ----------
    workers : int
        Processes; none where 0.
    cluster : text
        Address of a scheduler, as in tcp://127.0.0.1:8786; counts before `workers`.
    folder : path
        That of the study, which every worker of the cluster has to see.

    Raises
    ------
    Trouble
        When the cluster does not answer, does not see the folder, or has another version of the program.
    """
    if cluster:
        from .cluster import Cluster

        return Cluster(cluster, folder)
    return Processes(workers) if workers > 0 else Here(progress)
