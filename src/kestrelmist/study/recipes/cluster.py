"""A Dask cluster that is there already: parcels go to its workers, which see the study's folder and open no
catalogue."""

from __future__ import annotations

import logging
import time
from collections.abc import Collection
from concurrent.futures import Future
from pathlib import Path
from typing import Any
from uuid import uuid4

from ... import VERSION
from ...core.errors import Trouble
from ...core.safe_write import write_trouble
from .parcel import Parcel, done_afar
from .place import Gone, Lost

ANSWERS = 10.0
"""Seconds within which a scheduler has to answer."""
TOKEN = "{}"
"""Where workers look for the file that tells that they see the folder."""


def looked(token: str) -> tuple[str, bool]:
    """On a worker: the version of the program, and whether a file of the study's folder is seen."""
    return VERSION, Path(token).is_file()


def _quiet() -> None:
    """What goes wrong is said in a sentence; each part of the library has a log of its own."""
    for name in ("distributed", *logging.root.manager.loggerDict):
        if name.partition(".")[0] in ("distributed", "tornado", "asyncio"):
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)


class Cluster:
    """Workers of a scheduler.

    Raises
    ------
    Trouble
        When nobody answers at the address, there is no worker, or one cannot do the work.
    """

    def __init__(self, address: str, folder: Path):
        from distributed import Client

        self.address = address
        _quiet()
        try:
            self.client: Any = Client(address, timeout=ANSWERS, set_as_default=False)
        except (OSError, TimeoutError, ValueError, TypeError) as error:
            what = f"No cluster answers at “{address}”"
            raise Trouble(what, "check the address, as in tcp://10.0.0.5:8786, and that its scheduler runs") from error
        try:
            count = self._looked_at(Path(folder))
        except BaseException:
            self.close(True)
            raise
        self.words = f"on {address}, {count} at a time"
        # one is there already when another is over: sending takes its time
        self.width = count + max(1, count // 2)
        self._futures: dict[Future, Any] = {}

    def _looked_at(self, folder: Path) -> int:
        """How many tasks its workers do at once; raises Trouble when one cannot do them."""
        known = self.client.scheduler_info(n_workers=-1)["workers"]
        if not known:
            raise Trouble(f"The cluster at “{self.address}” has no workers", "begin some")
        token = folder.resolve() / f".seen-{uuid4().hex}"
        sought = folder.resolve() / TOKEN.format(token.name)
        try:
            token.write_text("")
        except OSError as error:
            raise write_trouble(error, token) from error
        try:
            told = self.client.run(looked, str(sought), on_error="return")
        finally:
            token.unlink(missing_ok=True)
        for worker, answer in told.items():
            if not isinstance(answer, tuple):
                what = f"The worker {worker} cannot run this program ({type(answer).__name__})"
                raise Trouble(what, "install Kestrelmist there, in the environment of the worker")
            version, seen = answer
            if version != VERSION:
                what = f"The worker {worker} runs version {version}, and this is {VERSION}"
                raise Trouble(what, "install the same version there")
            if not seen:
                what = f"The worker {worker} cannot see the folder of the study"
                raise Trouble(what, "share the folder under the same path", folder)
        return max(1, sum(facts["nthreads"] for facts in known.values()))

    def send(self, parcel: Parcel) -> Future:
        try:
            sent = self.client.submit(done_afar, parcel, pure=False, retries=0)
        except Exception as error:
            if self.client.status != "running":
                raise self._gone() from error
            raise
        future: Future = Future()
        self._futures[future] = sent

        def over(sent: Any) -> None:
            if not future.done():
                future.set_result(None)

        sent.add_done_callback(over)
        return future

    def wait(self, futures: Collection[Future], seconds: float) -> set[Future]:
        end = time.monotonic() + seconds
        while True:
            if self.client.status not in ("running", "connecting"):
                raise self._gone()
            done = {f for f in futures if f.done() or self._futures[f].status in ("error", "lost", "cancelled")}
            if done or time.monotonic() > end:
                return done
            time.sleep(0.004)

    def outcome(self, future: Future) -> Any:
        from distributed import CancelledError
        from distributed.comm import CommClosedError
        from distributed.scheduler import KilledWorker

        sent = self._futures.pop(future)
        try:
            return sent.result(timeout=ANSWERS)
        except KilledWorker as error:
            raise Lost from error
        except (CancelledError, CommClosedError, TimeoutError) as error:
            if self.client.status != "running":
                raise self._gone() from error
            raise Lost from error
        finally:
            sent.release()

    def _gone(self) -> Trouble:
        what = f"The cluster at “{self.address}” answers no longer"
        return Gone(what, "all that came back is kept: begin it again and resume the run")

    def close(self, at_once: bool) -> None:
        try:
            if at_once and getattr(self, "_futures", None):
                self.client.cancel(list(self._futures.values()), force=True)
            self.client.close(timeout=2)
        except Exception:  # a scheduler that is gone cannot be taken leave of
            logging.getLogger(__name__).debug("the cluster was gone", exc_info=True)
