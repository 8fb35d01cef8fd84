"""A known length between two places, measured in pixels: its ends are brought to edges."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ...core.errors import Trouble
from .edge import BY_HAND, REACH, UNSURE, Edge, edges_near
from .plane import PixelPlane

Ends = Literal["same side", "opposite sides", "as drawn"]
BANDS = (5.0, 15.0)
"""Pixels beside the line that are looked at: the wider, the better the direction of an edge is told."""
SHORTEST = 3.0
"""Pixels that a line is long at least."""
ASKEW = np.deg2rad(15)
"""By how much marks may be turned to one another to be taken as parallel; and off the line, beyond which it is said."""
TURNED = np.deg2rad(1)


@dataclass(frozen=True)
class Reading:
    """A length in pixels.

    Parameters
    ----------
    start, end : array (2,)
        Where its ends came to lie, columns and rows.
    span : array (2,)
        Columns and rows from one to the other, square to the edges where these are parallel.
    sure : pixels
        Standard uncertainty of its length.
    moved : two numbers
        By how much the ends were moved along the line, pixels; NaN where no edge was found.
    notes : tuple of str
        What is to be said of it.
    """

    start: np.ndarray
    end: np.ndarray
    span: np.ndarray
    sure: float
    moved: tuple[float, float]
    notes: tuple[str, ...] = ()

    @property
    def snapped(self) -> bool:
        """Whether both ends lie on edges."""
        return bool(np.isfinite(self.moved).all())

    @property
    def length(self) -> float:
        """Pixels."""
        return float(np.hypot(*self.span))


def read_line(plane: PixelPlane, start, end, ends: Ends = "same side", reach: float = REACH) -> Reading:
    """Measure between two places.

    Parameters
    ----------
    start, end : (2,)
        Columns and rows where the line was drawn.
    ends : text
        "same side": both on edges of the same direction, as the left sides of two marks are; "opposite sides": on edges
        of opposite direction, as both sides of an object are; "as drawn".
    reach : pixels
        How far an end may be moved along the line.

    Raises
    ------
    Trouble
        When the line has no length.
    """
    start, end = np.asarray(start, float), np.asarray(end, float)
    length = float(np.hypot(*(end - start)))
    if length < SHORTEST:
        raise Trouble("This line has no length", f"draw it over the known length, {SHORTEST:g} pixels long at least")
    by_hand = Reading(start, end, end - start, np.sqrt(2) * BY_HAND, (np.nan, np.nan))
    if ends == "as drawn":
        return by_hand
    way, reach = (end - start) / length, min(reach, 0.45 * length)
    band = float(np.clip(length / 20, *BANDS))
    near = [edges_near(plane, place, way, reach, band) for place in (start, end)]
    same = ends == "same side"
    pairs = [(a, b) for a in near[0] for b in near[1] if (a.rises == b.rises) == same]
    if not same:  # sides of their own, each of which has to be sure
        pairs = [(a, b) for a, b in pairs if max(a.sure, b.sure) <= UNSURE]
    if not pairs:
        return _halfway(by_hand, near, way, ends)
    one, other = min(pairs, key=lambda pair: abs(pair[0].moved) + abs(pair[1].moved))
    notes = []
    for word, edge, edges in (("first", one, near[0]), ("second", other, near[1])):
        if abs(edges[0].moved) < abs(edge.moved) - 1:
            what = "the other side of its mark" if ends == "same side" else "another edge"
            notes.append(f"the {word} end sat on {what} and was moved by {abs(edge.moved):.1f} pixels")
    return _between(one, other, way, ends == "same side", notes)


def _between(one: Edge, other: Edge, way: np.ndarray, same: bool, notes: list[str]) -> Reading:
    """Square to two edges that are parallel, else straight from one to the other. The `same` sides of two bars are as
    far apart as their middles are, which are surer where blur is as wide as they are."""
    span, sure = other.place - one.place, float(np.hypot(one.sure, other.sure))
    if same and math.isfinite(one.middle) and math.isfinite(other.middle):
        span = span + way * (other.middle - one.middle)
        sure = math.hypot(one.sure_middle, other.sure_middle)
    turned = float(np.arccos(np.clip(one.normal @ other.normal, -1, 1)))
    if turned < max(ASKEW / 5, 4 * np.hypot(one.sure_turn, other.sure_turn)):
        weights = 1 / np.maximum([one.sure_turn, other.sure_turn], 1e-4) ** 2
        normal = weights[0] * one.normal + weights[1] * other.normal
        normal /= np.linalg.norm(normal)
        askew = float(np.arccos(np.clip(normal @ way, -1, 1)))
        of_turn = float(np.hypot(*span)) * np.sin(askew) / np.sqrt(weights.sum())
        sure = float(np.hypot(sure * np.cos(askew), of_turn))
        span = normal * float(span @ normal)
        if askew > TURNED:
            notes.append(f"the line ran {np.degrees(askew):.1f}° off square to the edges; it is taken square to them")
    return Reading(one.place, other.place, span, sure, (one.moved, other.moved), tuple(notes))


def _halfway(drawn: Reading, near: list[list[Edge]], way: np.ndarray, ends: Ends) -> Reading:
    """Where no pair of edges is found: as drawn, and said."""
    bare = [word for word, edges in zip(("first", "second"), near) if not edges]
    if bare:
        said = f"no clear edge near the {' and the '.join(bare)} end: taken as drawn"
    else:
        said = f"no edges on {'the same side' if ends == 'same side' else 'opposite sides'} near both ends: as drawn"
    return Reading(drawn.start, drawn.end, drawn.span, drawn.sure, drawn.moved, (said,))
