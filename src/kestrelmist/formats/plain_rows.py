"""Pixels that lie in a file as they are, one after another: any part of them is read without the rest."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

SPARSE = 4
"""Where less than one in so many columns is wanted, rows are read one by one, only as far as they are wanted."""


@dataclass(frozen=True)
class PlainRows:
    """An array in a file.

    Parameters
    ----------
    offset : bytes
        Where the first value lies.
    dtype : numpy type
        With its byte order.
    shape : tuple of int
        Outer axes first; values of the last one lie side by side.
    rows : int
        The axis of the rows; those behind it make up one row.
    """

    path: Path
    offset: int
    dtype: np.dtype
    shape: tuple[int, ...]
    rows: int

    def __getitem__(self, selection: tuple) -> np.ndarray:
        """The part that ints and slices pick, in the byte order of the machine; raises EOFError when the file ends
        before it."""
        picked = (*selection, *(slice(None),) * (len(self.shape) - len(selection)))
        outer, row, inner = picked[: self.rows], picked[self.rows], picked[self.rows + 1 :]
        planes = [range(n)[p] if isinstance(p, slice) else (range(n)[p],) for n, p in zip(self.shape, outer)]
        found = []
        with self.path.open("rb", buffering=0) as file:
            for plane in itertools.product(*planes):
                found.append(self._of_plane(file, plane, row, inner))
        sizes = [len(range(n)[p]) for n, p in zip(self.shape, outer) if isinstance(p, slice)]
        whole = np.stack(found).reshape((*sizes, *np.shape(found[0]))) if found else np.empty((*sizes, 0))
        return whole.astype(self.dtype.newbyteorder("="), copy=False)

    def _of_plane(self, file, plane: tuple[int, ...], row, inner: tuple) -> np.ndarray:
        number = 0
        for n, at in zip(self.shape, plane):
            number = number * n + at
        count, row_shape = self.shape[self.rows], self.shape[self.rows + 1 :]
        rows = range(count)[row] if isinstance(row, slice) else range(count)[row : row + 1]
        first = number * count
        columns = inner[0] if inner else slice(None)
        if rows.step == 1 and not self._is_sparse(columns):
            values = self._read(file, first + rows.start, 0, (len(rows), *row_shape))
            kept = values[(slice(None), *inner)]
        else:
            reach = range(row_shape[0])[columns] if isinstance(columns, slice) else range(columns, columns + 1)
            low, high = (min(reach), max(reach) + 1) if len(reach) else (0, 0)
            step = slice(None, None, reach.step) if isinstance(columns, slice) else 0
            parts = [self._read(file, first + n, low, (high - low, *row_shape[1:])) for n in rows]
            shape = (len(rows), high - low, *row_shape[1:])
            kept = (np.stack(parts) if parts else np.empty(shape, self.dtype))[(slice(None), step, *inner[1:])]
        return kept if isinstance(row, slice) else kept[0]

    def _is_sparse(self, columns) -> bool:
        wide = self.shape[self.rows + 1]
        return SPARSE * (len(range(wide)[columns]) if isinstance(columns, slice) else 1) < wide

    def _read(self, file, row: int, column: int, shape: tuple[int, ...]) -> np.ndarray:
        """Values from a column of a row on."""
        across, beside = math.prod(self.shape[self.rows + 1 :]), math.prod(self.shape[self.rows + 2 :])
        values = np.empty(shape, self.dtype)
        file.seek(self.offset + (row * across + column * beside) * self.dtype.itemsize)
        flat: Any = values.reshape(-1).view(np.uint8)
        into = memoryview(flat) if values.size else memoryview(b"")
        while len(into):
            got = file.readinto(into)
            if not got:
                raise EOFError("the file ends before its pixels")
            into = into[got:]
        return values
