"""Closed lines mended: a stretch that is drawn anew takes the place of the old one; points come and go."""

from __future__ import annotations

import numpy as np


def healed(outline: np.ndarray, stroke: np.ndarray) -> np.ndarray:
    """A closed line with a stretch of it drawn anew.

    The stroke's ends are joined to the nearest places of the line; of the two ways between these, the one that lies
    nearer to the stroke goes.

    Parameters
    ----------
    outline : array (n, 3)
        Corners of the closed line.
    stroke : array (m, 3)
        What was drawn, from one place on the line to another.

    Returns
    -------
    array (k, 3)
    """
    first, a = _nearest(outline, stroke[0])
    last, b = _nearest(outline, stroke[-1])
    if first == last:  # both ends lie on one side, which runs from its corner to the next
        ahead = np.linalg.norm(outline[first] - a) <= np.linalg.norm(outline[first] - b)
        around = np.roll(outline, -(first + 1), 0)
        return np.vstack((a[None], stroke[1:-1], b[None], around if ahead else around[::-1]))
    forward = _between(outline, first, last)
    back = _between(outline, last, first)
    drawn = np.vstack((a[None], stroke[1:-1], b[None]))
    replaced_forward = _away(np.vstack((a[None], forward, b[None])), drawn)
    replaced_back = _away(np.vstack((b[None], back, a[None])), drawn)
    if replaced_forward <= replaced_back:
        return np.vstack((drawn, back))
    return np.vstack((drawn, forward[::-1]))


def on_line(outline: np.ndarray, place: np.ndarray, near: float) -> bool:
    """Whether a place lies on a closed line, to a distance."""
    _, at = _nearest(outline, place)
    return bool(np.linalg.norm(at - place) <= near)


def with_point(outline: np.ndarray, place: np.ndarray) -> np.ndarray:
    """A closed line with one more corner, on its nearest side."""
    side, _ = _nearest(outline, place)
    return np.insert(outline, side + 1, place, axis=0)


def without_point(outline: np.ndarray, number: int) -> np.ndarray:
    """A closed line without a corner; a triangle stays as it is."""
    return np.delete(outline, number, axis=0) if len(outline) > 3 else outline


def _nearest(outline: np.ndarray, place: np.ndarray) -> tuple[int, np.ndarray]:
    """The side (from its corner on) that a place lies nearest to, and where on it."""
    ways = np.roll(outline, -1, 0) - outline
    lengths = (ways**2).sum(1)
    share = np.clip(((place - outline) * ways).sum(1) / np.where(lengths > 0, lengths, 1), 0, 1)
    at = outline + share[:, None] * ways
    side = int(np.linalg.norm(at - place, axis=1).argmin())
    return side, at[side]


def _between(outline: np.ndarray, first: int, last: int) -> np.ndarray:
    """Corners from behind one side to another one, forwards."""
    count = (last - first) % len(outline)
    return outline[(first + 1 + np.arange(count)) % len(outline)]


def _away(line: np.ndarray, drawn: np.ndarray) -> float:
    """How far a line lies from another one, on the mean, both ways."""
    from scipy.spatial import cKDTree

    one, other = _dense(line), _dense(drawn)
    return float(cKDTree(other).query(one)[0].mean() + cKDTree(one).query(other)[0].mean())


def _dense(line: np.ndarray) -> np.ndarray:
    """Points along a line, about a hundred of them."""
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    along = np.concatenate(([0.0], np.cumsum(steps)))
    if not along[-1] > 0:
        return line[:1]
    wanted = np.linspace(0, along[-1], 100)
    return np.stack([np.interp(wanted, along, line[:, n]) for n in range(line.shape[1])], 1)
