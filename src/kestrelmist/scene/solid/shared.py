"""Large arrays in memory that another process may look into, so that handing one over copies nothing and nobody waits.

The memory has no name and ends with those who hold it, however they end.
"""

from __future__ import annotations

import mmap
import os
from typing import Any

import numpy as np

LEAST = 1 << 22
"""Bytes below which an array is simply sent."""


class SharedArray:
    """An array in memory of its own: `array` is it; what is sent of it is only where it lies."""

    def __init__(self, shape: tuple[int, ...], dtype: Any):
        size = int(np.prod(shape)) * np.dtype(dtype).itemsize
        self.descriptor = -1
        if size >= LEAST and hasattr(os, "memfd_create"):
            self.descriptor = os.memfd_create("kestrelmist")
            os.ftruncate(self.descriptor, size)
            pages = mmap.mmap(self.descriptor, size)
            self.array: np.ndarray = np.frombuffer(pages, dtype).reshape(shape)
        else:
            self.array = np.empty(shape, dtype)

    def __reduce__(self) -> tuple:
        if self.descriptor < 0:
            return _sent, (self.array,)
        place = f"/proc/{os.getpid()}/fd/{self.descriptor}"
        return _looked_into, (place, self.array.shape, self.array.dtype.str)

    def __del__(self):
        if self.descriptor >= 0:
            os.close(self.descriptor)


def _sent(array: np.ndarray) -> SharedArray:
    found = SharedArray.__new__(SharedArray)
    found.descriptor, found.array = -1, array
    return found


def _looked_into(place: str, shape: tuple[int, ...], dtype: str) -> SharedArray:
    with open(place, "rb") as stream:
        pages = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)
    return _sent(np.frombuffer(pages, dtype).reshape(shape))
