"""A cluster of two workers on this machine, which listens on the loopback alone."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from distributed import LocalCluster


def local_cluster() -> LocalCluster:
    """It says nothing, and is closed by `with`."""
    from distributed import LocalCluster

    return LocalCluster(
        n_workers=2, threads_per_worker=1, host="127.0.0.1", dashboard_address="127.0.0.1:0", silence_logs=50
    )
