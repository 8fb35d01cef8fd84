"""Triangles where a field changes its sign: marching cubes (W. Lorensen, H. Cline, SIGGRAPH 1987).

Each cell of eight values is one of 256 cases. The loops of a case are followed from face to face, and a face with two
corners inside that lie across from each other is cut into two in both cells that share it: so surfaces have no holes.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from ..halves import in_halves
from ..kernel import kernel

MOST = 5
"""Triangles of a cell at most."""
NEAREST = 0.02
"""How near to a value a corner may come, as a share of a cell's side: no triangle vanishes."""

CORNERS = tuple((n & 1, n >> 1 & 1, n >> 2 & 1) for n in range(8))
"""(i, j, k) of each corner of a cell."""
EDGES = ((0, 1), (2, 3), (4, 5), (6, 7), (0, 2), (1, 3), (4, 6), (5, 7), (0, 4), (1, 5), (2, 6), (3, 7))
"""Corners of each edge: four along i, four along j, four along k."""
FACES = ((0, 4, 6, 2), (1, 3, 7, 5), (0, 1, 5, 4), (2, 6, 7, 3), (0, 2, 3, 1), (4, 5, 7, 6))
"""Corners of each face, anticlockwise as seen from outside."""


@lru_cache(1)
def cases() -> np.ndarray:
    """Edges of the triangles of each case, −1 behind the last: int8 (256, 3 MOST + 1). Seen from where values are
    below zero they run anticlockwise."""
    edge_of = {frozenset(ends): n for n, ends in enumerate(EDGES)}
    table = np.full((256, 3 * MOST + 1), -1, np.int8)
    for case in range(256):
        after: dict[int, int] = {}
        for face in FACES:
            inside = [bool(case >> corner & 1) for corner in face]
            for n in range(4):
                if inside[n] and not inside[n - 1]:  # a run of corners inside begins: a line from its end to its start
                    last = n
                    while inside[(last + 1) % 4]:
                        last += 1
                    start = edge_of[frozenset((face[n - 1], face[n]))]
                    end = edge_of[frozenset((face[last % 4], face[(last + 1) % 4]))]
                    after[start] = end
        row: list[int] = []
        while after:
            at, loop = min(after), []
            while at in after:
                loop.append(at)
                at = after.pop(at)
            row += _parted(loop)
        table[case, : len(row)] = row
    return table


def _parted(loop: list[int]) -> list[int]:
    """A loop of edges cut into triangles, by lines that lie in no face of the cell, where the next cell may have the
    same: else four triangles would meet in it."""
    if len(loop) == 3:
        return loop
    for tip in range(len(loop)):
        turned = loop[tip:] + loop[:tip]
        cuts = [(turned[0], other) for other in turned[2:-1]]
        if not any(_on_one_face(a, b) for a, b in cuts):
            return [edge for a, b in zip(turned[1:], turned[2:]) for edge in (turned[0], a, b)]
    for n in range(2, len(loop) - 1):
        for tip in range(len(loop)):  # no fan is right: one line, and what it leaves on both sides
            turned = loop[tip:] + loop[:tip]
            if not _on_one_face(turned[0], turned[n]):
                return [*_parted(turned[: n + 1]), *_parted([turned[0], *turned[n:]])]
    raise AssertionError(loop)


def _on_one_face(a: int, b: int) -> bool:
    return any(set(EDGES[a]) | set(EDGES[b]) <= set(face) for face in FACES)


