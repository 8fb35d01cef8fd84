"""Sums that do not depend on how many cores there are."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def blas_in_one_thread() -> Iterator[None]:
    """Have products of matrices added up in one order, whatever machine it is: with more threads the last digits
    differ. Where one machine repeats what another has done, the results are the same bit by bit."""
    from threadpoolctl import threadpool_limits  # a start of the program without it is quicker

    with threadpool_limits(1, "blas"):
        yield