def marched(field: np.ndarray, first: int = 0, last: int | None = None) -> tuple[np.ndarray, np.ndarray, int, int]:
    """Corners and triangles between values above zero and others.

    Parameters
    ----------
    field : float32 array [k, j, i], C-contiguous
    first, last : int
        Slices between which they are wanted.

    Returns
    -------
    corners : float32 array (n, 3)
        (i, j, k), those of a slice after one another, from the first slice on.
    triangles : int32 array (m, 3)
        Seen from where values are below zero they run anticlockwise.
    in_first, in_last : int
        How many of the corners lie in the first slice, and in the last one.
    """
    last = field.shape[0] - 1 if last is None else last
    layers = last - first
    table = cases()
    sizes = np.array([(row >= 0).sum() // 3 for row in table], np.int32)
    counts = np.zeros((layers + 1, 3), np.int64)
    size = (layers + 1) * field.shape[1] * field.shape[2]
    in_halves(layers + 1, lambda a, b: _count(field, first, a, b, layers, sizes, counts), size)
    in_slices = np.zeros(2 * layers + 2, np.int64)
    in_slices[1:] = np.cumsum(counts[:, :2].ravel())[: 2 * layers + 1]
    starts = np.ascontiguousarray(in_slices.reshape(-1, 2))
    of_triangles = np.concatenate(([0], np.cumsum(counts[:, 2])))
    corners = np.empty((int(counts[:, :2].sum()), 3), np.float32)
    triangles = np.empty((int(of_triangles[layers]), 3), np.int32)

    def fill(a: int, b: int) -> None:
        ids = np.zeros((5, field.shape[1], field.shape[2]), np.int32)
        _fill(field, first, a, b, table, starts, of_triangles, ids, corners, triangles)

    if layers:
        in_halves(layers, fill, size)
    return corners, triangles, int(counts[0, 0]), int(counts[layers, 0])


@kernel
def _count(field, first, start, end, layers, sizes, counts):
    """Corners in each slice, between it and the next, and triangles there."""
    nj, ni = field.shape[1], field.shape[2]
    for layer in range(start, end):
        k = first + layer
        flat = up = made = 0
        for j in range(nj):
            for i in range(ni - 1):
                flat += (field[k, j, i] > 0) != (field[k, j, i + 1] > 0)
            if j + 1 < nj:
                for i in range(ni):
                    flat += (field[k, j, i] > 0) != (field[k, j + 1, i] > 0)
            if layer < layers:
                for i in range(ni):
                    up += (field[k, j, i] > 0) != (field[k + 1, j, i] > 0)
                if j + 1 < nj:
                    case = _ahead(field, k, j, 0) << 1
                    for i in range(ni - 1):
                        case = (case >> 1) & 0x55 | _ahead(field, k, j, i + 1) << 1
                        made += sizes[case]
        counts[layer, 0], counts[layer, 1], counts[layer, 2] = flat, up, made


@kernel
def _ahead(field, k, j, i):
    """The bits of the four corners of a cell that have the same i."""
    found = field[k, j, i] > 0
    found |= (field[k, j + 1, i] > 0) << 2
    found |= (field[k + 1, j, i] > 0) << 4
    return found | (field[k + 1, j + 1, i] > 0) << 6


@kernel
def _share(a, b):
    return min(max(a / (a - b), NEAREST), 1 - NEAREST)


@kernel
def _flat(field, first, layer, number, ids, side, corners):
    """Number the corners in a slice, and say where they are."""
    k = first + layer
    nj, ni = field.shape[1], field.shape[2]
    for j in range(nj):
        for i in range(ni):
            value = field[k, j, i]
            if i + 1 < ni and (field[k, j, i + 1] > 0) != (value > 0):
                ids[2 * side, j, i] = number
                corners[number, 0], corners[number, 1] = i + _share(value, field[k, j, i + 1]), j
                corners[number, 2] = k
                number += 1
            if j + 1 < nj and (field[k, j + 1, i] > 0) != (value > 0):
                ids[2 * side + 1, j, i] = number
                corners[number, 0], corners[number, 1] = i, j + _share(value, field[k, j + 1, i])
                corners[number, 2] = k
                number += 1


@kernel
def _fill(field, first, start, end, table, starts, of_triangles, ids, corners, triangles):
    nj, ni = field.shape[1], field.shape[2]
    _flat(field, first, start, starts[start, 0], ids, start & 1, corners)
    for layer in range(start, end):
        k, side = first + layer, layer & 1
        _flat(field, first, layer + 1, starts[layer + 1, 0], ids, 1 - side, corners)
        number = starts[layer, 1]
        for j in range(nj):
            for i in range(ni):
                value, above = field[k, j, i], field[k + 1, j, i]
                if (above > 0) != (value > 0):
                    ids[4, j, i] = number
                    corners[number, 0], corners[number, 1], corners[number, 2] = i, j, k + _share(value, above)
                    number += 1
        at = of_triangles[layer]
        for j in range(nj - 1):
            case = _ahead(field, k, j, 0) << 1
            for i in range(ni - 1):
                case = (case >> 1) & 0x55 | _ahead(field, k, j, i + 1) << 1
                if case == 0 or case == 255:
                    continue
                n = 0
                while table[case, n] >= 0:
                    edge = table[case, n]
                    one, two = edge & 1, edge >> 1 & 1
                    if edge < 4:  # along i: j from the first bit, k from the second
                        found = ids[2 * (side if two == 0 else 1 - side), j + one, i]
                    elif edge < 8:  # along j: i, k
                        found = ids[2 * (side if two == 0 else 1 - side) + 1, j, i + one]
                    else:  # along k: i, j
                        found = ids[4, j + two, i + one]
                    triangles[at, n % 3] = found
                    n += 1
                    if n % 3 == 0:
                        at += 1
